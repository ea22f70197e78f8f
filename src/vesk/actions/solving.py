"""A day's rows as the evidence that its solution rests on, and the solution, remembered by that evidence."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from vesk.actions.remembered import Remembered
from vesk.core.day.day import Day, Device, HeardClap, Match, Named, Recorded, SeenClap
from vesk.core.day.evidence import has_ears, likely_seen, match_of, slate_of
from vesk.core.day.recording import stem_of
from vesk.core.day.solution import Solution
from vesk.core.day.solve import solve
from vesk.core.intake.devices import look_of
from vesk.core.kinds import CLAP, SOUND, TONE, PointOrigin
from vesk.core.picture.closure import contact_between
from vesk.core.sound.distance import distance_delay_s
from vesk.core.sound.measurement import Measurement
from vesk.store import days, pairings, recordings, sync_points
from vesk.store.tables import Day as DayRow
from vesk.store.tables import Pairing, Recording, Source, SyncPointRow

BY_HAND_S = 0.002  # how near a person puts what is heard
_SOLVED: Remembered[Day, Solution] = Remembered(12)


def late_s(source: Source) -> float:
    """Return how late a source hears, by its microphone's distance and its internal delay as entered, seconds."""
    delay = 0.0 if source.kind == SOUND else source.delay_us / 1e6
    return distance_delay_s(source.distance_mm / 1000) + delay


def ears_of(row: Recording) -> bool:
    """Say whether a person said of a recording alone how it hears."""
    return row.distance_mm is not None or row.delay_us is not None


def late_of(row: Recording, source: Source) -> float:
    """Return how late a recording hears, seconds: as was said of it alone, else as its source."""
    metres = (source.distance_mm if row.distance_mm is None else row.distance_mm) / 1000
    delay = source.delay_us if row.delay_us is None else row.delay_us
    return distance_delay_s(metres) + (0.0 if source.kind == SOUND else delay / 1e6)


def without_matches(
    day: DayRow,
    members: Mapping[int, Recording],
    sources: Mapping[int | None, Source],
    marked: Mapping[int, Sequence[SyncPointRow]],
    other_days: Collection[str] = (),
) -> Day:
    """Return the evidence of a day but for what was measured: devices, recordings, claps.

    Parameters
    ----------
    day : Day
        Its row.
    members, sources, marked
        By number: recordings, their sources, sync points of each recording.
    other_days : collection of str
        Recordings of another day, by number: their labels name no moment of this.
    """
    rate = days.rate_of(day)
    own = [
        (row, row.kind)
        for _, row in sorted(members.items())
        if row.kind is not None and row.source_id in sources and not row.aside and row.state == recordings.READY
    ]
    used = {row.source_id for row, _ in own}
    devices = [
        Device(one.tag, one.kind, late_s(one), one.ears_by or ("somebody" if one.delay_us else ""))
        for number, one in sources.items()
        if number in used
    ]
    recorded = []
    seen: list[SeenClap] = []
    heard: list[HeardClap] = []
    named: list[Named] = []
    for row, kind in own:
        fps = float((row.facts.fps if row.facts else None) or day.fps)
        start, clock = (None, None) if row.start is None or str(row.id) in other_days else (row.start, row.clock)
        tag = sources[row.source_id].tag
        look = look_of(stem_of(row.path), row.facts) if row.facts else ""
        ears = row.facts is None or has_ears(row.facts, row.heard)
        slate = slate_of(row.told.scene, row.told.take) if row.told else ""
        own_late = late_of(row, sources[row.source_id]) if ears_of(row) else None
        recorded.append(
            Recorded(str(row.id), tag, kind, start, clock, float(row.duration), 1 / fps, look, slate, ears, own_late)
        )
        for point in marked.get(row.id, ()):
            if point.state == sync_points.REFUSED:
                continue
            _gather(point, row, fps, seen, heard)
            if point.name and (point.origin != PointOrigin.FOUND or point.state == sync_points.CONFIRMED):
                named.append(_named(point, fps))
    return Day(
        tuple(devices), tuple(recorded), (), tuple(seen), tuple(heard), tuple(named),
        tolerance_frames=float(day.tolerance), length=rate.day,
    )  # fmt: skip


def _gather(point: SyncPointRow, row: Recording, fps: float, seen: list[SeenClap], heard: list[HeardClap]) -> None:
    """Put a clap or a tone to those seen or heard; other events tell by their names alone."""
    if point.kind not in {CLAP, TONE}:
        return
    confirmed = point.state == sync_points.CONFIRMED
    if point.how == sync_points.SEEN and point.frame:
        sure = likely_seen(point.likely, confirmed=confirmed)
        ear = None if point.heard_us is None else point.heard_us / 1e6
        seen.append(SeenClap(str(row.id), *contact_between(point.frame, fps), sure, ear))
    elif row.kind == SOUND and point.heard_us is not None:
        likely = likely_seen(1.0, confirmed=True) if confirmed else point.likely
        heard.append(HeardClap(str(row.id), point.heard_us / 1e6, likely))


def _named(point: SyncPointRow, fps: float) -> Named:
    key = str(point.recording_id)
    if point.how == sync_points.SEEN and point.frame is not None:
        return Named(key, point.name, *contact_between(max(1, point.frame), fps), heard=False)
    at = (point.heard_us or 0) / 1e6
    near = BY_HAND_S if point.origin == PointOrigin.PERSON else 0.0
    return Named(key, point.name, at - near, at + near, heard=True)


def match(row: Pairing, found: Measurement) -> Match | None:
    """Return what was measured of a pairing, as the day's solution takes it; None where it says no place."""
    if row.state == pairings.SET_ASIDE:
        return None
    return match_of(str(row.picture_id), str(row.sound_id), found)


def solution(day: Day, open_ones: Collection[tuple[str, str]] = ()) -> Solution:
    """Return the solution of a day's evidence; the one found before where all of it is the same.

    Parameters
    ----------
    day : Day
    open_ones : collection of (str, str)
        Pictures and sounds of pairings that have a rival: sound alone has not decided them.
    """
    if open_ones:
        day = _left_open(day, open_ones)
    found = _SOLVED.find(day)
    if found is None:
        found = solve(day)
        _SOLVED.keep(day, found)
    return found


def _left_open(day: Day, open_ones: Collection[tuple[str, str]]) -> Day:
    matches = tuple(replace(one, sure=False) if (one.picture, one.sound) in open_ones else one for one in day.matches)
    return replace(day, matches=matches)
