"""Sync points of a recording: found on its sound and in its picture, read from the file, put there by a person."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from math import floor

from sqlmodel import Session

from vesk.actions.facts import facts_of
from vesk.actions.locating import located
from vesk.actions.measuring import ensure_heard
from vesk.actions.sources import changed
from vesk.core.clocks.sound_delay import ClapPair, SoundDelay, sound_delay
from vesk.core.errors import RefusedError
from vesk.core.kinds import CLAP, MARKER, PICTURE, PointOrigin, SyncPointKind
from vesk.core.pairing.by_hand import read_moment
from vesk.core.picture.closure import contact_between
from vesk.core.progress import WHOLE, OnProgress, part_of, unwatched
from vesk.core.sound.distance import distance_delay_s
from vesk.dailies.sync_points import LIKELY, SyncPoints, look_for_sync_points
from vesk.media.guarded import watched
from vesk.settings import Settings
from vesk.store import changes, days, journal, recordings
from vesk.store import sync_points as points
from vesk.store.tables import Recording, Source, SyncPointRow

_HEARD_KINDS = {SyncPointKind.WORD, SyncPointKind.TONE}
_SAME_US = 50_000  # what was decided is not proposed again
MAX_NAME = 60
_LONGEST_S = 300.0  # looking at its pictures takes no longer


def keep_sync_points(
    session: Session, settings: Settings, recording_id: int, on_progress: OnProgress = unwatched
) -> None:
    """Find a recording's sync points and keep them as proposals; what a person decided stays."""
    row = recordings.get(session, recording_id)
    if row.state != "ready":
        return
    place = located(session, settings, days.get_day(session, row.day_id), row)
    day_id = row.day_id
    changes.rest(session)
    ensure_heard(place, part_of(on_progress, 0, WHOLE // 2))
    own = part_of(on_progress, WHOLE // 2, WHOLE)
    found = watched(place.path, _LONGEST_S + float(place.facts.duration), own, look_for_sync_points, place)
    changes.hold(session, day_id)
    row = recordings.get(session, recording_id)
    if row.state != recordings.READY or row.content != place.entry.folder.name:
        return
    decided = points.forget_proposals(session, recording_id)
    frames = {one.proposed_frame for one in decided if one.how == points.SEEN}
    times = [at for one in decided for at in (one.proposed_us, one.heard_us) if one.how == points.HEARD and at]
    for one in [*_heard(recording_id, found), *_markers(row)]:
        if not any(abs(at - (one.heard_us or 0)) < _SAME_US for at in times):
            session.add(one)
    for seen in found.seen:
        if seen.frame not in frames:
            session.add(
                SyncPointRow(
                    recording_id=recording_id, how=points.SEEN, kind=CLAP, frame=seen.frame,
                    proposed_frame=seen.frame, likely=seen.likely,
                    heard_us=None if seen.heard_s is None else round(seen.heard_s * 1e6),
                )
            )  # fmt: skip


def _heard(recording_id: int, found: SyncPoints) -> Iterator[SyncPointRow]:
    for heard in found.heard:
        if heard.score >= LIKELY:
            at = round(heard.at_s * 1e6)
            yield SyncPointRow(
                recording_id=recording_id, how=points.HEARD, kind=heard.kind, heard_us=at, proposed_us=at,
                likely=heard.score,
            )  # fmt: skip


def _markers(row: Recording) -> Iterator[SyncPointRow]:
    for marker in facts_of(row).markers:
        at = round(marker.at * 1_000_000)
        yield SyncPointRow(
            recording_id=row.id, how=points.HEARD, kind=MARKER, heard_us=at, proposed_us=at, likely=1.0,
            name=marker.label, origin=PointOrigin.MARKER,
        )  # fmt: skip


def decide(
    session: Session, settings: Settings, sync_point_id: int, *, version: int, frame: int | None
) -> SyncPointRow:
    """Confirm on which frame a clap is first seen closed, or, with None, that there is none.

    Raises
    ------
    StaleError
        If somebody decided on it since `version`.
    RefusedError
        If it is no clap seen, or the frame lies outside the recording.
    """
    row = points.get_for_change(session, sync_point_id, version)
    recording = recordings.get(session, row.recording_id)
    if row.how != points.SEEN:
        raise RefusedError("Only a clap seen has a frame to confirm.")
    frames = (recording.facts.frames if recording.facts else None) or 0
    if frame is not None and not 1 <= frame < frames:
        raise RefusedError(f"{recording.name} has frames 0 to {frames - 1}; contact lies between two of them.")
    points.remember(session, row, by=settings.person)
    if frame is not None:
        row.frame = frame
    row.state = points.REFUSED if frame is None else points.CONFIRMED
    row.decided_by = settings.person
    changes.count(session, row)
    what = "is no clap" if frame is None else f"is first seen closed on frame {frame}"
    journal.note(
        session,
        day_id=recording.day_id,
        by=settings.person,
        what=f"{recording.name}: what was proposed near frame {row.proposed_frame} {what}",
    )
    return row


def make(
    session: Session, settings: Settings, recording_id: int, *, at: str, name: str = "", kind: str = SyncPointKind.OTHER
) -> SyncPointRow:
    """Put a sync point on a recording.

    Parameters
    ----------
    session, settings
    recording_id : int
    at : str
        When, as typed: a frame, seconds, or a timecode label. On a picture it is the first frame that shows it, but
        for a word or a tone, which are heard.
    name : str
        The same name on recordings of other devices is the same event.
    kind : str

    Raises
    ------
    RefusedError
        If it is no moment of that recording, or nothing can be put on it.
    """
    row = recordings.get(session, recording_id)
    changes.hold(session, row.day_id)
    if row.state != recordings.READY or row.kind is None:
        raise RefusedError(f"{row.name} cannot be used now: nothing is put on it.")
    point = SyncPointRow(
        recording_id=row.id, how=points.HEARD, kind=_kind(kind), likely=1.0, name=_name(name),
        origin=PointOrigin.PERSON, state=points.CONFIRMED, decided_by=settings.person,
    )  # fmt: skip
    _put(session, row, point, at)
    session.add(point)
    session.flush()
    points.remember(session, point, by=settings.person, state=points.REFUSED)
    _note(session, settings, row, f"{_words(point)} put at {_where(point)}")
    return point


def change(
    session: Session, settings: Settings, sync_point_id: int, *, version: int, at: str, name: str, kind: str
) -> SyncPointRow:
    """Move or rename a sync point, or say what it is; whoever does so says that it is one.

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    RefusedError
        If it is no moment of that recording.
    """
    point = points.get_for_change(session, sync_point_id, version)
    row = recordings.get(session, point.recording_id)
    points.remember(session, point, by=settings.person)
    before = _words(point)
    point.name, point.kind = _name(name), _kind(kind)
    if at.strip():
        _put(session, row, point, at)
    point.state, point.decided_by = points.CONFIRMED, settings.person
    changes.count(session, point)
    _note(session, settings, row, f"{before} is {_words(point)} at {_where(point)}")
    return point


def remove(session: Session, settings: Settings, sync_point_id: int, *, version: int) -> SyncPointRow:
    """Take a sync point away; it comes back when that is undone.

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    """
    point = points.get_for_change(session, sync_point_id, version)
    points.remember(session, point, by=settings.person)
    point.state, point.decided_by = points.REFUSED, settings.person
    changes.count(session, point)
    row = recordings.get(session, point.recording_id)
    _note(session, settings, row, f"{_words(point)} at {_where(point)} taken away")
    return point


def undo(session: Session, settings: Settings, sync_point_id: int, *, version: int) -> SyncPointRow:
    """Undo the last change of a sync point.

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    RefusedError
        If there is none.
    """
    point = points.get_for_change(session, sync_point_id, version)
    last = points.last_change(session, sync_point_id)
    if last is None:
        raise RefusedError("There is nothing to undo here.")
    points.undo(point, last)
    changes.count(session, point)
    row = recordings.get(session, point.recording_id)
    _note(session, settings, row, f"{_words(point)}: the last change undone")
    return point


def _put(session: Session, row: Recording, point: SyncPointRow, at: str) -> None:
    """Read when it is, and put it there."""
    day = days.get_day(session, row.day_id)
    facts = facts_of(row)
    fps = (facts.fps or day.fps) if row.kind == PICTURE else None
    moment = read_moment(at, start=row.start, clock=days.rate_of(day), fps=fps)
    if not 0 <= moment < row.duration:
        raise RefusedError(f"{row.name} is {float(row.duration):.3f} s long: {at.strip()} is not on it.")
    if fps is not None and point.kind not in _HEARD_KINDS:
        point.how, point.frame = points.SEEN, floor(moment * fps)
        if point.frame < 1:
            raise RefusedError(f"On frame 0 of {row.name} nothing is seen to begin: choose a later one.")
        return
    if row.kind == PICTURE and not facts.channels:
        raise RefusedError(f"{row.name} has no sound: a {point.kind} cannot be heard on it.")
    point.how, point.frame, point.heard_us = points.HEARD, None, round(moment * 1_000_000)


def _kind(kind: str) -> SyncPointKind:
    try:
        return SyncPointKind(kind)
    except ValueError:
        raise RefusedError(f"A sync point is one of: {', '.join(SyncPointKind)}.") from None


def _name(name: str) -> str:
    if len(name) > MAX_NAME:
        raise RefusedError(f"A name has {MAX_NAME} characters at most.")
    return " ".join(name.split())


def _words(point: SyncPointRow) -> str:
    return f"{point.kind} {point.name}" if point.name else f"a {point.kind}"


def _where(point: SyncPointRow) -> str:
    return f"frame {point.frame}" if point.how == points.SEEN else f"{(point.heard_us or 0) / 1e6:.4f} s"


def _note(session: Session, settings: Settings, row: Recording, what: str) -> None:
    journal.note(session, day_id=row.day_id, by=settings.person, what=f"{row.name}: {what}")


def source_delay(session: Session, source: Source) -> SoundDelay | None:
    """Return a camera's internal sound delay by its confirmed claps, its microphone's distance taken out."""
    rows = points.of_source(session, source.id)
    members = recordings.by_id(session, {row.recording_id for row in rows})
    pairs = []
    for row in rows:
        if row.state != points.CONFIRMED or row.heard_us is None or not row.frame:
            continue
        fps = facts_of(members[row.recording_id]).fps or Fraction(25)
        heard = row.heard_us / 1e6 - distance_delay_s(source.distance_mm / 1000)
        pairs.append(ClapPair(heard, *contact_between(row.frame, float(fps))))
    return sound_delay(pairs)


def take_delay(session: Session, settings: Settings, source_id: int, *, version: int) -> Source:
    """Enter the middle of what the confirmed claps allow as a camera's internal sound delay.

    Raises
    ------
    RefusedError
        If no clap was confirmed.
    """
    source = days.get_source_for_change(session, source_id, version)
    found = source_delay(session, source)
    if found is None:
        raise RefusedError(f"No clap of {source.tag} that was also heard is confirmed yet.")
    source.delay_us, source.ears_by = round(found.middle_s * 1e6), settings.person
    what = f"internal sound delay {source.delay_us / 1000:+.1f} ms, from {found.agreeing} of {found.claps} claps"
    return changed(session, settings, source, what)
