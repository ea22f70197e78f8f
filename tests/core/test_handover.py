"""What is handed over, as values: names, channels, the day as a timeline, edit lists read by a stranger."""

import itertools
from fractions import Fraction

import opentimelineio as otio
import pytest

from vesk.core.errors import RefusedError
from vesk.core.handover.channels import chosen_channels
from vesk.core.handover.edl import edit_lists
from vesk.core.handover.naming import check_pattern, named
from vesk.core.handover.timeline import Joined, Media, build, lay_day
from vesk.core.kinds import Kind
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.timemap import PiecewiseMap, TimeMap

PAL, NTSC, FILM = Fraction(25), Fraction(30000, 1001), Fraction(24000, 1001)
NINE = Fraction(9 * 3600)


def picture(key, start, seconds=20, tag="A", fps=PAL, **more):
    frames = round(seconds * fps)
    values = {
        "key": key, "name": f"{key}.mov", "path": f"{tag}/{key}.mov", "tag": tag, "kind": Kind.PICTURE, "start": start,
        "duration": Fraction(frames) / fps, "rate": fps, "label_rate": fps, "reel": f"{tag}001", "scene": "31",
    }  # fmt: skip
    return Media(**values | more)


def sound(key, start, seconds=30, tag="S1", **more):
    values = {
        "key": key, "name": f"{key}.wav", "path": f"{tag}/{key}.wav", "tag": tag, "kind": Kind.SOUND, "start": start,
        "duration": Fraction(seconds), "rate": Fraction(48_000), "label_rate": PAL, "reel": f"{tag}R", "channels": 2,
    }  # fmt: skip
    return Media(**values | more)


def lay(media, joined, *, fps=PAL, drop=False):
    placed = {one.key: one.start for one in media if one.start is not None}
    at = lay_day(media, joined, placed)
    start = Fraction(int(min(at.values()) * fps)) / fps
    return build("Day 6", media, joined, at, fps=fps, drop=drop, start=start), at


def clips(timeline):
    return {track.name: track.clips for track in timeline.tracks}


@pytest.mark.parametrize("fps", [PAL, NTSC, FILM, Fraction(50)])
def test_every_sound_lies_under_its_picture_to_the_sample_whatever_its_clock_and_rate(fps):
    slip, ppm = Fraction(123, 10_000), Fraction(66)
    laid = TimeMap.with_ppm(Fraction(-2) + slip, ppm)
    media = [picture("p", NINE, fps=fps), sound("s", NINE - 2)]
    timeline, at = lay(media, [Joined("p", "s", laid, True)], fps=fps)
    found = clips(timeline)
    (shown,) = found["A"]
    assert (shown.at * fps).denominator == 1
    assert abs(shown.off_s) <= float(1 / fps) / 2
    under = [clip for clip in found["S1"] if clip.speed != 1]
    assert len(under) == 1
    # What sounds at a time of the picture is what the correction says, within half a sample.
    for seconds in (Fraction(0), Fraction(7), Fraction(19)):
        there = shown.at + seconds
        heard = under[0].first + (there - under[0].at) * under[0].speed
        assert abs(heard - laid.inverse()(seconds)) <= Fraction(1, 96_000) * 2
    assert sum(clip.count for clip in found["S1"]) == pytest.approx(30 * 48_000, abs=0.05 * 48_000)
    assert all(one.ends <= other.at for one, other in zip(found["S1"], found["S1"][1:], strict=False))
    assert at["s"] == NINE - 2  # recorders run on, pictures are laid on them


def test_two_cameras_of_one_moment_keep_what_each_is_off_and_share_the_moment():
    media = [
        picture("a", NINE),
        picture("b", NINE + 5, tag="B"),
        picture("c", NINE + 600, tag="B"),
        sound("s", NINE - 2),
    ]
    joined = [
        Joined("a", "s", TimeMap(Fraction(-2)), True),
        Joined("b", "s", TimeMap(Fraction(-7) + Fraction(1, 100)), True),
    ]
    found = clips(lay(media, joined)[0])
    (a,), (b, c) = found["A"], found["B"]
    assert (a.moment, b.moment, c.moment) == (1, 1, 2)
    assert a.off_s == 0
    assert abs(b.off_s) == pytest.approx(0.01)
    assert [clip.moment for clip in found["S1"]].count(1) >= 1


def test_a_second_recorder_is_laid_by_its_picture_and_a_recording_without_clock_by_its_sound():
    media = [picture("p", None), sound("s", NINE - 2), sound("t", NINE + 999, tag="S2")]
    joined = [Joined("p", "s", TimeMap(Fraction(-2)), True), Joined("p", "t", TimeMap(Fraction(-3)), False)]
    _, at = lay(media, joined)
    assert at == {"s": NINE - 2, "p": NINE, "t": NINE - 3}  # whatever S2's own clock says
    assert lay_day([picture("q", None)], [], {}) == {}


def test_off_speed_and_unpaired_lie_on_tracks_of_their_own_and_what_overlaps_on_a_further_one():
    media = [picture("p", NINE), picture("q", NINE + 10), picture("r", NINE + 100, apart="off-speed")]
    found = clips(lay(media, [])[0])
    assert {name: len(own) for name, own in found.items()} == {"A": 1, "A 2": 1, "A off-speed": 1}


def test_a_jump_in_the_recorder_is_a_hole_in_the_timeline_and_no_sound_twice():
    laid = PiecewiseMap(TimeMap(Fraction(-2)), ((Fraction(10), Fraction(1, 2)),))
    media = [picture("p", NINE), sound("s", NINE - 2)]
    found = clips(lay(media, [Joined("p", "s", laid, True)])[0])
    pieces = [clip for clip in found["S1"] if clip.first < 22]
    assert all(one.ends <= other.at for one, other in itertools.pairwise(pieces))
    after = next(clip for clip in found["S1"] if clip.first == 10)
    assert after.at == found["A"][0].at + 8 + Fraction(1, 2)


def test_the_picture_is_what_plays_at_another_rate_where_the_sound_is_the_truth():
    stretch = Fraction(1_000_040, 1_000_000)
    media = [picture("p", NINE), sound("s", NINE - 2)]
    found = clips(lay(media, [Joined("p", "s", TimeMap(Fraction(-2)), True, stretch)])[0])
    assert found["A"][0].speed == 1 / stretch
    assert all(clip.speed == 1 for clip in found["S1"])


@pytest.mark.parametrize(("fps", "drop"), [(PAL, False), (FILM, False), (NTSC, True), (NTSC, False)])
def test_an_edit_list_says_the_same_to_a_reader_that_is_not_ours(fps, drop):
    clock = FrameRate(fps, drop)
    late = Timecode.parse(f"23:59:50{';' if drop else ':'}02", clock).seconds
    media = [picture("p", late, fps=fps, drop=drop), picture("q", late + 40, fps=fps, drop=drop)]
    timeline, _ = lay(media, [], fps=fps, drop=drop)
    (text,) = edit_lists(timeline, timeline.tracks[0])
    assert f"FCM: {'DROP FRAME' if drop else 'NON-DROP FRAME'}" in text
    assert "FROM CLIP NAME: p.mov" in text
    assert text.count("31 TAKE") == 2
    second = next(line for line in text.splitlines() if line.startswith("002"))
    assert second.split()[1] == "A001"
    assert second.split()[4].startswith("00:00:")  # over midnight the labels begin anew
    noon = Timecode.parse(f"12:00:00{';' if drop else ':'}02", clock).seconds
    timeline, _ = lay([picture("p", noon, fps=fps, drop=drop)], [], fps=fps, drop=drop)
    found = otio.adapters.read_from_string(edit_lists(timeline, timeline.tracks[0])[0], "cmx_3600", rate=float(fps))
    (clip,) = found.find_clips()
    assert clip.name == "p.mov"
    assert clip.duration().value == round(20 * fps)
    assert clip.source_range.start_time.value == round(noon * fps)


def test_an_edit_list_says_in_comments_what_frames_cannot_hold_and_ends_at_what_it_can_number():
    media = [picture("p", NINE), sound("s", NINE - 2, name="a\nb.wav")]
    timeline, _ = lay(media, [Joined("p", "s", TimeMap.with_ppm(Fraction(-2) + Fraction(1, 99), Fraction(50)), True)])
    text = "\n".join(edit_lists(timeline, timeline.tracks[1]))
    assert "* RATE: 20001/20000" in text
    assert "OF 48000 HZ" in text
    assert "* FROM CLIP NAME: a b.wav" in text  # nothing that a file is called makes a line of its own
    many = [picture(f"p{n}", NINE + 30 * n) for n in range(1001)]
    timeline, _ = lay(many, [])
    first, second = edit_lists(timeline, timeline.tracks[0])
    assert first.count("FROM CLIP NAME") == 999
    assert second.count("FROM CLIP NAME") == 2


def test_names_are_filled_tidied_and_never_a_path():
    values = {"picture": "A/001", "scene": "31:A", "take": "", "track": "boom"}
    assert named("{scene}_{take}_{track}", values) == "31_A_boom"
    assert named("{picture}", values) == "A_001"
    assert named("{take}", {"picture": "x"}) == "x"
    assert named("{scene}", {"scene": "con"}) == "_con"
    assert "/" not in named("{scene}", {"scene": "../../etc"})
    for wrong in ("", "sound", "{who}", "{picture", "{scene}" * 40):
        with pytest.raises(RefusedError):
            check_pattern(wrong)


def test_timecode_never_goes_out_as_sound():
    names = ("mix L", "mix R", "boom", "LTC")
    assert chosen_channels("", names, {3}) == (0, 1, 2)
    assert chosen_channels("mix", names, {3}) == (0, 1)
    assert chosen_channels("3, 1", names, {3}) == (2, 0)
    assert chosen_channels("4,1", names, {3}) == (0,)
    for said, coded in (("5", ()), ("boom", ()), ("4", {3}), ("", {0, 1, 2, 3})):
        with pytest.raises(RefusedError):
            chosen_channels(said, names, coded)
