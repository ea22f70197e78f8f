"""Make a turnover: a package that says it is unfinished until every file in it is made, measured and verified.

Each take's file is recorded as soon as it stands, so that what was made outlives whoever made it; making goes on
where it ended, keeps what still rests on what stands, and makes the rest. Only a whole package gets its name.
"""

from __future__ import annotations

import json
import os
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session

from vesk.actions import measuring, turnover
from vesk.actions.facts import facts_of
from vesk.actions.locating import located
from vesk.actions.pairing_status import CHECKED, SET_ASIDE, PairingStatus
from vesk.actions.turnover import Item
from vesk.core.conform.written import Written
from vesk.core.errors import MediaError, RefusedError, StorageError, VeskError
from vesk.core.kinds import WorkState
from vesk.core.progress import OnProgress, unwatched
from vesk.core.wording import signed
from vesk.dailies import delivering
from vesk.dailies.located import Located
from vesk.dailies.report_lines import write_report
from vesk.media import checksum, scan
from vesk.settings import Settings
from vesk.store import changes, days, journal, recordings, turnovers
from vesk.store.tables import Day, Delivery, Recording, Turnover

UNFINISHED = " (unfinished)"
_NOTE = "UNFINISHED.txt"
_SAYS = (
    "This package is not finished. Vesk is making it, or was stopped; its page Turnover says which.\n"
    "Hand nothing over from here: what is whole lies in the folder without 'unfinished' in its name.\n"
)


def place_of(row: Turnover) -> Path:
    """Return where a turnover's files lie now: in its folder once it is done."""
    final = Path(row.folder)
    return final if row.state == "done" or final.exists() else final.with_name(final.name + UNFINISHED)


def make(session: Session, settings: Settings, turnover_id: int, on_progress: OnProgress = unwatched) -> None:
    """Make a turnover, or go on with it: every ready take delivered and measured again, then the report of all.

    One take that fails costs only itself. A turnover that fails says so and why.

    Raises
    ------
    VeskError
        If the package as a whole could not be made, e.g. the disk is full.
    """
    try:
        _make(session, settings, turnover_id, on_progress)
    except SQLAlchemyError:
        raise  # the database went away: nothing is known to be wrong, and it is tried again
    except Exception as error:
        session.rollback()
        row = turnovers.get(session, turnover_id)
        row.state = WorkState.FAILED
        row.problem = str(error) if isinstance(error, VeskError) else _INSIDE
        session.add(row)
        session.commit()
        raise


_INSIDE = "An error inside Vesk stopped this; what was made is kept, and it can go on. See the worker's log."


@dataclass
class _Making:
    """What the making of one package needs at every step."""

    settings: Settings
    day: Day
    project: str
    row: Turnover
    folder: Path
    on_progress: OnProgress
    kept: dict[int, Delivery]
    taken: set[str] = field(default_factory=set)
    stopped: bool = False


def _make(session: Session, settings: Settings, turnover_id: int, on_progress: OnProgress) -> None:
    row = turnovers.get(session, turnover_id)
    day = days.get_day(session, row.day_id)
    changes.hold(session, day.id)
    row.state, row.problem = WorkState.RUNNING, ""
    session.add(row)
    listed = turnover.items(session, day)
    ids = {n for item in listed if not item.obstacle for now in item.pairings for n in (now.picture.id, now.sound.id)}
    project = days.get_production(session, day.production_id).name
    kept = {one.picture_id: one for one in turnovers.deliveries(session, turnover_id)}
    changes.rest(session)
    making = _Making(settings, day, project, row, _opened(row), on_progress, kept)
    making.taken |= {one.name.casefold() for one in kept.values() if one.name}
    for number in sorted(number for number in ids if number):
        try:
            measuring.learn_contents(session, settings, [number])
        except MediaError:
            continue  # its own take will say so
    listed = turnover.items(session, day)
    changes.rest(session)
    for count, item in enumerate(listed):
        making.stopped = making.stopped or not on_progress(count, len(listed))
        _make_item(session, making, item, (count, len(listed)))
    if making.stopped:
        changes.hold(session, day.id)
        row = turnovers.get(session, turnover_id)
        row.state, row.problem = WorkState.STOPPED, "It was stopped; what was made is kept, and it can go on."
        session.add(row)
        changes.rest(session)
        return
    _finish(session, making)


def _opened(row: Turnover) -> Path:
    folder = Path(row.folder).with_name(Path(row.folder).name + UNFINISHED)
    try:
        if Path(row.folder).exists() and not folder.exists():
            Path(row.folder).rename(folder)  # ended between its naming and the row that says so
        folder.mkdir(parents=True, exist_ok=True)
        (folder / _NOTE).write_text(_SAYS, encoding="utf-8")
    except OSError as error:
        raise StorageError(folder, error.strerror or str(error)) from error
    return folder


@dataclass(frozen=True, slots=True)
class _PictureFile:
    """One file of a camera take: where it begins on the take's picture time, seconds; `place` is None if unreadable."""

    recording_id: int
    path: str
    place: Located | None
    begins: Fraction


def _on_picture(session: Session, making: _Making, picture: Recording) -> list[_PictureFile]:
    if picture.state != "ready":
        return [_PictureFile(picture.id, picture.path, None, Fraction(0))]
    placed = delivering.files_of(located(session, making.settings, making.day, picture))
    files = [(one.id, one.path) for one in measuring.files_of(session, picture)]
    return [_PictureFile(number, path, place, at) for (number, path), (place, at) in zip(files, placed, strict=True)]


def _channels(active: list[PairingStatus]) -> tuple[int, int] | None:
    """Return the channels of picture and sound that a take was measured with."""
    found = next((now.found for now in active if now.found is not None and now.found.line is not None), None)
    return None if found is None else (found.picture_channel, found.channel)


def _rests_on(item: Item) -> str:
    """Return all that a delivered file follows from, so that it can be told whether it still does."""
    return json.dumps([
        [now.pairing.id, now.correction.id if now.correction else None,
         [one.id for one in now.scoped], now.check.id if now.check else None,
         str(now.pairing.offset), now.late_s, now.picture.content, now.sound.content, *item.scene_take]
        for now in item.pairings if now.state == CHECKED
    ])  # fmt: skip


def _make_item(session: Session, making: _Making, item: Item, at: tuple[int, int]) -> None:
    """Deliver one camera take, file by file; each is recorded at once."""
    rests_on = _rests_on(item)
    for file in _on_picture(session, making, item.picture):
        old = making.kept.get(file.recording_id)
        whole = making.folder / old.name if old is not None and old.name else None
        if old is not None and whole is not None:
            if not item.obstacle and _rested_on(old) == rests_on and _is_whole(whole, old):
                continue
            _take_away(whole)  # it says what does not stand any more
            making.taken.discard(whole.name.casefold())
        delivery = old or Delivery(turnover_id=making.row.id, picture_id=file.recording_id)
        delivery.name, delivery.written, delivery.reason = "", None, item.obstacle
        if making.stopped and not item.obstacle:
            delivery.reason = "stopped before its turn"
        elif not item.obstacle:
            try:
                delivery.written = replace(_make_one(session, making, item, file, at), rests_on=rests_on)
                delivery.name = delivery.written.name
            except delivering.StoppedError as error:
                making.stopped, delivery.reason = True, str(error)
            except StorageError:
                raise
            except VeskError as error:
                delivery.reason = str(error)
        session.add(delivery)
        session.commit()


def _rested_on(delivery: Delivery) -> str:
    return delivery.written.rests_on if delivery.written else ""


def _is_whole(path: Path, delivery: Delivery) -> bool:
    try:
        return delivery.written is not None and checksum.whole_hash(path) == delivery.written.content
    except MediaError:
        return False


def _take_away(path: Path) -> None:
    try:
        path.unlink(missing_ok=True)
    except OSError as error:
        raise StorageError(path, error.strerror or str(error)) from error


def _signed(session: Session, making: _Making, rows: list[Recording], *, anew: bool) -> dict[Path, str]:
    """Return how files lie that hold, byte for byte, what was taken in and checked.

    Raises
    ------
    MediaError
        If one does not.
    """
    lies = {}
    for row in [file for one in rows for file in measuring.files_of(session, one)]:
        place = located(session, making.settings, making.day, row)
        measuring.lies_as_taken_in(place, row)
        told = checksum.unread(place.file)
        if checksum.content_of(place.file, making.settings.cache, anew=anew) != row.content:
            changes.hold(session, making.day.id)
            # Its size and time tell nothing: the next intake reads it all the same.
            recordings.get(session, row.id).modified_ns = 0
            changes.rest(session)
            raise MediaError(place.path, "it holds other bytes than were checked", _ANEW)
        lies[place.path] = told
    return lies


_ANEW = "Take the folder in again, measure the take and check it anew."


def _finish(session: Session, making: _Making) -> None:
    """Verify every file, write the report, and give the package its name: in this order, under the day's lock.

    Whatever was undone while it was made goes out again, and is named in the report.
    """
    for one in turnovers.deliveries(session, making.row.id):
        if one.name and not _is_whole(making.folder / one.name, one):
            raise MediaError(making.folder / one.name, "it changed after it was made", "Let the turnover go on.")
    changes.hold(session, making.day.id)
    row = turnovers.get(session, making.row.id)
    held = {one.picture_id: one for one in turnovers.deliveries(session, row.id)}
    lines, names = [], {"report.csv"}
    for item in turnover.items(session, making.day):
        rests_on = _rests_on(item)
        for file in _on_picture(session, making, item.picture):
            one = held.get(file.recording_id) or Delivery(turnover_id=row.id, picture_id=file.recording_id)
            if one.name and (item.obstacle or _rested_on(one) != rests_on):
                one.reason = item.obstacle or "it was changed while this was made: make a turnover again"
                one.name, one.written = "", None
            elif not one.name and not one.reason:
                one.reason = item.obstacle or "it was checked after this was begun: make a turnover again"
            session.add(one)
            names |= {one.name} - {""}
            lines.append(_line(item, file, one))
    write_report(making.folder / "report.csv", lines)
    try:
        for path in making.folder.iterdir():
            if path.name not in names:
                path.unlink()
        making.folder.rename(row.folder)
    except OSError as error:
        raise StorageError(making.folder, error.strerror or str(error)) from error
    row.state, row.problem = WorkState.DONE, ""
    session.add(row)
    done = sum(1 for line in lines if line["delivered"] == "yes")
    what = f"turnover of {done} takes made in {row.folder}"
    journal.note(session, day_id=row.day_id, by=making.settings.person, what=what)
    session.commit()


def _make_one(session: Session, making: _Making, item: Item, file: _PictureFile, at: tuple[int, int]) -> Written:
    settings, day = making.settings, making.day
    picture = file.place or located(session, settings, day, item.picture)
    active = [now for now in item.pairings if now.state == CHECKED]
    sounds = [located(session, settings, day, now.sound) for now in active]
    lies = _signed(session, making, [recordings.get(session, file.recording_id)], anew=False)
    lies |= _signed(session, making, [now.sound for now in active], anew=True)
    changes.rest(session)
    stretch = _stretch(active)
    laid = [
        delivering.Laid(sound, now.timed_as.laid.shifted(-file.begins * stretch))
        for sound, now in zip(sounds, active, strict=True)
    ]
    scene, take = item.scene_take
    stem = scan.as_text(picture.path.stem)
    name = f"{stem}.wav"
    if name.casefold() in making.taken:
        name = f"{item.source}_{stem}_{file.recording_id}.wav"
    making.taken.add(name.casefold())
    made = delivering.deliver(
        picture, laid, making.folder / name, scene=scene, take=take, project=making.project, shot_on=day.shot_on,
        stretch=stretch, go_on=lambda: making.on_progress(*at),
    )  # fmt: skip
    changed = next((path for path, told in lies.items() if not path.exists() or checksum.unread(path) != told), None)
    if changed is not None:
        _take_away(making.folder / name)
        raise MediaError(changed, "it changed while it was read", _ANEW)
    residual, why = delivering.measure_again(
        made.path,
        picture,
        late_s=active[0].late_s,
        workplace=settings.cache / f"again-{os.getpid()}",
        channels=_channels(active),
        stretch=stretch,
    )
    remarks = [made.remark, *map(_placed_by_clock, active), *(now.as_corrected.mends for now in active)]
    return Written(
        name,
        checksum.whole_hash(made.path),
        made.samples,
        made.sample_rate,
        made.channels,
        made.time_reference,
        "; ".join(filter(None, remarks)),
        residual.all if residual else None,
        why,
        float(active[0].tolerance.seconds(active[0].fps)),
    )


def _stretch(active: list[PairingStatus]) -> Fraction:
    """Return how many seconds a take's picture plays for one as recorded.

    Raises
    ------
    RefusedError
        If its sounds want it to play at different rates.
    """
    found = {now.timed_as.stretch for now in active}
    if len(found) > 1:
        rates = ", ".join(sorted(f"{now.sound.name}: {float(now.timed_as.fps):.6f}" for now in active))
        raise RefusedError(
            f"its sounds ask for different rates of one picture ({rates} frames a second). Take the picture for the "
            "truth in all but one of them"
        )
    return found.pop() if found else Fraction(1)


def _placed_by_clock(now: PairingStatus) -> str:
    """Return the remark of a take that no one heard; empty for any other."""
    place = now.judged.place
    if not now.by_clock or place is None:
        return ""
    band = signed(1.96 * place.se_s * float(now.fps), 2).lstrip("+")
    return f"{now.sound.name}: placed by clock, within {band} f (95 %); nobody heard it"


def _line(item: Item, file: _PictureFile, delivery: Delivery) -> dict[str, Any]:
    facts = file.place.facts if file.place else facts_of(item.picture) if item.picture.facts else None
    scene, take = item.scene_take if facts else ("", "")
    active = [now for now in item.pairings if now.state != SET_ASIDE]
    made = delivery.written
    residual = (made.residual_s if made else None) or (None, None, None)

    def each(values: list[str]) -> str:
        return " + ".join(values)

    return {
        "scene": scene,
        "take": take,
        "source": item.source,
        "picture": file.path,
        "start": facts.timecode if facts else "",
        "frames": facts.frames if facts else "",
        "fps": str(facts.fps) if facts else "",
        "sound": each([now.sound.path for now in active]),
        "delivered": "yes" if delivery.name else "no",
        "file": delivery.name,
        "reason": delivery.reason or (made.residual_reason if made else ""),
        "found": each([now.as_recorded.cause if now.as_recorded else "not measured" for now in active]),
        "cause": each([now.verdict.cause if now.verdict else "not measured" for now in active]),
        "slip_s": each([f"{float(now.as_corrected.slip):+.6f}" for now in active]),
        "slip_frames": each([f"{float(now.as_corrected.slip * now.fps):+.3f}" for now in active]),
        "rate_ppm": each([f"{float(now.as_corrected.ppm):+.3f}" for now in active]),
        "retimed": each([now.as_corrected.retimed for now in active]),
        "picture_rate": each(list(dict.fromkeys(_ratio(now.timed_as.fps) for now in active))),
        "placed_by": each([now.placed_by for now in active]),
        "samples": made.samples if made else "",
        "time_reference": made.time_reference if made else "",
        "residual_head_ms": _ms(residual[0]),
        "residual_middle_ms": _ms(residual[1]),
        "residual_tail_ms": _ms(residual[2]),
        "checked_by": each([now.check.made_by for now in active if now.check]),
        "remark": made.remark if made else "",
    }


def _ratio(rate: Fraction) -> str:
    return f"{rate.numerator}/{rate.denominator}"


def _ms(seconds: float | None) -> str:
    return "" if seconds is None else signed(seconds * 1000, 3).replace("\N{MINUS SIGN}", "-")
