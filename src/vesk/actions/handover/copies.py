"""What is made of recordings by themselves: copies with true timecode, sound recordings cut to what is used."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from sqlmodel import Session

from vesk.actions import measuring
from vesk.actions.channels import channels_of
from vesk.actions.facts import facts_of
from vesk.actions.handover.products import FOLDERS, WORK, Names
from vesk.actions.pairing_status import CHECKED
from vesk.actions.turnover import Item
from vesk.core.conform.written import Written
from vesk.core.errors import MediaError, RefusedError, StoppedError
from vesk.core.facts import Facts
from vesk.core.handover.naming import named
from vesk.core.handover.recipe import Product, Recipe, SoundForm
from vesk.core.kinds import LTC, PICTURE
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.timemap import pieces_of
from vesk.dailies import delivering
from vesk.dailies.located import Located
from vesk.media import checksum, ixml, scan, wave
from vesk.media.movie_copy import LaidTrack, carried_by, coded_with_others, copy_movie
from vesk.media.movie_sound import sound_blocks
from vesk.media.wave_copy import copy_wave
from vesk.media.whole import have_folder, written_whole
from vesk.store import days, recordings
from vesk.store.tables import Day, Recording

_BLOCK = 8 << 20


@dataclass(frozen=True, slots=True)
class Copy:
    """A recording that is copied.

    Attributes
    ----------
    row : Recording
    product : Product
        Its true timecode written, or its sound cut.
    obstacle : str
        Why it cannot be; empty where it can.
    rests_on : str
    start : Fraction
        Real seconds of the label clock: by its LTC where its true timecode is written, by its file where it is cut.
    silent : tuple of int
        Channels that carry timecode.
    cut : tuple of (int, int)
        First and past-the-last sample of what is used, where it is cut.
    channels : tuple of int
        That go out, where it is cut.
    pattern : str
        Of its name, where it is cut.
    values : tuple of (str, str)
        What the words of a pattern stand for.
    """

    row: Recording
    product: Product
    obstacle: str
    rests_on: str
    start: Fraction = Fraction(0)
    silent: tuple[int, ...] = ()
    cut: tuple[int, int] = (0, 0)
    channels: tuple[int, ...] = ()
    pattern: str = ""
    values: tuple[tuple[str, str], ...] = ()


def wanted(session: Session, day: Day, recipe: Recipe, listed: Sequence[Item]) -> Iterator[Copy]:
    """Return what a recipe asks of recordings by themselves.

    Parameters
    ----------
    session, day
    recipe : Recipe
    listed : sequence of Item
        The day's takes.
    """
    if recipe.sound == SoundForm.RECORDING:
        yield from _cuts(day, recipe, listed)
    if recipe.originals:
        used = [own for one in listed if not one.obstacle for own in (one.picture, *_sounds(one))]
        files = {file.id: file for own in used for file in measuring.files_of(session, own)}
        for file in files.values():
            yield Copy(file, Product.ORIGINAL, "", file.content)
    if recipe.timecode:
        for row in recordings.ready_of_day(session, day.id):
            if row.clock == LTC and row.heard is not None and row.heard.ltc and not row.merged:
                best = row.heard.best_ltc()
                if best is None:
                    continue
                coded = best[1]
                rests_on = json.dumps([row.content, str(coded.start), sorted(row.heard.ltc)])
                yield Copy(row, Product.TIMECODE, "", rests_on, coded.start, tuple(sorted(row.heard.ltc)))


def _sounds(item: Item) -> list[Recording]:
    return [now.sound for now in item.pairings if now.state == CHECKED]


def _cuts(day: Day, recipe: Recipe, listed: Sequence[Item]) -> Iterator[Copy]:
    """Return the sound recordings that checked takes use, cut to that, with handles."""
    used: dict[int, list[tuple[Item, int]]] = {}
    for item in listed:
        for index, now in enumerate(item.pairings):
            if now.state == CHECKED and not item.obstacle:
                used.setdefault(now.sound.id, []).append((item, index))
    for own in used.values():
        item, index = own[0]
        first = item.pairings[index]
        row = first.sound
        facts = facts_of(row)
        rate = facts.sample_rate
        spans = []
        for other, at in own:
            now = other.pairings[at]
            shown = now.picture.duration
            for low, high, piece in pieces_of(now.laid):
                begin, end = piece.inverse()(Fraction(0)), piece.inverse()(shown)
                spans.append((begin if low is None else max(begin, low), end if high is None else min(end, high)))
        handle = Fraction(recipe.handles) / day.fps
        cut = (
            max(0, floor((min(low for low, _ in spans) - handle) * rate)),
            min(facts.samples, ceil((max(high for _, high in spans) + handle) * rate)),
        )
        obstacle = ""
        chosen: tuple[int, ...] = ()
        try:
            chosen = channels_of(recipe, first)
        except RefusedError as error:
            obstacle = str(error)
        scene, take = item.scene_take
        values = (
            ("picture", scan.as_text(Path(row.name).stem)), ("sound", scan.as_text(Path(row.name).stem)),
            ("scene", scene), ("take", take), ("camera", item.source), ("recorder", first.sound_source.tag),
            ("reel", facts.tape), ("day", str(day.number)), ("date", day.shot_on.isoformat()),
        )  # fmt: skip
        rests_on = json.dumps([row.content, cut, chosen, recipe.pattern])
        yield Copy(
            row, Product.SOUND, obstacle, rests_on, facts.start(days.rate_of(day))[0] or Fraction(0), cut=cut,
            channels=chosen, pattern=recipe.pattern, values=values,
        )  # fmt: skip


def make(folder: Path, copy: Copy, place: Located, names: Names, go_on: Callable[[], bool]) -> Written:
    """Make one, and return what it is.

    Parameters
    ----------
    folder : Path
        Of the package.
    copy : Copy
    place : Located
        Of its recording.
    names : Names
    go_on : callable
        Asked between blocks.
    """
    home = FOLDERS[copy.product]
    have_folder(folder / home)
    if copy.product == Product.SOUND:
        return _cut(folder, copy, place, names, go_on)
    if copy.product == Product.ORIGINAL:
        return _original(folder, copy, place, names, go_on)
    return _with_timecode(folder, copy, place, names, go_on)


def _original(folder: Path, copy: Copy, place: Located, names: Names, go_on: Callable[[], bool]) -> Written:
    """Copy a file as it is, byte for byte, below a folder of its own."""
    facts = place.facts
    name = f"{FOLDERS[Product.ORIGINAL]}/{copy.row.path}"
    target = folder / name
    if not target.resolve().is_relative_to(folder.resolve()):
        raise RefusedError(f"{copy.row.path} would lie outside the package: it is left out")
    have_folder(target.parent)
    stat = place.file.stat()
    with written_whole(target) as part, place.file.open("rb") as file, part.open("wb") as out:
        while block := file.read(_BLOCK):
            if not go_on():
                raise StoppedError("stopped before its copy was whole")
            out.write(block)
    os.utime(target, ns=(stat.st_atime_ns, stat.st_mtime_ns))
    content = checksum.whole_hash(target)
    if content != copy.row.content:
        target.unlink()
        raise MediaError(place.path, "its copy holds other bytes than were taken in", "Take the folder in again.")
    names.taken.add(name.casefold())
    return Written(name, content, facts.samples, facts.sample_rate, facts.channels, 0, "as it is, byte for byte")


def _cut(folder: Path, copy: Copy, place: Located, names: Names, go_on: Callable[[], bool]) -> Written:
    facts = place.facts
    begin, end = copy.cut
    name = names.give(FOLDERS[Product.SOUND], named(copy.pattern, dict(copy.values)), ".wav", str(copy.row.id))
    reference = round(copy.start * facts.sample_rate) + begin
    known = facts.track_names if len(facts.track_names) == facts.channels else ()
    tracks = tuple(known[n] if known else f"channel {n + 1}" for n in copy.channels)
    values = dict(copy.values)
    info = ixml.IXml(
        scene=values["scene"], take=values["take"], tape=facts.tape, note=facts.note, track_names=tracks,
        timecode_rate=facts.timecode_rate, drop=facts.drop, circled=facts.circled,
    )  # fmt: skip
    bext = wave.Bext(
        description=f"{values['scene']} / {values['take']}", originator="Vesk",
        originator_reference=values["sound"], date=values["date"], time="00:00:00", time_reference=reference,
        history=f"A=PCM,F={facts.sample_rate},W=24,T=samples {begin} to {end} of {copy.row.name}\r\n",
    )  # fmt: skip
    with place.reader() as reader:
        blocks = (
            reader.read(at, min(delivering.BLOCK, end - at))[:, list(copy.channels)]
            for at in range(begin, end, delivering.BLOCK)
        )
        wave.write_wave(
            folder / name, delivering.until(blocks, go_on), sample_rate=facts.sample_rate, channels=len(copy.channels),
            bext=bext, ixml=ixml.build(info, sample_rate=facts.sample_rate, time_reference=reference),
        )  # fmt: skip
    return Written(
        name, checksum.whole_hash(folder / name), end - begin, facts.sample_rate, len(copy.channels), reference,
        "as recorded, cut to what is used",
    )  # fmt: skip


def _with_timecode(folder: Path, copy: Copy, place: Located, names: Names, go_on: Callable[[], bool]) -> Written:
    if place.facts.kind == PICTURE:
        return _movie_with_timecode(folder, copy, place, names, go_on)
    facts = place.facts
    name = names.give(FOLDERS[Product.TIMECODE], scan.as_text(place.path.stem), ".wav", str(copy.row.id))
    reference = round(copy.start * facts.sample_rate)
    said = "its time reference by its LTC"
    ending = place.path.suffix[1:].upper()
    if ending == "WAV" and not facts.coded:
        copy_wave(place.file, folder / name, time_reference=reference, silent=copy.silent, go_on=go_on)
    else:
        bext = wave.Bext(originator="Vesk", originator_reference=place.path.stem, time_reference=reference)
        _write_wave(folder / name, _read(place), copy.silent, facts, go_on, bext)
        said += "; as PCM, since its sound is coded" if ending == "WAV" else f"; as WAV, since {ending} holds none"
    return Written(
        name, checksum.whole_hash(folder / name), facts.samples, facts.sample_rate, facts.channels, reference, said
    )


def _movie_with_timecode(folder: Path, copy: Copy, place: Located, names: Names, go_on: Callable[[], bool]) -> Written:
    facts = place.facts
    carried = carried_by(place.path, facts.codec)
    coded = coded_with_others(place.file, copy.silent)
    ending = place.path.suffix.lower() if place.path.suffix.lower() in {".mov", ".mp4", ".mxf"} else carried.ending
    ending = carried.ending if coded else ending
    name = names.give(FOLDERS[Product.TIMECODE], scan.as_text(place.path.stem), ending, str(copy.row.id))
    clock = FrameRate(facts.timecode_rate or facts.fps or Fraction(25), facts.drop)
    label = str(Timecode.at(copy.start, clock))
    within = float(copy.start * clock.fps - floor(copy.start * clock.fps))
    remark = f"starts at {label} by its LTC" + (f", {within:.2f} f after that label" if within > 0.005 else "")
    if not coded:
        copy_movie(place.file, folder / name, timecode=label, silent=copy.silent, go_on=go_on)
    else:
        plain = have_folder(folder / WORK) / f"{copy.row.id}.wav"
        try:
            _write_wave(plain, sound_blocks(place.file), copy.silent, facts, go_on)
            tracks = [LaidTrack(plain, tuple(range(facts.channels)), "as recorded")]
            copy_movie(place.file, folder / name, tracks=tracks, scratch=False, timecode=label, go_on=go_on)
        finally:
            plain.unlink(missing_ok=True)
        remark += "; its sound, which was coded together with its LTC, as it decodes and without that"
    content = checksum.whole_hash(folder / name)
    return Written(name, content, facts.samples, facts.sample_rate, facts.channels, 0, remark)


def _read(place: Located) -> Iterator[NDArray[np.float32]]:
    place.ensure_heard()
    with place.reader() as reader:
        for at in range(0, reader.frames, delivering.BLOCK):
            yield reader.read(at, min(delivering.BLOCK, reader.frames - at))


def _write_wave(
    target: Path,
    blocks: Iterator[NDArray[np.float32]],
    silent: Sequence[int],
    facts: Facts,
    go_on: Callable[[], bool],
    bext: wave.Bext | None = None,
) -> None:
    """Write sound as it decodes, some of its channels silent."""

    def quiet() -> Iterator[NDArray[np.float32]]:
        for block in blocks:
            made = block.copy()
            made[:, list(silent)] = 0
            yield made

    wave.write_wave(
        target, delivering.until(quiet(), go_on), sample_rate=facts.sample_rate, channels=facts.channels, bext=bext
    )
