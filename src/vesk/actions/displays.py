"""Timecode displays seen in pictures: labels read by a person, and what they say of the display and of the files."""

from __future__ import annotations

from fractions import Fraction

from sqlmodel import Session

from vesk.actions.overview import Overview
from vesk.core.day.displays import Display, Light, Reading, tell, tell_lights
from vesk.core.errors import RefusedError, TimecodeError
from vesk.core.kinds import PICTURE, Decided, Sense
from vesk.core.picture.closure import contact_between
from vesk.core.timecode import FrameRate, Timecode, unwrapped, wrap_day
from vesk.settings import Settings
from vesk.store import changes, days, journal, recordings, seen_labels, sync_points
from vesk.store.tables import SeenLabel

MAX_NAME = 40


def put(session: Session, settings: Settings, recording_id: int, *, frame: int, label: str, display: str) -> SeenLabel:
    """Keep a label that a person read off a display in a frame.

    Raises
    ------
    RefusedError
        If there is no such frame, or no such label.
    """
    row = recordings.get(session, recording_id)
    changes.hold(session, row.day_id)
    facts = row.facts
    if row.kind != PICTURE or facts is None or facts.frames is None or facts.fps is None:
        raise RefusedError(f"{row.name} has no frames to read a display in.")
    if not 0 <= frame < facts.frames:
        raise RefusedError(f"{row.name} has frames 0 to {facts.frames - 1}.")
    name = " ".join(display.split()) or "display"
    if len(name) > MAX_NAME:
        raise RefusedError(f"A display's name has {MAX_NAME} characters at most.")
    drop = ";" in label or facts.drop
    try:
        read = Timecode.parse(label.strip(), FrameRate(facts.timecode_rate or facts.fps, drop))
    except TimecodeError as error:
        raise RefusedError(f"{label.strip()!r} is no label: write it as it is seen, 10:15:02:07. ({error})") from None
    made = SeenLabel(recording_id=recording_id, display=name, frame=frame, label=read.seconds, made_by=settings.person)
    session.add(made)
    what = f"{row.name}: {name} read as {read} on frame {frame}"
    journal.note(session, day_id=row.day_id, by=settings.person, what=what)
    return made


def take_away(session: Session, settings: Settings, recording_id: int, label_id: int) -> None:
    """Take a label away that was read."""
    row = recordings.get(session, recording_id)
    changes.hold(session, row.day_id)
    gone = seen_labels.take_away(session, label_id, recording_id)
    what = f"{row.name}: what was read of {gone.display} on frame {gone.frame} taken away"
    journal.note(session, day_id=row.day_id, by=settings.person, what=what)


def lights(session: Session, view: Overview) -> list[str]:
    """Return what lights that two cameras saw say of their timecodes: seen sync points of one name, a sentence each.

    Parameters
    ----------
    session, view
    """
    rows = {row.id: row for row in view.recordings if row.kind == PICTURE and row.start is not None}
    line = unwrapped((row.start for row in rows.values() if row.start is not None), days.rate_of(view.day).day)
    made = []
    for number, points in sync_points.of_recordings(session, rows).items():
        row = rows[number]
        fps = (row.facts.fps if row.facts else None) or view.day.fps
        for one in points:
            if one.how != Sense.SEEN or one.frame is None or not one.name or one.state == Decided.REFUSED:
                continue
            low, high = contact_between(max(1, one.frame), float(fps))
            at = float(line(row.start or Fraction(0))) + (low + high) / 2
            device = view.solution.devices.get(str(number), row.name)
            name = " ".join(one.name.split())
            made.append(Light(name, device, at, (high - low) / 2, _ahead(view, device, at), float(1 / fps)))
    return tell_lights(made)


def _ahead(view: Overview, device: str, at_s: float) -> float | None:
    """Return how far a camera's clock is ahead of the day's reference, its ears taken out: what is seen has none."""
    solution = view.solution
    clock, ears = solution.clocks.get(device), solution.lateness.get(device)
    found = clock.at(at_s) if clock is not None else None
    if clock is None or found is None:
        return None
    if device == clock.reference:
        return 0.0
    reference = solution.lateness.get(clock.reference)
    return found[0] - (ears.best_s if ears else 0.0) + (reference.best_s if reference else 0.0)


def readings(view: Overview, labels: list[SeenLabel]) -> list[Reading]:
    """Return what was read on a day, against the files and what is known of their clocks; no clock, no reading.

    Parameters
    ----------
    view : Overview
    labels : list of SeenLabel
    """
    rows = {row.id: row for row in view.recordings}
    length = days.rate_of(view.day).day
    line = unwrapped((row.start for row in view.recordings if row.start is not None), length)
    made = []
    for one in labels:
        row = rows.get(one.recording_id)
        if row is None or row.start is None or row.facts is None or row.facts.fps is None:
            continue
        fps = row.facts.fps
        at = line(row.start) + Fraction(one.frame) / fps
        device = view.solution.devices.get(str(row.id), "")
        ahead = _ahead(view, device, float(at))
        off = float(wrap_day(one.label - at, length))
        made.append(Reading(one.display, device or row.name, float(at), off, ahead, float(1 / fps)))
    return made


def displays(session: Session, view: Overview) -> list[Display]:
    """Return what every display that was read on a day says.

    Parameters
    ----------
    session, view
    """
    labels = seen_labels.of_day(session, view.day.id)
    return tell(readings(view, labels)) if labels else []
