"""A camera that writes its sound to files of its own, from the card to the movie handed over."""

import shutil
from pathlib import Path

import av
import numpy as np
import pytest
import soundfile
from tests.conftest import SHORT, heard_and_merged, make_shoot, moved_day, named_day, shown

from vesk.actions import (
    correct,
    gathering,
    measuring,
    merging,
    package,
    pairing,
    turnover,
    undoing,
)
from vesk.actions.locating import located
from vesk.core.errors import RefusedError
from vesk.core.handover.recipe import Recipe, Which
from vesk.dailies.conforming import conform
from vesk.dailies.folder import walk_folder
from vesk.media.picture_packets import same_picture
from vesk.store import days, journal, recordings, turnovers

CARD = (
    SHORT.format(rate="25", jam="07:30:00", start="10:00:01:00")
    .replace('folder = "A007"', 'folder = "A007"\nmono = true\nsplit_s = 5.0')
    .replace('channels = ["scratch"]', 'channels = ["left", "right"]')
)


@pytest.fixture(scope="module")
def card(tmp_path_factory):
    return make_shoot(CARD, tmp_path_factory.mktemp("card"))


@pytest.fixture(scope="module")
def template(made_once, card):
    def make(db, settings):
        folder = settings.media_roots[0]
        shutil.copytree(card.folder, folder)
        day = named_day(db, settings, folder)
        heard_and_merged(db, settings, day)

    return made_once("own_sound", make)


@pytest.fixture
def day(db, card, tmp_path):
    shutil.copytree(card.folder, tmp_path / "media")
    return moved_day(db, tmp_path / "media")


def standing(db, day):
    tags = {one.id: one.tag for one in days.sources(db, day.id)}
    assert set(tags.values()) == {tags[row.source_id] for row in recordings.of_day(db, day.id)}  # none is left empty
    return {row.name: tags[row.source_id] for row in recordings.of_day(db, day.id)}


def test_it_is_one_recording_of_the_camera_and_no_second_recorder(db, settings, day, card):
    assert standing(db, day) == {"A007_001-002+sound.mov": "A", "40_01.wav": "S1"}
    run = recordings.of_day(db, day.id)[0]
    assert (run.kind, run.facts.channels, run.facts.bits) == ("picture", 2, 24)
    place = located(db, settings, day, run)
    own = [
        np.stack([soundfile.read(card.folder / f"A007/A007_00{part}0{n}.wav", dtype="float32")[0] for n in (0, 1)], 1)
        for part in (1, 2)
    ]
    with place.reader() as reader:
        assert np.array_equal(reader.read(0, reader.frames), np.concatenate(own))
    assert place.grey_frames(122, 6).shape[0] == 6  # its picture goes on across the joint
    pairing.pair_day(db, day)
    (one,) = gathering.of_day(db, day)
    measuring.measure_pairing(db, settings, one.pairing.id)
    found = gathering.of_pairing(db, one.pairing.id).found
    true = card.pair("A007_001.mov", "40_01.wav")
    assert found.decision == "matched"
    assert found.line.offset_s == pytest.approx(true["heard_offset_s"], abs=30e-6)


def test_taken_apart_its_sound_is_a_device_of_its_own_until_somebody_takes_them_together(db, settings, day):
    run = recordings.of_day(db, day.id)[0]
    merging.take_apart(db, settings, run.id, version=run.version)
    first = next(row for row in recordings.of_day(db, day.id) if row.name == "A007_001+sound.mov")
    merging.take_apart(db, settings, first.id, version=first.version)
    apart = standing(db, day)
    assert apart["A007_001.mov"] == "A"
    assert apart["A007_00100.wav"] == apart["A007_00101.wav"] == "S2"
    assert merging.merge_day(db, settings, day) == []
    rows = [row for row in recordings.of_day(db, day.id) if row.name.startswith("A007_001")]
    recorder = next(row for row in recordings.of_day(db, day.id) if row.name == "40_01.wav")
    with pytest.raises(RefusedError, match="as long as it is"):
        merging.merge_by_hand(db, settings, day, shown(rows[0], recorder), "set")
    again = merging.merge_by_hand(db, settings, day, shown(*reversed(rows)), "set")
    assert again.id == first.id
    assert standing(db, day)["A007_001+sound.mov"] == "A"


def test_taking_apart_is_undone_and_its_undoing_too(db, settings, day):
    whole = standing(db, day)
    run = recordings.of_day(db, day.id)[0]
    merging.take_apart(db, settings, run.id, version=run.version)
    db.commit()
    first = recordings.of_day(db, day.id)[0]
    before = standing(db, day)
    merging.take_apart(db, settings, first.id, version=first.version)
    db.commit()
    apart = standing(db, day)
    for said in (before, apart, before):
        undoing.undo_line(db, settings, day, journal.of_day(db, day.id)[0].id)
        db.commit()
        db.expire_all()
        assert standing(db, day) == said
    assert whole != before != apart


def test_sound_that_comes_before_its_picture_goes_to_it_when_that_comes(db, settings, tmp_path, card):
    folder = settings.media_roots[0] / "late"
    shutil.copytree(card.folder, folder, ignore=shutil.ignore_patterns("*.mov"))
    late = named_day(db, settings, folder, number=8)
    heard_and_merged(db, settings, late)
    assert len(set(standing(db, late).values())) == 2
    shutil.copytree(card.folder, folder, dirs_exist_ok=True, copy_function=shutil.copy)
    heard_and_merged(db, settings, late)
    assert sorted(standing(db, late)) == ["40_01.wav", "A007_001-002+sound.mov"]
    # A track that comes when the others are taken together is nobody's camera.
    shutil.copy(folder / "A007/A007_00100.wav", folder / "A007/A007_00102.wav")
    with (folder / "A007/A007_00102.wav").open("r+b") as file:
        file.seek(-6, 2)
        file.write(b"\x01\x00\x00\x02\x00\x00")  # another sound by a sample or two
    heard_and_merged(db, settings, late)
    assert standing(db, late)["A007_00102.wav"] not in {"A", standing(db, late)["40_01.wav"]}


def test_it_goes_out_file_by_file_with_its_own_sound_as_scratch(db, settings, day, card, tmp_path, cache):
    pairing.pair_day(db, day)
    (now,) = gathering.of_day(db, day)
    measuring.measure_pairing(db, settings, now.pairing.id)
    now = gathering.of_pairing(db, now.pairing.id)
    correct.check(db, settings, now.pairing.id, version=now.pairing.version)
    planned = turnover.plan(db, settings, day, Recipe(movies=True, originals=True))
    package.make(db, settings, planned.id)
    folder = Path(planned.folder)
    made = {one.name: one for one in turnovers.deliveries(db, planned.id)}
    originals = {f"originals/{path.relative_to(card.folder)}" for path in card.folder.rglob("*.*")}
    parts = ("A007_001", "A007_002")
    assert set(made) == {f"movies/{one}.mov" for one in parts} | {f"sound/{one}.wav" for one in parts} | originals
    for part in parts:
        movie = folder / f"movies/{part}.mov"
        assert same_picture(card.folder / f"A007/{part}.mov", movie)
        with av.open(str(movie)) as opened:
            assert [one.metadata["handler_name"] for one in opened.streams.audio] == [
                "production sound", "scratch", "scratch",
            ]  # fmt: skip
            last = np.concatenate([one.to_ndarray() for one in opened.decode(opened.streams.audio[2])], axis=1)
        own, _ = soundfile.read(card.folder / f"A007/{part}01.wav", dtype="int32")
        assert np.array_equal(last[0], own)
    again = turnover.items(db, day, Recipe(movies=True, originals=True, which=Which.CHANGED))
    assert all("unchanged" in one.obstacle for one in again)
    lines = conform(walk_folder(card.folder, cache), tmp_path / "out", cache)
    assert [line["delivered"] for line in lines] == ["yes", "yes"]
