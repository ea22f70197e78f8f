"""Runs and mono sets, from the card to the files handed over."""

import shutil
import wave
from fractions import Fraction
from types import SimpleNamespace

import numpy as np
import pytest
from tests.conftest import heard_and_merged, make_shoot, moved_day, named_day, shown

from vesk.actions import correct, gathering, intake, merging, package, pairing, sources, turnover
from vesk.actions.locating import located
from vesk.actions.sync_points import keep_sync_points
from vesk.core.errors import RefusedError, StaleError
from vesk.core.kinds import Kind
from vesk.dailies.conforming import conform
from vesk.dailies.folder import walk_folder
from vesk.dailies.located import locate, merge
from vesk.dailies.searching import gap_between
from vesk.store import days, journal, overrides, pairings, recordings, sync_points, turnovers
from vesk.web import create_app

DEVICES = """
[production]
name = "The Lantern Ferry"
day = 9
date = 2027-03-21
rate = "25"
seed = 9
[[device]]
tag = "A"
name = "main camera"
kind = "camera"
folder = "A009"
roll = "A009"
jams = ["09:00:00"]
noise_db = -55
level_db = -8
channels = ["scratch"]
[[device]]
tag = "E"
name = "small deck"
kind = "camera"
folder = "E"
roll = "E"
ppm = 38.0
header = "none"
split_s = 10.0
noise_db = -50
level_db = -12
channels = ["scratch"]
[[device]]
tag = "M"
name = "recorder of single tracks"
kind = "recorder"
folder = "M"
roll = "M"
jams = ["09:00:00"]
mono = true
channels = ["mix", "boom", "lav Ines"]
[[device]]
tag = "Z"
name = "recorder from zero"
kind = "recorder"
folder = "Z"
roll = "Z"
ppm = -25.0
header = "zero"
split_s = 11.0
channels = ["left"]
[[shot]]
slate = "50"
take = 1
start = "10:00:00:00"
length = 26
clap = 1.2
talk = [[2.0, 25.0]]
roll = [
  { source = "A", from = 0.0, to = 26.0 },
  { source = "E", from = -1.0, to = 27.0, file = "clip0101.mov" },
  { source = "M", from = -1.5, to = 27.0 },
  { source = "Z", from = -2.0, to = 27.0, file = "REC0007.wav" },
]
"""


@pytest.fixture(scope="module")
def rolled_on(tmp_path_factory):
    return make_shoot(DEVICES, tmp_path_factory.mktemp("runs"))


@pytest.fixture(scope="module")
def template(made_once, rolled_on):
    def make(db, settings):
        folder = settings.media_roots[0]
        shutil.copytree(rolled_on.folder, folder)
        made = named_day(db, settings, folder, number=9)
        heard_and_merged(db, settings, made)

    return made_once("rolled_on", make)


@pytest.fixture
def day(db, rolled_on, tmp_path):
    shutil.copytree(rolled_on.folder, tmp_path / "media")
    return moved_day(db, tmp_path / "media")


def names(db, day):
    return [row.name for row in recordings.of_day(db, day.id)]


def the(db, day, name):
    return next(row for row in recordings.of_day(db, day.id) if row.name == name)


def test_parts_and_tracks_become_one_recording_each(db, settings, day):
    assert names(db, day) == [
        "A009_001.mov",
        "clip0101-0103.mov",
        "50_01_1-3.wav",
        "REC0007-0009.wav",
    ]
    run, single = the(db, day, "clip0101-0103.mov"), the(db, day, "50_01_1-3.wav")
    assert "files are just as long" in run.merged_why or "sound goes on" in run.merged_why
    assert run.facts.frames == 28 * 25
    assert single.facts.channels == 3
    assert single.facts.track_names == ("mix", "boom", "lav Ines")
    assert "iXML" in single.merged_why
    place = located(db, settings, day, single)
    with place.reader() as reader:
        block = reader.read(48_000, 1000)
    for channel in range(3):
        with wave.open(str(place.files[channel])) as file:
            file.setpos(48_000)
            data = np.frombuffer(file.readframes(1000), np.uint8).reshape(-1, 3)
        own = (
            data[:, 0].astype(int) | data[:, 1].astype(int) << 8 | data[:, 2].astype(np.int8).astype(int) << 16
        ) / 2**23
        assert np.allclose(block[:, channel], own, atol=1e-7)


def test_a_run_is_measured_corrected_and_checked_once_and_delivered_file_by_file(db, settings, day, rolled_on):
    pairing.pair_day(db, day)
    run = the(db, day, "clip0101-0103.mov")
    found = pairing.pair_by_sound(db, settings, run.id, lambda _done, _total: True)
    by = {recordings.get(db, one.sound_id).name: one for one in found}
    assert set(by) == {"50_01_1-3.wav", "REC0007-0009.wav"}
    true = rolled_on.pair("clip0101.mov", "REC0007.wav")
    line = gathering.of_pairing(db, by["REC0007-0009.wav"].id).found.line
    assert abs(line.offset_s - true["heard_offset_s"]) < 20e-6
    assert abs(line.ppm - true["ppm"]) < 1.0
    # The set alone is handed over with it.
    other = by["REC0007-0009.wav"]
    correct.set_aside(db, settings, other.id, version=other.version, reason="the set is better")
    now = gathering.of_pairing(db, by["50_01_1-3.wav"].id)
    correct.take_proposal(db, settings, now.pairing.id, version=now.pairing.version)
    now = gathering.of_pairing(db, now.pairing.id)
    correct.check(db, settings, now.pairing.id, version=now.pairing.version)
    planned = turnover.plan(db, settings, day)
    package.make(db, settings, planned.id)
    made = [one for one in turnovers.deliveries(db, planned.id) if one.name.startswith("sound/clip")]
    assert [one.name for one in made] == [f"sound/clip010{n}.wav" for n in (1, 2, 3)]
    assert [one.written.samples for one in made] == [480_000, 480_000, 8 * 48_000]
    # The drift that stays inside the tolerance runs on across the joints: one line over three files.
    left = [value for one in made for value in one.written.residual_s]
    assert np.diff(left).max() < 10e-6
    assert 0.4e-3 < left[0] < 0.7e-3
    assert abs(left[0] + left[-1]) < 0.1e-3
    lines = (settings.turnovers / planned.folder / "report.csv").read_text(encoding="utf-8")
    assert all(f"E/clip010{n}.mov" in lines for n in (1, 2, 3))


def test_taken_apart_the_files_stand_for_themselves_and_are_not_joined_again(db, settings, day):
    pairing.pair_day(db, day)
    run = the(db, day, "REC0007-0009.wav")
    overrides.put(db, run.id, "scene", "50X", by="test editor")
    merging.take_apart(db, settings, run.id, version=run.version)
    assert merging.merge_day(db, settings, day) == []
    assert {"REC0007.wav", "REC0008.wav", "REC0009.wav"} <= set(names(db, day))
    with pytest.raises(RefusedError, match="one file"):
        merging.take_apart(db, settings, the(db, day, "REC0008.wav").id, version=1)
    parts = [row for row in recordings.of_day(db, day.id) if row.name.startswith("REC")]
    again = merging.merge_by_hand(db, settings, day, shown(*parts), "run")
    assert again.id == run.id  # with whatever was decided about it
    assert overrides.standing_of_day(db, day.id)[run.id]["scene"].value == "50X"
    picture, sound = the(db, day, "A009_001.mov"), the(db, day, "50_01_1-3.wav")
    with pytest.raises(RefusedError, match="several sources"):
        merging.merge_by_hand(db, settings, day, shown(picture, sound), "run")
    with pytest.raises(RefusedError, match="two files or more"):
        merging.merge_by_hand(db, settings, day, shown(picture), "run")


def test_a_pairing_of_a_part_rests_while_the_run_stands(db, settings, day):
    run = the(db, day, "clip0101-0103.mov")
    merging.take_apart(db, settings, run.id, version=run.version)
    first = the(db, day, "clip0101.mov")
    [one] = [
        p
        for p in pairing.pair_by_sound(db, settings, first.id, lambda _d, _t: True)
        if recordings.get(db, p.sound_id).name == "50_01_1-3.wav"
    ]
    correct.set_own(db, settings, one.id, version=one.version, slip=Fraction(3, 1000), ppm=Fraction(0))
    clips = [row for row in recordings.of_day(db, day.id) if row.name.startswith("clip")]
    merging.merge_by_hand(db, settings, day, shown(*clips), "run")
    assert one.id not in {p.id for p in pairings.of_day(db, day.id)}
    assert not pairings.is_standing(db, one.id)
    merging.take_apart(db, settings, run.id, version=run.version)
    assert gathering.of_pairing(db, one.id).state == "corrected"


def test_files_that_a_person_decided_about_are_not_taken_together_by_what_is_found_later(db, settings, day):
    """A card that comes in two halves, an edition that knows more: neither lets a check rest."""
    run = the(db, day, "REC0007-0009.wav")
    merging.take_apart(db, settings, run.id, version=run.version)
    first, picture = the(db, day, "REC0007.wav"), the(db, day, "A009_001.mov")
    found = pairing.pair_by_sound(db, settings, picture.id, lambda _d, _t: True)
    one = next(pair for pair in found if pair.sound_id == first.id)
    db.delete(run)  # as if nobody had ever taken them together
    db.flush()
    correct.set_own(db, settings, one.id, version=one.version, slip=Fraction(3, 1000), ppm=Fraction(0))
    for _ in range(2):
        assert merging.merge_day(db, settings, day) == []
    assert gathering.of_pairing(db, one.id).state == "corrected"
    lines = [line.what for line in journal.of_day(db, day.id) if line.what.startswith("left REC0007.wav")]
    assert len(lines) == 1
    assert "takes of REC0007.wav are corrected or checked" in lines[0]
    correct.undo(db, settings, one.id, version=one.version)
    assert [row.name for row in merging.merge_day(db, settings, day)] == ["REC0007-0009.wav"]


def test_a_part_that_vanishes_takes_the_run_with_it_and_brings_it_back(db, settings, day, tmp_path):
    lost = tmp_path / "media" / "Z" / "REC0008.wav"
    kept = lost.rename(tmp_path / "REC0008.wav")
    intake.take_in(db, settings, day)
    merging.refresh(db, day)
    run = the(db, day, "REC0007-0009.wav")
    assert run.state == "vanished"
    assert "REC0008.wav" in run.problem
    kept.rename(lost)
    intake.take_in(db, settings, day)
    assert merging.refresh(db, day) == []  # nothing in it changed: what was heard counts
    assert the(db, day, "REC0007-0009.wav").state == "ready"


def test_a_run_moves_with_its_files(db, settings, day):
    run = the(db, day, "REC0007-0009.wav")
    assert sources.move(db, settings, day, shown(run), to_tag="S9") == 1
    assert {row.source_id for row in recordings.members_of(db, run)} == {the(db, day, run.name).source_id}


def test_a_camera_that_serves_as_a_recorder_is_laid_on_the_others_pictures(db, settings, day):
    run = the(db, day, "clip0101-0103.mov")
    deck = next(one for one in days.sources(db, day.id) if one.id == run.source_id)
    pairing.pair_by_sound(db, settings, run.id, lambda _done, _total: True)
    before = {p.id for p in pairings.of_day(db, day.id)}
    sources.serve_as(db, settings, deck.id, version=deck.version, kind=Kind.SOUND)
    run = the(db, day, run.name)
    assert (run.kind, run.facts.frames, run.facts.samples) == ("sound", None, 28 * 48_000)
    assert pairings.of_day(db, day.id) == []  # as a picture it is nobody's partner now
    (found,) = pairing.pair_by_sound(db, settings, run.id, lambda _done, _total: True)
    line = gathering.of_pairing(db, found.id).found.line
    assert line.offset_s == pytest.approx(-1.0, abs=0.05)
    assert line.ppm == pytest.approx(38.0, abs=1.0)
    with pytest.raises(StaleError):
        sources.serve_as(db, settings, deck.id, version=1, kind=Kind.PICTURE)
    sources.serve_as(db, settings, deck.id, version=deck.version, kind=Kind.PICTURE)
    run = the(db, day, run.name)
    assert (run.kind, run.facts.frames) == ("picture", 28 * 25)
    assert {p.id for p in pairings.of_day(db, day.id)} == before  # what was found before is there again
    recorder = next(one for one in days.sources(db, day.id) if one.tag == "M")
    with pytest.raises(RefusedError, match="holds no picture"):
        sources.serve_as(db, settings, recorder.id, version=recorder.version, kind=Kind.PICTURE)


def test_pages_draw_and_play_a_run_as_one(db, settings, day):
    """Frames, samples and peaks asked of the run are those of the file that holds them, across the joint."""
    client = create_app(settings).test_client()
    run = the(db, day, "clip0101-0103.mov")
    first, second, _ = recordings.members_of(db, run)
    asked = client.get(f"/media/{run.id}/frame/260.jpg")
    own = client.get(f"/media/{second.id}/frame/10.jpg")
    assert asked.status_code == 200
    assert asked.data == own.data
    asked.close()
    own.close()
    assert client.get(f"/media/{run.id}/frame/700.jpg").status_code == 422  # one past its end
    joint = 10 * 48_000
    across = np.frombuffer(client.get(f"/media/{run.id}/samples?start={joint - 50}&count=100").data, "<i2")
    before = np.frombuffer(client.get(f"/media/{first.id}/samples?start={joint - 50}&count=50").data, "<i2")
    after = np.frombuffer(client.get(f"/media/{second.id}/samples?start=0&count=50").data, "<i2")
    assert np.array_equal(across, np.concatenate([before, after]))
    assert across.any()
    peaks = np.frombuffer(client.get(f"/media/{run.id}/peaks?level=10&start=0&count=2000").data, "<i2").reshape(-1, 2)
    assert (peaks[: 28 * 48_000 // 1024] != 0).any(axis=1).mean() > 0.95
    assert not peaks[28 * 48_000 // 1024 + 1 :].any()
    page = client.get(f"/recordings/{run.id}").text
    assert all(f"clip010{n}.mov" in page for n in (1, 2, 3))
    chart = client.get(f"/days/{day.id}/")
    assert chart.status_code == 200


def test_the_closing_sticks_are_seen_in_whichever_file_holds_them(db, settings, day):
    run = the(db, day, "clip0101-0103.mov")
    place = located(db, settings, day, run)
    whole = place.grey_frames(245, 10)  # the last five of one file, the first five of the next
    first, second = (part.grey_frames(*span) for part, span in zip(place.members, ((245, 5), (0, 5)), strict=False))
    assert whole.shape[0] == 10
    assert np.array_equal(whole, np.concatenate([first, second]))
    assert place.grey_frames(695, 20).shape[0] == 5
    assert place.grey_frames(700, 5).shape[0] == 0
    keep_sync_points(db, settings, run.id)
    seen = [one for one in sync_points.of_recordings(db, [run.id])[run.id] if one.how == sync_points.SEEN]
    # The clap falls at 1.2 s of the take; the camera ran one second before it.
    assert any(abs(one.frame - (1.2 + 1.0) * 25) <= 1.5 for one in seen)


def test_the_commands_know_runs_and_sets_too(rolled_on, tmp_path, cache):
    walked = walk_folder(rolled_on.folder, cache)
    assert {one.how for one in walked.together} == {"run", "set"}
    assert set(walked.recordings) == {
        "A009/A009_001.mov",
        "E/clip0101-0103.mov",
        "M/50_01_1-3.wav",
        "Z/REC0007-0009.wav",
    }
    lines = conform(walked, tmp_path / "out", cache)
    run = [line for line in lines if line["picture"].startswith("E/")]
    assert [line["picture"] for line in run] == ["E/clip0101.mov", "E/clip0102.mov", "E/clip0103.mov"]
    assert all(line["delivered"] == "yes" for line in run)


@pytest.mark.slow
def test_equal_takes_whose_names_count_on_are_no_run_where_the_recorder_ran_minutes_apart(tmp_path, cache):
    """Nothing in the camera's own files tells: no clock, white noise at their ends, one length."""
    lines = (
        DEVICES[: DEVICES.index("[[shot]]")].replace("split_s = 10.0\n", "").replace("noise_db = -50", "noise_db = -40")
    )
    shots = "".join(
        f"""[[shot]]
slate = "5{n}"
take = 1
start = "10:{5 * n:02}:00:00"
length = 14
talk = [[2.0, 12.5]]
roll = [
  {{ source = "E", from = 0.0, to = 14.0, file = "clip020{n}.mov" }},
  {{ source = "M", from = -1.5, to = 15.0 }},
]
"""
        for n in range(3)
    )
    walked = walk_folder(make_shoot(lines + shots, tmp_path).folder, cache)
    assert {one.how for one in walked.together} == {"set"}
    matched = [(one.picture[-8:], one.sound[2:4]) for one in walked.pairings if one.found.decision == "matched"]
    assert sorted(matched) == [("0200.mov", "50"), ("0201.mov", "51"), ("0202.mov", "52")]


def test_what_another_device_recorded_tells_the_gap_between_two_files(rolled_on, tmp_path):
    def at(name):
        return locate(rolled_on.folder / name, tmp_path / "cache")

    first, second, third = (at(f"E/clip010{n}.mov") for n in (1, 2, 3))
    whole = merge([at(f"M/50_01_{n}.wav") for n in (1, 2, 3)], "set", tmp_path / "cache")
    unclocked = {"whole": SimpleNamespace(start=None, source="S1")}
    assert abs(gap_between(first, second, {"whole": whole}, unclocked)) < 0.002  # another microphone is the nearer
    assert abs(gap_between(second, third, {"whole": whole}, unclocked)) < 10e-6
    assert gap_between(first, third, {"whole": whole}, unclocked) == pytest.approx(10.0, abs=0.003)
    # The other way round: a recorder's files on a camera's scratch.
    one, after = at("Z/REC0007.wav"), at("Z/REC0008.wav")
    picture = {"a": at("A009/A009_001.mov")}
    assert abs(gap_between(one, after, picture, {"a": SimpleNamespace(start=None, source="S1")})) < 10e-6
    noise = {"b": at("Z/REC0009.wav")}
    assert (
        gap_between(first, second, noise, {"b": SimpleNamespace(start=None, source="S1")}) is None
    )  # it holds neither end
