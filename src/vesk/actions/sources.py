"""Sources: which recordings belong to which device."""

from __future__ import annotations

import re
from collections.abc import Mapping
from fractions import Fraction

from sqlmodel import Session

from vesk.actions import merging
from vesk.actions.assigning import drop_empty
from vesk.actions.facts import facts_of
from vesk.actions.locating import located
from vesk.core.errors import MediaError, RefusedError, TimecodeError
from vesk.core.kinds import SOUND, Kind
from vesk.core.sound.distance import distance_delay_s
from vesk.core.timecode import FrameRate
from vesk.media.guarded import guarded
from vesk.media.probe import read_facts
from vesk.settings import Settings
from vesk.store import changes, days, journal, recordings, reports
from vesk.store.tables import Day, Recording, Source

_TAG = re.compile(r"[A-Za-z][A-Za-z0-9]{0,3}")
_LONGEST_NAME = 80
_TAG_SAYS = "A source's tag is a letter and up to three letters or digits, like A or S1."


def move(session: Session, settings: Settings, day: Day, versions: Mapping[int, int], *, to_tag: str) -> int:
    """Move recordings to a source, made if its tag is new; a source left empty goes. Returns how many moved.

    `versions` are those of each recording as it was shown.

    Raises
    ------
    StaleError
        If one of them was changed since.
    RefusedError
        If nothing is selected, the tag cannot be, or pictures and sounds would share a source.
    """
    tag = to_tag.strip()
    if not _TAG.fullmatch(tag):
        raise RefusedError(_TAG_SAYS)
    rows = [row for row in recordings.for_change(session, day.id, versions) if row.state == recordings.READY]
    return _move(session, settings, day, rows, tag)


def _move(session: Session, settings: Settings, day: Day, rows: list[Recording], tag: str) -> int:
    if not rows:
        raise RefusedError("None of these can be read: there is nothing to move.")
    kinds = {row.kind for row in rows}
    if len(kinds) > 1:
        raise RefusedError("Pictures and sounds are selected together: a source is a camera or a recorder.")
    kind = facts_of(rows[0]).kind
    target = next((source for source in days.sources(session, day.id) if source.tag == tag), None)
    if target is None:
        target = days.make_source(session, day.id, tag=tag, name=f"source {tag}", kind=kind, folder=_folder_of(rows))
    elif target.kind != kind:
        what = "camera" if target.kind == "picture" else "recorder"
        raise RefusedError(f"{tag} is a {what}: {rows[0].name} cannot be of it.")
    moved = [row for row in rows if row.source_id != target.id]
    for row in moved:
        _move_one(session, row, target)
        changes.count(session, row)
    session.flush()
    drop_empty(session, day)
    names = ", ".join(row.name for row in moved[:4]) + (f" and {len(moved) - 4} more" if len(moved) > 4 else "")
    if moved:
        journal.note(session, day_id=day.id, by=settings.person, what=f"moved {names} to source {tag}")
    return len(moved)


def changed(session: Session, settings: Settings, source: Source, what: str) -> Source:
    """Count a change that a person made to a source, and tell the journal what it was."""
    changes.count(session, source)
    what = f"source {source.tag}: {what}"
    journal.note(session, day_id=source.day_id, by=settings.person, what=what)
    session.flush()
    return source


def describe(
    session: Session,
    settings: Settings,
    source_id: int,
    *,
    version: int,
    name: str,
    distance_m: Fraction,
    delay_ms: Fraction,
) -> Source:
    """Say what is known of a source: its name, how far its microphone stands, how late its sound is on its picture.

    Raises
    ------
    StaleError
        If somebody changed the source since `version`.
    RefusedError
        If a figure cannot be.
    """
    source = days.get_source_for_change(session, source_id, version)
    if not 0 <= distance_m <= 500:
        raise RefusedError("A microphone stands between 0 and 500 m away.")
    if abs(delay_ms) > 500:
        raise RefusedError("An internal sound delay lies within ±500 ms.")
    if len(name) > _LONGEST_NAME:
        raise RefusedError(f"A source's name has {_LONGEST_NAME} characters at most.")
    source.name = name.strip() or source.name
    delay_us = round(delay_ms * 1000)
    if delay_us != source.delay_us:  # a distance alone says nothing of what the camera itself delays
        source.ears_by = settings.person
    source.distance_mm, source.delay_us = round(distance_m * 1000), delay_us
    what = f"microphone {float(distance_m):g} m away, internal sound delay {float(delay_ms):g} ms"
    return changed(session, settings, source, what)


def say_ears(session: Session, settings: Settings, source_id: int, *, version: int, late_s: float | None) -> Source:
    """Say how late a camera hears on its own picture; a person's word stands above what the evidence says.

    Parameters
    ----------
    session : Session
    settings : Settings
    source_id : int
    version : int
        The page's.
    late_s : float or None
        Seconds, its microphone's distance included; None: just as it is entered.

    Raises
    ------
    StaleError
        If somebody changed the source since `version`.
    """
    source = days.get_source_for_change(session, source_id, version)
    if late_s is not None:
        source.delay_us = round((late_s - distance_delay_s(source.distance_mm / 1000)) * 1e6)
    source.ears_by = settings.person
    return changed(
        session, settings, source, f"hears as entered: internal sound delay {source.delay_us / 1000:+.1f} ms"
    )


def forget_ears(session: Session, settings: Settings, source_id: int, *, version: int) -> Source:
    """Take back what was said of a camera's own delay: what the evidence says counts again.

    Raises
    ------
    StaleError
        If somebody changed the source since `version`.
    """
    source = days.get_source_for_change(session, source_id, version)
    source.delay_us, source.ears_by = 0, ""
    return changed(session, settings, source, "what was said of how late it hears is taken back")


def revise(
    session: Session, settings: Settings, source_id: int, *, version: int, tag: str, position: int, rate: str
) -> Source:
    """Give a source its tag, its place among the lanes, and the rate its timecode counts at (empty: as files say).

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    RefusedError
        If the tag cannot be or is another source's, or there is no such rate.
    """
    source = days.get_source_for_change(session, source_id, version)
    wanted = tag.strip()
    if not _TAG.fullmatch(wanted):
        raise RefusedError(_TAG_SAYS)
    others = [one for one in days.sources(session, source.day_id) if one.id != source_id]
    if any(one.tag == wanted for one in others):
        raise RefusedError(f"{wanted} is another source already. To make one of both, use 'Make one of both'.")
    try:
        counts_at = str(FrameRate.parse(rate)) if rate.strip() else ""
    except TimecodeError as error:
        raise RefusedError(f"{error}.") from None
    said = [f"source {source.tag} is {wanted} now"] if wanted != source.tag else []
    if counts_at != source.rate:
        said.append(f"the timecode of {wanted} counts at {counts_at or 'what its files say'}")
    if position != source.position:
        said.append(f"{wanted} stands at place {position}")
    source.tag, source.rate, source.position = wanted, counts_at, position
    changes.count(session, source)
    if said:
        journal.note(session, day_id=source.day_id, by=settings.person, what="; ".join(said))
    session.flush()
    return source


def serve_as(session: Session, settings: Settings, source_id: int, *, version: int, kind: Kind) -> Source:
    """Let a camera serve as a recorder, its picture left out, or be a camera again.

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    RefusedError
        If one of its files has no sound, or no picture.
    """
    source = days.get_source_for_change(session, source_id, version)
    if kind == source.kind:
        return source
    day = days.get_day(session, source.day_id)
    for row in recordings.files_of_day(session, source.day_id):
        if row.source_id != source_id or row.state != "ready":
            continue
        place = located(session, settings, day, row)
        try:
            facts = facts_of(row).as_sound() if kind == SOUND else guarded(place.path, 60.0, read_facts, place.file)
        except (RefusedError, MediaError) as error:
            raise RefusedError(f"{row.name}: {error}") from None
        if facts.kind != kind:
            raise RefusedError(f"{row.name} holds no picture: its source cannot be a camera.")
        row.kind, row.duration, row.facts = facts.kind, facts.duration, facts
        session.add(row)
    source.kind = kind
    changes.count(session, source)
    session.flush()
    merging.refresh(session, day)
    what = "serves as a recorder: its pictures are left out" if kind == SOUND else "is a camera again"
    journal.note(session, day_id=source.day_id, by=settings.person, what=f"source {source.tag} {what}")
    return source


def merge(session: Session, settings: Settings, source_id: int, *, version: int, into: str) -> int:
    """Put all recordings of a source into another, and let it go; returns how many.

    What was said of it goes with them: its reports are the other's, its clock stretches end.

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    RefusedError
        If there is no such other source, or it is of another kind.
    """
    source = days.get_source_for_change(session, source_id, version)
    day = days.get_day(session, source.day_id)
    target = next((one for one in days.sources(session, source.day_id) if one.tag == into), None)
    if target is None or target.id == source_id:
        raise RefusedError("Choose the source that its recordings go to.")
    own = [row for row in recordings.ready_of_day(session, source.day_id) if row.source_id == source_id]
    if not own:
        raise RefusedError(f"{source.tag} has no recording that can be read: there is nothing to put into {into}.")
    for report in reports.of_day(session, source.day_id):
        if report.source_id == source_id:
            report.source_id = target.id
            changes.count(session, report)
    count = _move(session, settings, day, own, into)
    # What cannot be read now is of that device all the same.
    for row in recordings.ever_of_day(session, source.day_id):
        if row.source_id == source_id:
            row.source_id = target.id
            session.add(row)
    session.flush()
    drop_empty(session, day)
    return count


def _move_one(session: Session, row: Recording, target: Source) -> None:
    """Move a recording, and the files it is made of."""
    row.source_id = target.id
    session.add(row)
    if row.merged:
        for member in recordings.members_of(session, row):
            _move_one(session, member, target)


def _folder_of(rows: list[Recording]) -> str:
    head, _, rest = rows[0].path.partition("/")
    # Not the folder itself: what is copied there later belongs to the source that has it.
    return f"{head if rest else '.'} (moved)"
