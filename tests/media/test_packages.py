"""What lies beside the takes of a package: timelines and lists of hashes, as programs that are not ours read them."""

import random
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from urllib.parse import unquote, urlparse

import numpy as np
import opentimelineio as otio
import pypdfium2
import pytest
from tests.core.test_handover import FILM, NINE, NTSC, PAL, lay, picture, sound

from vesk.core.errors import MediaError
from vesk.core.handover.angles import angles_of
from vesk.core.handover.edl import edit_lists
from vesk.core.handover.elsewhere import read_edit_list
from vesk.core.handover.read_back import unlike, unlike_list
from vesk.core.handover.timeline import Joined, Marker, Timeline
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.timemap import TimeMap
from vesk.media import hash_list, paper
from vesk.media.aaf_file import read_aaf, write_aaf
from vesk.media.otio_file import read_angles, read_otio, write_angles, write_otio

MADE = [(PAL, False), (FILM, False), (NTSC, True)]


def a_day(fps, drop):
    clock = FrameRate(fps, drop)
    ten = Timecode.parse(f"10:00:00{';' if drop else ':'}00", clock).seconds
    laid = TimeMap.with_ppm(Fraction(-2) + Fraction(1, 77), Fraction(24))
    media = [
        picture("one clip ä", ten, fps=fps, drop=drop), picture("q", ten + 60, fps=fps, drop=drop),
        sound("s", ten - 2), sound("t", ten + 58),
    ]  # fmt: skip
    made, _ = lay(
        media,
        [Joined("one clip ä", "s", laid, True), Joined("q", "t", TimeMap(Fraction(-2)), True)],
        fps=fps,
        drop=drop,
    )
    marker = Marker(Fraction(10 * 25) / fps, "door slams", "heard")
    return Timeline(made.name, fps, drop, made.start, made.tracks, (marker,))


@pytest.mark.parametrize(("fps", "drop"), MADE)
def test_a_timeline_read_back_by_the_library_lies_where_the_day_has_it_to_the_sample(tmp_path, fps, drop):
    timeline = a_day(fps, drop)
    write_otio(timeline, tmp_path / "day.otio", originals="../media/day 6")
    found = otio.adapters.read_from_file(str(tmp_path / "day.otio"))
    assert found.global_start_time == otio.opentime.RationalTime(round(timeline.start * fps), float(fps))
    assert [track.kind for track in found.tracks] == ["Video", "Audio"]
    for track, meant in zip(found.tracks, timeline.tracks, strict=True):
        clips = list(track.find_clips())
        assert len(clips) == len(meant.clips)
        for clip, one in zip(clips, meant.clips, strict=True):
            at = clip.transformed_time(clip.source_range.start_time, found.tracks)
            exact = Fraction(at.value).limit_denominator(10**6) / Fraction(at.rate).limit_denominator(10**4)
            assert abs(exact - one.at) < Fraction(1, 10**6)
            assert clip.available_range().duration.value == round(one.media.duration * one.media.rate)
            assert unquote(clip.media_reference.target_url) == f"../media/day 6/{one.media.path}"
            warped = [effect.time_scalar for effect in clip.effects]
            assert warped == ([float(one.speed)] if one.speed != 1 else [])
    (marker,) = found.tracks.markers
    assert marker.name == "door slams"
    back = read_otio(tmp_path / "day.otio")
    assert [(one.track, one.at) for one in back] == [(t.name, clip.at) for t in timeline.tracks for clip in t.clips]
    assert {one.file for one in back} == {"one clip ä.mov", "q.mov", "s.wav", "t.wav"}


@pytest.mark.parametrize(("fps", "drop"), MADE)
@pytest.mark.parametrize("rate", [48_000, 44_100])
def test_each_moment_is_a_group_whose_angles_lie_as_on_the_day_to_the_sample(tmp_path, fps, drop, rate):
    ten = Timecode.parse(f"10:00:00{';' if drop else ':'}00", FrameRate(fps, drop)).seconds
    media = [
        picture("a", ten, fps=fps, drop=drop), picture("b", ten + 3, fps=fps, drop=drop, tag="B"),
        picture("q", ten + 600, fps=fps, drop=drop), sound("s", ten - 2, rate=Fraction(rate)), sound("t", ten + 598),
    ]  # fmt: skip
    apart = TimeMap.with_ppm(Fraction(-2) + Fraction(1, 77), Fraction(24))
    links = [("a", "s", apart), ("b", "s", TimeMap(Fraction(-5))), ("q", "t", TimeMap(Fraction(-2)))]
    day, _ = lay(media, [Joined(*link, True) for link in links], fps=fps, drop=drop)
    groups = angles_of(replace(day, markers=(Marker(Fraction(4), "clap"), Marker(Fraction(604), "door"))))
    write_angles(groups, tmp_path / "moments.otio", originals="media")
    found = otio.adapters.read_from_file(str(tmp_path / "moments.otio"))
    assert [[one.name for one in group.find_clips()] for group in found] == [["a.mov", "b.mov", "s.wav", "s.wav"],
                                                                            ["q.mov", "t.wav"]]  # fmt: skip
    assert [[mark.name for mark in group.tracks.markers] for group in found] == [["clap"], ["door"]]
    on_day = {(clip.media.name, clip.first): clip.at + day.start for track in day.tracks for clip in track.clips}
    for group, meant, read in zip(found, groups, read_angles(tmp_path / "moments.otio"), strict=True):
        first = round(group.global_start_time.value) / fps
        assert first == meant.start
        assert first > min(on_day[one.name, 0] for one in media if one.name == meant.tracks[0].clips[0].media.name) - 8
        clips = [clip for track in meant.tracks for clip in track.clips]
        for clip, one in zip(clips, read, strict=True):
            assert abs(first + one.at - on_day[clip.media.name, clip.first]) < Fraction(1, 10**6)


def mixed(seed):
    """A day whose cameras stand at several rates, clip on clip, one recorder running on beneath at another rate."""
    chance = random.Random(seed)  # noqa: S311 - a made day
    fps, rate = (FILM, PAL, NTSC)[seed % 3], Fraction((44_100, 48_000, 96_000)[seed % 3])
    media, joined, at = [], [], NINE
    for number in range(12):
        own = chance.choice([fps, 2 * fps, Fraction(50)])
        count = round(chance.randrange(200, 900) / fps * own)
        kept = (7, 60) if number % 4 == 3 else None
        name = f"p  {number}\\b" if number == 5 else f"p{number}"
        media.append(replace(picture(name, at, fps=fps), duration=count / own, rate=own, kept=kept))
        offset = NINE - 10 - at + Fraction(chance.randrange(-500, 500), 48_000)
        joined.append(Joined(name, "s", TimeMap.with_ppm(offset, Fraction(chance.randrange(-60, 60))), True))
        at += count / own
    media.append(replace(sound("s", NINE - 10, rate=rate), duration=at - NINE + 20))
    return lay(media, joined, fps=fps, drop=False)[0]


@pytest.mark.parametrize("seed", range(6))
def test_clips_of_several_rates_in_a_row_are_not_pushed_by_what_a_frame_before_them_rounds(tmp_path, seed):
    timeline = mixed(seed)
    write_otio(timeline, tmp_path / "day.otio", originals="x")
    write_aaf(timeline, tmp_path / "day.aaf", originals=Path("/x"))
    for name, back in (("day.otio", read_otio(tmp_path / "day.otio")), ("day.aaf", read_aaf(tmp_path / "day.aaf"))):
        assert unlike([timeline], [back], name) == ""
        moved = [replace(back[0], at=back[0].at + Fraction(1, 40_000)), *back[1:]]
        assert f"{back[0].name} reads back from {name} elsewhere" in unlike([timeline], [moved], name)
        other = [replace(back[0], label=back[0].label + Fraction(1, 10)), *back[1:]]
        assert "another part of it" in unlike([timeline], [other], name)
    for track in timeline.tracks:
        read = [one for text in edit_lists(timeline, track) for one in read_edit_list(text, timeline.fps)]
        assert unlike_list(timeline, track.clips, read, "x.edl") == ""
        late = [replace(read[0], at=read[0].at + Fraction(1, 40_000)), *read[1:]]
        assert "elsewhere than it was laid" in unlike_list(timeline, track.clips, late, "x.edl")


@pytest.mark.parametrize("text", ["", "{}", '{"OTIO_SCHEMA": "Clip.2", "name": "x"}', "[1, 2", "\0" * 64])
def test_what_is_no_timeline_is_refused_with_its_name(tmp_path, text):
    path = tmp_path / "their.otio"
    path.write_text(text)
    with pytest.raises(MediaError, match=r"their\.otio"):
        read_otio(path)


@pytest.mark.parametrize(("fps", "drop"), MADE)
def test_an_aaf_read_by_another_adapter_has_the_same_clips_at_the_same_places(tmp_path, fps, drop):
    timeline = a_day(fps, drop)
    write_aaf(timeline, tmp_path / "day.aaf", originals=Path("/media/day 6"))
    found = otio.adapters.read_from_file(str(tmp_path / "day.aaf"), adapter_name="AAF")
    start = found.global_start_time
    assert round(start.value) == round(timeline.start * fps)
    tracks = {track.name: track for track in found.tracks if list(track.find_clips())}
    for meant in timeline.tracks:
        clips = list(tracks[meant.name].find_clips())
        assert [clip.name for clip in clips] == [one.media.name for one in meant.clips]
        for clip, one in zip(clips, meant.clips, strict=True):
            at = clip.range_in_parent().start_time
            assert Fraction(at.value) / Fraction(at.rate).limit_denominator(10**4) == pytest.approx(one.at, abs=1e-5)
            rate = Fraction(clip.source_range.start_time.rate).limit_denominator(10**4)
            label = Fraction(clip.source_range.start_time.value).limit_denominator(10**6) / rate
            assert label == pytest.approx((one.media.start or 0) + one.first, abs=1.001 / float(one.media.rate))
            place = clip.media_reference.target_url
            assert unquote(urlparse(place).path) == f"/media/day 6/{one.media.path}"


def test_a_hash_list_names_every_file_and_finds_the_one_that_changed(tmp_path):
    (tmp_path / "sound").mkdir()
    files = [tmp_path / "sound" / "A & B.wav", tmp_path / "report.csv"]
    for path in files:
        path.write_bytes(path.name.encode() * 1000)
    hashed = [hash_list.hash_file(path, tmp_path) for path in files]
    listed = hash_list.write_hash_list(tmp_path, hashed, name="day 6/…", by="<editor>", version="1")
    assert hash_list.verify(tmp_path, listed) == []
    assert [name for name, *_ in hash_list.read_hash_list(listed)] == ["report.csv", "sound/A & B.wav"]
    chain = (tmp_path / "ascmhl" / "ascmhl_chain.xml").read_text()
    assert hash_list.c4_of(listed.read_bytes()) in chain
    files[0].write_bytes(b"other")
    files[1].unlink()
    assert hash_list.verify(tmp_path, listed) == [
        "report.csv: it is not there", "sound/A & B.wav: it holds other bytes than were handed over",
    ]  # fmt: skip


def test_the_identifier_of_a_list_is_that_of_the_standard():
    # The specification's own examples: of no bytes at all, and of "alfa".
    empty = "c459dsjfscH38cYeXXYogktxf4Cd9ibshE3BHUo6a58hBXmRQdZrAkZzsWcbWtDg5oQstpDuni4Hirj75GEmTc1sFT"
    assert hash_list.c4_of(b"") == empty
    assert (
        hash_list.c4_of(b"alfa")
        == "c43zYcLni5LF9rR4Lg4B8h3Jp8SBwjcnyyeh4bc6gTPHndKuKdjUWx1kJPYhZxYt3zV6tQXpDs2shPsPYjgG81wZM1"
    )


def test_the_report_prints_whatever_things_are_called(tmp_path):
    named = "<script> #let x = *1* $a$ @c `d` é_ж_ω.mov"
    take = paper.PaperTake("31/1", named, "09:00", "a.wav", "slip", "", "", "x", "a.wav", "", "")
    open_one = replace(take, slate="31/2", delivered="", reason="nobody checked it", remark="twice")
    clock = paper.PaperClock("A", "against S1", ("0,0 10,10", "", "5,5"), ((1.0, 2.0),), "1.00")
    report = paper.PaperReport("Day", "It holds", ("one",), (take, open_one) * 20, ("b.mov: nobody",), (clock,))
    page = paper.page_of(report)
    assert page.count("<td>&lt;script&gt; #let x") == 40
    paper.write_pdf(report, tmp_path / "report.pdf")
    # Rendered by another program: its words are all there, and there is ink where the clock is drawn.
    pages = pypdfium2.PdfDocument(tmp_path / "report.pdf")
    said = "".join(one.get_textpage().get_text_range() for one in pages)
    joined = "".join(said.replace("\ufffe", "").split())
    assert joined.count("".join(named.split())) == 40
    assert joined.count("nobodycheckedit(twice)") == 20
    assert joined.count("handedover") == len(pages) - 1 > 1
    assert (said.count("What is missing"), said.count("against S1")) == (1, 1)
    assert np.array(pages[len(pages) - 1].render(scale=1).to_pil().convert("L")).min() < 60
    assert {round(value) for value in pages[0].get_size()} == {595, 842}  # A4, in points
    assert NINE == 32_400
