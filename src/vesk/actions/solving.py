"""A day's rows as the evidence that its solution rests on, and the solution, remembered by that evidence."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from vesk.actions.remembered import Remembered
from vesk.core.day.day import Day, Device, HeardClap, Match, Recorded, SeenClap
from vesk.core.day.recording import stem_of
from vesk.core.day.solution import Solution
from vesk.core.day.solve import solve
from vesk.core.intake.devices import look_of
from vesk.core.kinds import SOUND
from vesk.core.picture.closure import contact_between
from vesk.core.sound.distance import distance_delay_s
from vesk.core.sound.measurement import Measurement
from vesk.dailies.solving import likely_seen, match_of
from vesk.dailies.sync_points import CLEAR
from vesk.store import days, pairings, recordings, sync_points
from vesk.store.tables import Day as DayRow
from vesk.store.tables import Pairing, Recording, Source, SyncPointRow

_SOLVED: Remembered[Day, Solution] = Remembered(12)


def late_s(source: Source) -> float:
    """Return how late a source hears, by its microphone's distance and its internal delay as entered, seconds."""
    delay = 0.0 if source.kind == SOUND else source.delay_us / 1e6
    return distance_delay_s(source.distance_mm / 1000) + delay


def without_matches(
    day: DayRow,
    members: Mapping[int, Recording],
    sources: Mapping[int | None, Source],
    marked: Mapping[int, Sequence[SyncPointRow]],
) -> Day:
    """Return the evidence of a day but for what was measured: devices, recordings, claps.

    Parameters
    ----------
    day : Day
        Its row.
    members, sources, marked
        By number: recordings, their sources, sync points of each recording.
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
    for row, kind in own:
        fps = float((row.facts.fps if row.facts else None) or day.fps)
        start, clock = (None, None) if row.start is None else (row.start, row.clock)
        tag = sources[row.source_id].tag
        look = look_of(stem_of(row.path), row.facts) if row.facts else ""
        recorded.append(Recorded(str(row.id), tag, kind, start, clock, float(row.duration), 1 / fps, look))
        for point in marked.get(row.id, ()):
            if point.state == sync_points.REFUSED:
                continue
            if point.how == sync_points.SEEN and point.frame:
                sure = likely_seen(confirmed=point.state == sync_points.CONFIRMED, clear=point.likely >= CLEAR)
                ear = None if point.heard_us is None else point.heard_us / 1e6
                seen.append(SeenClap(str(row.id), *contact_between(point.frame, fps), sure, ear))
            elif row.kind == SOUND and point.heard_us is not None:
                heard.append(HeardClap(str(row.id), point.heard_us / 1e6, point.likely))
    return Day(tuple(devices), tuple(recorded), (), tuple(seen), tuple(heard), float(day.tolerance), rate.day)


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
