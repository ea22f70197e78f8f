"""Packages by recipe: movies, sound by channel and by recording, timelines, what changed; interrupted, gone on."""

import csv
import os
from dataclasses import replace
from fractions import Fraction
from math import floor
from pathlib import Path
from urllib.parse import unquote

import numpy as np
import opentimelineio as otio
import pytest
import soundfile
from tests.actions.test_day import checked, day, only
from tests.conftest import handed_over
from tests.media.test_movie_copy import make as movie

from vesk.actions import channels, correct, moments, package, recipes, turnover, watched
from vesk.actions.handover import copies, products
from vesk.actions.overview import Overview
from vesk.core.errors import RefusedError, StaleError, StoppedError, StorageError
from vesk.core.handover.recipe import Product, Recipe, SoundForm, Which
from vesk.core.kinds import Kind
from vesk.dailies.located import Located
from vesk.media import cache, checksum, hash_list
from vesk.media.movie_sound import sound_blocks
from vesk.media.otio_file import read_otio
from vesk.media.picture_packets import same_part, same_picture
from vesk.media.probe import read_facts
from vesk.store import days, journal, pairings, turnovers
from vesk.store.session import open_session
from vesk.store.tables import Recording

__all__ = ["day"]


def hand_over(db, settings, day, recipe, **more):
    row = turnover.plan(db, settings, day, recipe, **more)
    db.commit()
    package.make(db, settings, row.id)
    return row, Path(row.folder)


def report_of(folder):
    with (folder / "report.csv").open(encoding="utf-8", newline="") as file:
        return {Path(line["picture"]).name: line for line in csv.DictReader(file)}


def test_everything_at_once_stands_alone_is_named_and_holds(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    originals = {path: path.read_bytes() for path in Path(day.folder).rglob("*") if path.is_file()}
    recipe = Recipe(movies=True, aaf=True, pdf=True, pattern="{scene}-{take}_{camera}")
    row, folder = hand_over(db, settings, day, recipe, named="editor")
    assert {path: path.read_bytes() for path in originals} == originals  # nothing of the sources was touched
    assert handed_over(folder) == {"sound/31A-1_A.wav", "movies/A006_001.mov"}
    assert row.says.startswith("Every file holds, measured again; 1 of ")
    assert (folder / "READ ME.txt").read_text().startswith(row.says)
    source = next(path for path in originals if path.name == "A006_001.mov")
    assert same_picture(source, folder / "movies/A006_001.mov")
    assert {"day.otio", "day.aaf", "report.pdf", "report.html", "READ ME.txt"} <= set(row.documents)
    listed = next((folder / "ascmhl").glob("*.mhl"))
    assert hash_list.verify(folder, listed) == []
    names = {name for name, *_ in hash_list.read_hash_list(listed)}
    assert names == {
        p.relative_to(folder).as_posix() for p in folder.rglob("*") if p.is_file() and "ascmhl" not in p.parts
    }
    line = report_of(folder)["A006_001.mov"]
    assert (line["found"], line["cause"]) == ("sub-frame slip", "within tolerance")
    # The timeline lays the sound of the take where the delivered file has it, to the sample.
    clips = read_otio(folder / "day.otio")
    picture = next(one for one in clips if one.file == "A006_001.mov")
    sounds = [one for one in clips if one.file == "31A_01.wav"]
    under = next(one for one in sounds if abs(one.at - picture.at) < Fraction(1, 1000))
    made, _ = soundfile.read(folder / "sound/31A-1_A.wav", dtype="float64", always_2d=True)
    whole, _ = soundfile.read(
        Path(day.folder, only(db, day, "A006_001.mov").sound.path), dtype="float64", always_2d=True
    )
    start = only(db, day, "A006_001.mov").sound.start
    first = round((under.label - start) * 48_000)
    at = round((under.at - picture.at) * 48_000)
    own, laid = whole[first : first + 48_000, 0], made[at : at + 48_000, 0]
    assert np.corrcoef(own[:-1], laid[:-1])[0, 1] > 0.98  # but for a part of a sample


def test_of_a_take_of_which_a_range_is_kept_that_range_goes_out_and_measures_right(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    _, folder = hand_over(db, settings, day, Recipe())
    whole, rate = soundfile.read(folder / "sound/A006_001.wav", dtype="int32", always_2d=True)
    before = report_of(folder)["A006_001.mov"]
    now = only(db, day, "A006_001.mov")
    view = Overview(db, days.get_day(db, day.id))
    moment = moments.moment_of(view, now.picture.id)
    watched.keep_range(db, settings, moment, view, at=Fraction(50, 25), end="from")
    watched.keep_range(db, settings, moment, view, at=Fraction(350, 25), end="to")
    watched.note(db, settings, moment, at=Fraction(3), text="boom in the picture")
    first = watched.day_frame_at(moment, Fraction(4))
    watched.change_cut(
        db, settings, moment, version=0, change=lambda cut: replace(cut.taken("A", first, first + 100), sound="S1")
    )
    db.commit()
    _, folder = hand_over(db, settings, day, Recipe(movies=True, which=Which.CHANGED))  # another range is a change
    part, _ = soundfile.read(folder / "sound/A006_001.wav", dtype="int32", always_2d=True)
    assert part.shape[0] == 300 * rate // 25
    assert np.abs((part >> 8) - (whole[2 * rate : 14 * rate] >> 8)).max() <= 1
    line = report_of(folder)["A006_001.mov"]
    assert int(line["time_reference"]) == int(before["time_reference"]) + 2 * rate
    assert abs(float(line["residual_head_ms"])) < 0.2
    assert "frames 50 to 349 of 600" in line["remark"]
    # Its movie is that range too: the original's packets, the first frame kept at its beginning, labelled as it is.
    source, movie = Path(day.folder, now.picture.path), folder / "movies/A006_001.mov"
    assert same_part(source, movie, (50, 350))
    assert read_facts(movie).timecode == "09:12:08:00"
    good = np.concatenate(list(sound_blocks(movie)))[: part.shape[0], 0]
    assert np.abs(good - (part[:, 0] >> 8) / 2**23).max() < 1e-6
    (cut,) = [one for one in read_otio(folder / "rough cuts/A006_001 rough cut.otio") if one.picture]
    assert (cut.takes, cut.label - now.picture.start) == (4, 4)
    made = otio.adapters.read_from_file(str(folder / "rough cuts/A006_001 rough cut.otio"))
    address = made.find_clips()[0].media_reference.target_url
    assert (folder / "rough cuts" / unquote(address)).resolve() == Path(day.folder, now.picture.path).resolve()
    assert "FROM CLIP NAME: A006_001.mov" in (folder / "rough cuts/A006_001 rough cut.edl").read_text()
    assert "noted: boom in the picture" in line["remark"]
    assert "A006_001.mov: boom in the picture" in (folder / "day.otio").read_text()
    clips = read_otio(folder / "day.otio")
    picture = next(one for one in clips if one.file == "A006_001.mov")
    assert (picture.takes, picture.label - now.picture.start) == (12, 2)
    _, folder = hand_over(db, settings, day, Recipe(ranges=False))
    assert soundfile.info(folder / "sound/A006_001.wav").frames == whole.shape[0]


def test_originals_are_copied_byte_for_byte_and_the_timeline_finds_them_there(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    _, folder = hand_over(db, settings, day, Recipe(originals=True, edl=False))
    home = folder / "originals"
    own = {one.relative_to(home).as_posix() for one in home.rglob("*") if one.is_file()}
    assert own == {"A006 main camera/A006_001.mov", "S1 sound roll 6/31A_01.wav"}
    for name in own:
        assert (home / name).read_bytes() == Path(day.folder, name).read_bytes()
    text = (folder / "day.otio").read_text(encoding="utf-8")
    assert "originals/A006%20main%20camera/A006_001.mov" in text
    assert "originals/A006%20main%20camera/A006_002.mov" not in text  # that one is referred to where it lies
    path = Path(day.folder, "S1 sound roll 6/31A_01.wav")
    data = bytearray(path.read_bytes())
    data[-1] ^= 1
    stat = path.stat()
    path.write_bytes(data)
    os.utime(path, ns=(stat.st_atime_ns, stat.st_mtime_ns))
    _, folder = hand_over(db, settings, day, Recipe(originals=True, edl=False))
    assert not (folder / "originals" / "S1 sound roll 6").exists()  # never other bytes than were taken in


def test_sound_goes_out_by_channel_or_as_recorded_and_cut_to_what_is_used(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    now = only(db, day, "A006_001.mov")
    recorder = now.sound_source.tag
    names = now.sound.facts.track_names
    mono = Recipe(sound=SoundForm.CHANNEL, pattern="{scene}_{track}", timeline=False, edl=False)
    _, folder = hand_over(db, settings, day, mono)
    assert handed_over(folder) == {f"sound/31A_{name}.wav" for name in names}
    assert all(soundfile.info(path).channels == 1 for path in folder.glob("sound/*.wav"))
    chosen = Recipe(channels=((recorder, "2"),), timeline=False, edl=False)
    row, folder = hand_over(db, settings, day, chosen)
    assert soundfile.info(folder / "sound/A006_001.wav").channels == 1
    assert row.says.startswith("Every file holds, measured again")  # against the channel that went out
    now = only(db, day, "A006_001.mov")
    said = channels.set_of_take(db, settings, now.pairing.id, version=now.pairing.version, said="1,1", now=now)
    assert "go out: 1,1" in said
    with pytest.raises(RefusedError, match="channel 7 is not there"):
        channels.set_of_take(db, settings, now.pairing.id, version=now.pairing.version, said="7", now=now)
    _, folder = hand_over(db, settings, day, chosen)  # the take's own word stands above the recipe's
    twice, _ = soundfile.read(folder / "sound/A006_001.wav", always_2d=True)
    assert twice.shape[1] == 2
    assert np.array_equal(twice[:, 0], twice[:, 1])
    now = only(db, day, "A006_001.mov")
    channels.set_of_take(db, settings, now.pairing.id, version=now.pairing.version, said="1", now=now)
    cut = Recipe(sound=SoundForm.RECORDING, pattern="{sound}", handles=25, timeline=False, edl=False)
    _, folder = hand_over(db, settings, day, cut)
    assert handed_over(folder) == {"sound/31A_01.wav"}
    made, _ = soundfile.read(folder / "sound/31A_01.wav", dtype="int32", always_2d=True)
    whole, _ = soundfile.read(Path(day.folder, now.sound.path), dtype="int32", always_2d=True)
    begin = max(0, floor((-now.laid.offset - 1) * 48_000))  # a second of handles
    assert np.array_equal(made, whole[begin : begin + len(made)][:, :1])
    assert read_facts(folder / "sound/31A_01.wav").time_reference == now.sound.facts.time_reference + begin
    assert abs(len(made) - float(now.picture.duration + 1) * 48_000) < 48_010  # the file may end sooner
    now = only(db, day, "A006_001.mov")
    channels.set_of_take(db, settings, now.pairing.id, version=now.pairing.version, said="", now=now)
    wrong = Recipe(channels=((recorder, "9"),))
    assert "channel 9 is not there" in str(_refused(db, settings, day, wrong))


def _refused(db, settings, day, recipe):
    row, _ = hand_over(db, settings, day, recipe)
    return [one.reason for one in turnovers.deliveries(db, row.id) if one.reason]


def test_only_what_changed_goes_out_again_and_what_differs_is_said(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    checked(db, settings, day, "A006_002.mov")
    first, _ = hand_over(db, settings, day, Recipe())
    assert "since the turnovers before" not in first.says
    _, folder = hand_over(db, settings, day, Recipe(which=Which.CHANGED))
    assert handed_over(folder) == set()
    now = only(db, day, "A006_002.mov")
    slip = now.as_corrected.slip + Fraction(1, 1000)
    correct.set_own(db, settings, now.pairing.id, version=now.pairing.version, slip=slip)
    now = only(db, day, "A006_002.mov")
    correct.check(db, settings, now.pairing.id, version=now.pairing.version)
    db.commit()
    _, folder = hand_over(db, settings, day, Recipe(which=Which.CHANGED))
    assert handed_over(folder) == {"sound/A006_002.wav"}
    second, folder = hand_over(db, settings, day, Recipe())
    assert "0 new, 0 changed, 2 as they were, 0 not in it any more" in second.says
    _, folder = hand_over(db, settings, day, Recipe(which=Which.CIRCLED))
    circled = {f"sound/{one.picture.name[:-4]}.wav" for one in turnover.items(db, day) if one.circled}
    assert handed_over(folder) == circled - {"sound/A006_006.wav"}


def test_a_movie_that_is_stopped_is_gone_on_with_and_what_stands_is_not_made_twice(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")
    checked(db, settings, day, "A006_002.mov")
    row = turnover.plan(db, settings, day, Recipe(movies=True, timeline=False, edl=False))
    db.commit()
    real, made = package.products.copy_movie, []

    def second(source, target, **more):
        if made:
            raise StoppedError("stopped before its movie was whole")
        made.append(real(source, target, **more))

    with monkeypatch.context() as stop:
        stop.setattr(package.products, "copy_movie", second)
        package.make(db, settings, row.id)
    assert row.state == "stopped"
    folder = package.place_of(settings, row)
    first = {"sound/A006_001.wav", "movies/A006_001.mov"}
    assert handed_over(folder) == first
    before = {name: (folder / name).stat().st_mtime_ns for name in first}
    turnover.go_on(db, settings, row.id)
    package.make(db, settings, row.id)
    final = Path(row.folder)
    assert handed_over(final) == first | {"sound/A006_002.wav", "movies/A006_002.mov"}
    assert {name: (final / name).stat().st_mtime_ns for name in first} == before
    assert not list(final.rglob("*.part"))


def test_a_disk_that_fills_at_the_last_document_leaves_nothing_that_looks_finished(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")
    row = turnover.plan(db, settings, day, Recipe(aaf=True, pdf=True))
    db.commit()

    def full(*_, **__):
        raise StorageError(Path(row.folder), "No space left on device")

    with monkeypatch.context() as disk:
        disk.setattr("vesk.actions.handover.documents.hash_list.hash_file", full)
        with pytest.raises(StorageError):
            package.make(db, settings, row.id)
    assert (row.state, "No space left" in row.problem) == ("failed", True)
    assert not Path(row.folder).exists()
    made = (package.place_of(settings, row) / "sound/A006_001.wav").stat().st_mtime_ns
    turnover.go_on(db, settings, row.id)
    package.make(db, settings, row.id)
    assert row.state == "done"
    assert (Path(row.folder) / "sound/A006_001.wav").stat().st_mtime_ns == made  # what stood is not made twice
    assert hash_list.verify(Path(row.folder), next(Path(row.folder).glob("ascmhl/*.mhl"))) == []


def test_a_picture_that_is_retimed_goes_out_as_it_plays_with_the_sound_as_recorded(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    now = only(db, day, "A006_001.mov")
    slip, version, ppm = now.as_corrected.slip, now.pairing.version, Fraction(400)
    correct.set_own(db, settings, now.pairing.id, version=version, slip=slip, ppm=ppm, retimed=Kind.PICTURE)
    now = only(db, day, "A006_001.mov")
    correct.check(db, settings, now.pairing.id, version=now.pairing.version)
    db.commit()
    row, folder = hand_over(db, settings, day, Recipe(movies=True, timeline=False, edl=False))
    assert handed_over(folder) == {"sound/A006_001.wav", "movies/A006_001.mov"}
    line = report_of(folder)["A006_001.mov"]
    assert (line["delivered"], line["retimed"]) == ("yes", "picture")
    stretch = now.timed_as.stretch
    assert abs(abs(float(stretch) - 1) - 400e-6) < 1e-6
    assert same_picture(Path(day.folder, now.picture.path), folder / "movies/A006_001.mov", stretch)
    facts = read_facts(folder / "movies/A006_001.mov")
    with soundfile.SoundFile(folder / "sound/A006_001.wav") as sound:
        assert facts.channels == sound.channels  # the camera's own would not fit
        assert abs(sound.frames - now.picture.duration * stretch * 48_000) <= 1
    assert facts.timecode == now.picture.facts.timecode
    (made,) = [one for one in turnovers.deliveries(db, row.id) if one.product == Product.MOVIE and one.written]
    assert "without the camera's own sound" in made.written.remark


def test_what_is_undone_while_copies_are_made_goes_out_again(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")
    checked(db, settings, day, "A006_002.mov")
    now = only(db, day, "A006_001.mov")

    def undo():
        with open_session(settings.sqlalchemy_url) as theirs:
            row = pairings.get(theirs, now.pairing.id)
            correct.undo(theirs, settings, row.id, version=row.version)
            theirs.commit()

    monkeypatch.setattr(package, "_finish", lambda *args, own=package._finish: (undo(), own(*args)))
    row, folder = hand_over(db, settings, day, Recipe(originals=True, timeline=False, edl=False))
    assert handed_over(folder) == {
        "sound/A006_002.wav", "originals/A006 main camera/A006_002.mov", "originals/S1 sound roll 6/31A_02.wav",
    }  # fmt: skip
    gone = [one for one in turnovers.deliveries(db, row.id) if one.product == Product.ORIGINAL and not one.name]
    assert len(gone) == 2
    assert all("undone or changed while this was made" in one.reason for one in gone)


def test_copies_of_a_take_do_not_make_it_changed(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    hand_over(db, settings, day, Recipe(originals=True, timeline=False, edl=False))
    row, folder = hand_over(db, settings, day, Recipe(which=Which.CHANGED))
    assert handed_over(folder) == set()
    assert any("unchanged since the turnover of" in one.reason for one in turnovers.deliveries(db, row.id))


def test_a_stop_during_the_last_copy_is_a_stop(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    row = turnover.plan(db, settings, day, Recipe(sound=SoundForm.NONE, originals=True, timeline=False, edl=False))
    db.commit()
    asked = []

    def once_told(done, _total):
        asked.append(done)
        return len(asked) < 3

    with pytest.MonkeyPatch.context() as often:
        often.setattr(package, "_OFTEN_S", -1.0)
        package.make(db, settings, row.id, once_told)
    assert row.state == "stopped"
    assert not Path(row.folder).exists()
    turnover.go_on(db, settings, row.id)
    package.make(db, settings, row.id)
    assert (row.state, len(handed_over(Path(row.folder)))) == ("done", 2)
    assert row.says.startswith(
        "Nothing of it was laid on a picture, so nothing was measured again; 2 files, each whole"
    )


def test_a_timeline_that_reads_back_otherwise_is_the_first_thing_that_is_said(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")
    real = package.documents.read_otio
    monkeypatch.setattr(package.documents, "read_otio", lambda path: real(path)[1:])
    row, folder = hand_over(db, settings, day, Recipe(edl=False))
    assert row.says.startswith("IT DOES NOT HOLD: day.otio reads back as")
    assert (folder / "READ ME.txt").read_text(encoding="utf-8").startswith("IT DOES NOT HOLD: day.otio")


def test_a_movie_of_another_picture_is_never_handed_over(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")
    real = package.products.copy_movie

    def worse(source, target, **more):
        other = next(Path(day.folder).rglob("A006_002.mov"))
        real(other, target, **more)

    monkeypatch.setattr(package.products, "copy_movie", worse)
    row, folder = hand_over(db, settings, day, Recipe(movies=True, timeline=False, edl=False))
    assert handed_over(folder) == {"sound/A006_001.wav"}
    reasons = {one.reason for one in turnovers.deliveries(db, row.id) if one.product == Product.MOVIE}
    assert any("its picture is not the original's" in reason for reason in reasons)


def test_figures_that_do_not_hold_are_the_first_thing_that_a_package_says(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")
    real = package.products.delivering.measure_again

    def late(*args, **more):
        found, why = real(*args, **more)
        return type(found)(*(one + 0.5 for one in found.all)), why

    monkeypatch.setattr(package.products.delivering, "measure_again", late)
    row, folder = hand_over(db, settings, day, Recipe(timeline=False, edl=False))
    assert row.says.startswith("IT DOES NOT HOLD: sound/A006_001.wav")
    assert (folder / "READ ME.txt").read_text().startswith("IT DOES NOT HOLD")


def test_a_recipe_is_kept_for_the_production_and_one_that_cannot_be_is_refused(db, settings, day):
    kept = recipes.keep(db, settings, day, " editor ", Recipe(movies=True))
    with pytest.raises(StaleError, match="There is a recipe 'editor' already"):
        recipes.keep(db, settings, day, "editor", Recipe(movies=False))
    again = recipes.keep(db, settings, day, "editor", Recipe(movies=False), version=kept.version)
    with pytest.raises(StaleError, match="Somebody else changed the recipe 'editor'"):
        recipes.keep(db, settings, day, "editor", Recipe(movies=True), version=again.version - 1)
    assert kept.id == again.id
    assert [(one.name, one.recipe.movies) for one in recipes.of_day(db, day)] == [("editor", False)]
    assert any("recipe 'editor' kept" in one.what for one in journal.of_day(db, day.id))
    nothing = Recipe(sound=SoundForm.NONE, timeline=False, edl=False)
    for name, recipe in (("", Recipe()), ("x", Recipe(pattern="{who}")), ("x", Recipe(handles=-1)), ("x", nothing)):
        with pytest.raises(RefusedError):
            recipes.keep(db, settings, day, name, recipe)
    with pytest.raises(RefusedError, match="none of the folders"):
        turnover.plan(db, settings, day, Recipe(), root="/etc")
    view = Overview(db, day)
    assert view.solution is not None


def test_every_source_is_held_against_its_hash_before_anything_is_made(db, settings, day, monkeypatch):
    for name in ("A006_001.mov", "A006_002.mov"):
        checked(db, settings, day, name)
    # The second take's sound holds other bytes, of the same size, than were taken in.
    other = Path(day.folder, only(db, day, "A006_002.mov").sound.path)
    content = bytearray(other.read_bytes())
    content[-1000] ^= 1
    stood = other.stat()
    other.write_bytes(content)
    os.utime(other, ns=(stood.st_atime_ns, stood.st_mtime_ns))
    told = []
    read, make = checksum.content_of, products.make_take

    def reading(path, *more, **named):
        told.append(path.name)
        return read(path, *more, **named)

    def making(*more):
        told.append("made")
        return make(*more)

    monkeypatch.setattr(checksum, "content_of", reading)
    monkeypatch.setattr(products, "make_take", making)
    _, folder = hand_over(db, settings, day, Recipe())
    assert told.count("made") == 1
    before = told[: told.index("made")]
    assert {"A006_001.mov", "A006_002.mov", "31A_01.wav", "31A_02.wav"} <= set(before)
    assert before.count("31A_01.wav") == told.count("31A_01.wav") == 1  # and what holds is read once for that
    assert handed_over(folder) == {"sound/A006_001.wav"}
    assert "31A_02.wav: it holds other bytes than were checked" in report_of(folder)["A006_002.mov"]["reason"]


@pytest.mark.parametrize(("name", "made"), [("C001.mp4", "C001.mov"), ("S9.flac", "S9.wav"), ("S8.wav", "S8.wav")])
def test_what_cannot_hold_its_true_timecode_or_silence_goes_out_as_what_can(tmp_path, settings, name, made):
    source = tmp_path / name
    if name.endswith(".flac"):
        soundfile.write(source, np.random.default_rng(4).uniform(-0.5, 0.5, (48_000, 2)), 48_000, subtype="PCM_24")
    elif name.endswith(".wav"):
        noise = np.random.default_rng(4).uniform(-0.5, 0.5, (48_000, 2))
        soundfile.write(source, noise, 48_000, subtype="IMA_ADPCM")
    else:
        movie(source, sound="aac", streams=(2,))
    facts, before = read_facts(source), source.read_bytes()
    content = name.encode().hex().ljust(32, "d")
    place = Located(source, facts, cache.entry_of(settings.cache, content))
    if facts.coded:
        place.ensure_heard()
    row = Recording(id=7, day_id=1, path=name, name=name, size=1, modified_ns=1, content=content, kind=facts.kind)
    wanted = copies.Copy(row, Product.TIMECODE, "", "", Fraction(49_200) + Fraction(1, 5), (1,))
    package_folder = tmp_path / "package"
    written = copies.make(package_folder, wanted, place, products.Names(), lambda: True)
    target = package_folder / written.name
    assert written.name == f"timecode/{made}"
    assert {path.name for path in package_folder.rglob("*") if path.is_file()} == {made}
    assert source.read_bytes() == before
    own, sounds = _sound_of(source), _sound_of(target)
    assert not sounds[:, 1].any()
    assert np.abs(sounds[: len(own), 0] - own[: len(sounds), 0]).max() < 2**-22
    if made.endswith(".mov"):
        assert same_picture(source, target)
        assert read_facts(target).timecode == "13:40:00:05"
        assert "which was coded together with its LTC" in written.remark
    else:
        assert read_facts(target).time_reference == 49_200 * 48_000 + 9600
        assert (
            "as WAV, since FLAC holds none" if "flac" in name else "as PCM, since its sound is coded"
        ) in written.remark


def _sound_of(path):
    if path.suffix in {".wav", ".flac"}:
        return soundfile.read(path, dtype="float32", always_2d=True)[0]
    return np.concatenate(list(sound_blocks(path)))
