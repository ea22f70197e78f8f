"""Devices that come back: what the production's other days know of a device of this one, and what changed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlmodel import Session

from vesk.actions.facts import facts_of
from vesk.actions.overview import Overview
from vesk.core.day.lateness import Lateness
from vesk.core.intake.devices import DeviceHints, same_device
from vesk.core.intake.naming import DEFAULT_PATTERNS
from vesk.core.kinds import Kind
from vesk.core.sound.distance import distance_delay_s
from vesk.dailies.sources import hints_of
from vesk.store import days, recordings
from vesk.store.tables import Day, Source

_NEAREST = 6  # days that are asked
_CHANGED_S = 0.004  # beyond what both days allow: ears differ by less where a microphone was moved a step


KnownDevices = list[list[tuple[Source, list[DeviceHints]]]]
"""The sources of other days with what their files tell, day by day, the nearest first."""


def known_devices(session: Session, day: Day) -> KnownDevices:
    """Return the devices of the production's other days: read once for all that is new on a day.

    Parameters
    ----------
    session, day
    """
    found: KnownDevices = []
    for other in _others(session, day):
        patterns = tuple(other.patterns) or DEFAULT_PATTERNS
        hints: dict[tuple[int | None, Kind], list[DeviceHints]] = {}
        for row in recordings.files_of_day(session, other.id):
            if row.facts is not None:
                hints.setdefault((row.source_id, row.facts.kind), []).append(hints_of(row.path, row.facts, patterns))
        found.append([(source, hints.get((source.id, source.kind), [])) for source in days.sources(session, other.id)])
    return found


def known_source(known: KnownDevices, kind: Kind, tag: str, files: Sequence[DeviceHints]) -> Source | None:
    """Return the same device on the nearest other day, by what its files say of themselves.

    Of several that look alike, the one of the same tag; else none: two recorders of one make are not told apart so.

    Parameters
    ----------
    known : KnownDevices
    kind : Kind
    tag : str
        That the new source would have.
    files : sequence of DeviceHints
        Of the new source.
    """
    for sources in known:
        like = [source for source, own in sources if source.kind == kind and same_device(files, own)]
        if like:
            return like[0] if len(like) == 1 else next((one for one in like if one.tag == tag), None)
    return None


def _others(session: Session, day: Day) -> list[Day]:
    """Return the production's other days, the nearest first."""
    own = [other for production, other in days.all_days(session) if production.id == day.production_id]
    own = [other for other in own if other.id != day.id]
    return sorted(own, key=lambda other: (abs(other.number - day.number), other.number > day.number))[:_NEAREST]


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """A device on another day: how late it heard, what was entered there, its rate."""

    day: Day
    source: Source
    ears: Lateness | None
    ppm: float | None


@dataclass(frozen=True, slots=True)
class Returned:
    """A device of this day, and what other days know of it.

    Attributes
    ----------
    source : Source
    ears : Lateness or None
    elsewhere : tuple of Elsewhere
        The nearest day first.
    changed : str
        What is other than on the nearest day that knows, in a sentence; empty where nothing is.
    take_over : Elsewhere or None
        The day whose entered figures this one could take, where it has none of its own and nothing speaks against.
    """

    source: Source
    ears: Lateness | None
    elsewhere: tuple[Elsewhere, ...]
    changed: str
    take_over: Elsewhere | None


def returned(session: Session, day: Day) -> list[Returned]:
    """Return the devices of a day that other days of the production know, by tag.

    Parameters
    ----------
    session, day
    """
    here = Overview(session, day)
    others = [(other, Overview(session, other)) for other in _others(session, day)]
    mine = {source.id: _hints(here, source) for source in here.sources}
    made = []
    for source in here.sources:
        elsewhere = []
        for other, view in others:
            like = _same(source, here.sources, view.sources, mine, {one.id: _hints(view, one) for one in view.sources})
            if like is not None:
                ears = view.solution.lateness.get(like.tag)
                elsewhere.append(Elsewhere(other, like, ears, _ppm(view, like.tag)))
        if elsewhere:
            ears = here.solution.lateness.get(source.tag)
            changed = next((_changed(source, ears, one) for one in elsewhere if one.ears is not None), "")
            made.append(Returned(source, ears, tuple(elsewhere), changed, _offered(source, ears, elsewhere, changed)))
    return made


def _hints(view: Overview, source: Source) -> list[DeviceHints]:
    patterns = tuple(view.day.patterns) or DEFAULT_PATTERNS
    rows = [row for row in view.recordings if row.source_id == source.id and row.kind == source.kind]
    return [hints_of(row.path, facts_of(row), patterns) for row in rows]


def _same(
    source: Source, mine: Sequence[Source], others: Sequence[Source], own: Mapping[int, Sequence[DeviceHints]],
    its: Mapping[int, Sequence[DeviceHints]],
) -> Source | None:  # fmt: skip
    """Return which of another day's sources is this one: alike, and of the same tag or the only one on either day."""
    like = [one for one in others if one.kind == source.kind and same_device(own[source.id], its[one.id])]
    by_tag = next((one for one in like if one.tag == source.tag), None)
    if by_tag is not None or len(like) != 1:
        return by_tag
    rivals = [one for one in mine if one.kind == source.kind and same_device(own[one.id], its[like[0].id])]
    return like[0] if len(rivals) == 1 else None


def _ppm(view: Overview, tag: str) -> float | None:
    clock = view.solution.clocks.get(tag)
    stretches = () if clock is None else clock.stretches
    if not stretches:
        return None
    longest = max(stretches, key=lambda one: one.until_s - one.since_s)
    return longest.rate * 1e6


def _changed(source: Source, ears: Lateness | None, then: Elsewhere) -> str:
    if ears is None or then.ears is None:
        return ""
    apart = max(ears.low_s - then.ears.high_s, then.ears.low_s - ears.high_s)
    if apart <= _CHANGED_S or abs(ears.best_s - then.ears.best_s) <= _CHANGED_S:
        return ""
    return (
        f"{source.tag} hears {ears.best_s * 1000:+.1f} ms today and heard {then.ears.best_s * 1000:+.1f} ms on day "
        f"{then.day.number}: something was changed on it, or its microphone stands elsewhere"
    )


def _offered(source: Source, ears: Lateness | None, elsewhere: list[Elsewhere], changed: str) -> Elsewhere | None:
    if changed or source.delay_us or source.ears_by or source.distance_mm:
        return None
    for one in elsewhere:
        if one.source.delay_us or one.source.distance_mm:
            entered = distance_delay_s(one.source.distance_mm / 1000) + one.source.delay_us / 1e6
            fits = ears is None or ears.low_s - _CHANGED_S <= entered <= ears.high_s + _CHANGED_S
            return one if fits else None
    return None
