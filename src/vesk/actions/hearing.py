"""How recordings hear: as their device does, or as a person says of some of them alone.

A microphone is moved between takes, an internal delay is set anew after lunch. What is said of a recording stands
above what is said of its device; it is said at once for a take, for what is selected, for a part of the day.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from fractions import Fraction

from sqlmodel import Session

from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.actions.solving import ears_of, late_of
from vesk.core.conform.correction import Errors
from vesk.core.errors import RefusedError
from vesk.core.kinds import PICTURE, Discord, Kind
from vesk.core.sound.distance import distance_delay_s
from vesk.core.timecode import wrap_day
from vesk.settings import Settings
from vesk.store import changes, days, heard_stretches, journal, pairings, recordings
from vesk.store.heard_stretches import HeardStretch
from vesk.store.tables import Day, Recording, Source

_FURTHEST_M, _LATEST_MS = 500, 500


@dataclass(frozen=True, slots=True)
class Ears:
    """How something hears: how far its microphone stood, how late its sound is by itself; None is as its device."""

    distance_m: Fraction | None
    delay_ms: Fraction | None

    @property
    def says(self) -> str:
        """What it is, in words."""
        said = [] if self.distance_m is None else [f"microphone {float(self.distance_m):g} m away"]
        said += [] if self.delay_ms is None else [f"internal sound delay {float(self.delay_ms):g} ms"]
        return ", ".join(said) or "as its device hears"

    def of(self, source: Source) -> float:
        """Return how late that is, seconds, where what is not said is as the source's.

        Parameters
        ----------
        source : Source
        """
        metres = source.distance_mm / 1000 if self.distance_m is None else float(self.distance_m)
        delay = source.delay_us / 1e6 if self.delay_ms is None else float(self.delay_ms) / 1000
        return distance_delay_s(metres) + (delay if source.kind == PICTURE else 0.0)


def checked(distance_m: Fraction | None, delay_ms: Fraction | None) -> Ears:
    """Return ears as typed.

    Raises
    ------
    RefusedError
        If a figure cannot be.
    """
    if distance_m is not None and not 0 <= distance_m <= _FURTHEST_M:
        raise RefusedError(f"A microphone stands between 0 and {_FURTHEST_M} m away.")
    if delay_ms is not None and abs(delay_ms) > _LATEST_MS:
        raise RefusedError(f"An internal sound delay lies within \N{PLUS-MINUS SIGN}{_LATEST_MS} ms.")
    return Ears(distance_m, delay_ms)


@dataclass(frozen=True, slots=True)
class Hearing:
    """What a person would say of some recordings of one device, and the takes that follow it."""

    source: Source
    recordings: tuple[Recording, ...]
    takes: tuple[PairingStatus, ...]
    ears: Ears
    stretch: HeardStretch | None = None  # where it is said of a part of the day

    @property
    def says(self) -> str:
        """What would be said."""
        return f"{self.source.tag}: {self.ears.says}"

    @property
    def rows(self) -> list[tuple[PairingStatus, Errors, Errors]]:
        """All takes as they lie, and as they would by what is said: how far off, seconds."""
        return [
            (one, one.errors, Errors(*(error + self._later(one) for error in one.errors.all)))
            for one in self.takes
            if one.errors is not None
        ]

    def _later(self, one: PairingStatus) -> float:
        """Return by how much later a take's sound lies than where it then belongs, beyond now."""
        own = self.ears.of(self.source)
        if self.source.id == one.picture_source.id:
            return own - late_of(one.sound, one.sound_source) - one.late_s
        return late_of(one.picture, one.picture_source) - own - one.late_s


def of_takes(view: Overview, chosen: Collection[int], kind: Kind, ears: Ears) -> list[Hearing]:
    """Return what would be said of the cameras, or the recorders, of chosen takes: one for each device.

    Parameters
    ----------
    view : Overview
    chosen : collection of int
        Numbers of pairings.
    kind : Kind
        Whose microphones.
    ears : Ears

    Raises
    ------
    RefusedError
        If nothing is chosen.
    """
    about = [one for one in view.statuses if one.pairing.id in chosen]
    if not about:
        raise RefusedError("Nothing is selected: tick the takes first.")
    own = {one.id: one for now in about for one in (now.picture, now.sound) if one.kind == kind}
    sources = {one.id: one for one in view.sources}
    made = []
    for number in sorted({row.source_id or 0 for row in own.values()}):
        rows = tuple(row for row in own.values() if row.source_id == number)
        made.append(_hearing(view, sources[number], rows, ears))
    return made


def of_stretch(view: Overview, source: Source, since: Fraction | None, before: Fraction | None, ears: Ears) -> Hearing:
    """Return what would be said of a device's recordings between two times of the day.

    Parameters
    ----------
    view : Overview
    source : Source
    since, before : Fraction, optional
        On the day's label clock, seconds; open where None.
    ears : Ears

    Raises
    ------
    RefusedError
        If none lies there.
    """
    stretch = HeardStretch(source_id=source.id, since=since, before=before, made_by="")
    stretch.distance_mm, stretch.delay_us = _kept(ears)
    length = days.rate_of(view.day).day
    rows = tuple(row for row in view.recordings if row.state == recordings.READY and _holds(stretch, row, length))
    if not rows:
        raise RefusedError(f"No recording of {source.tag} lies there: nothing was said.")
    return _hearing(view, source, rows, ears, stretch)


def _kept(ears: Ears) -> tuple[int | None, int | None]:
    """Return a distance in whole millimetres and a delay in whole microseconds."""
    distance, delay = ears.distance_m, ears.delay_ms
    return None if distance is None else round(distance * 1000), None if delay is None else round(delay * 1000)


def _holds(stretch: HeardStretch, row: Recording, length: Fraction) -> bool:
    """Say whether a recording is of its device and begins in it, on a clock whose day is so many seconds long."""
    return (
        row.source_id == stretch.source_id
        and row.start is not None
        and (stretch.since is None or wrap_day(row.start - stretch.since, length) >= 0)
        and (stretch.before is None or wrap_day(row.start - stretch.before, length) < 0)
    )


def hear_as_said(session: Session, day: Day, came: Sequence[Recording]) -> None:
    """Have recordings that were placed for the first time hear as was said of the part of the day they lie in.

    Those that hear so because it was said of a part of the day follow it too: when it is undone, and when another
    clock places them elsewhere. What is said of a take alone stays.

    Parameters
    ----------
    session : Session
    day : Day
    came : sequence of Recording
    """
    length = days.rate_of(day).day
    said = heard_stretches.of_day(session, day.id)
    for row in (*came, *heard_stretches.recordings_in(session, day.id)):
        if row.ears_of is None and ears_of(row):
            continue
        own = next((one for one in reversed(said) if _holds(one, row, length)), None)
        row.ears_of = None if own is None else own.id
        row.distance_mm, row.delay_us = (None, None) if own is None else (own.distance_mm, own.delay_us)
        row.ears_by = own.made_by if own is not None and ears_of(row) else ""
        session.add(row)


def standing(view: Overview) -> list[tuple[str, list[Recording]]]:
    """Return the recordings of which a person says alone how they hear, by their device's tag and by what is said."""
    tags = {one.id: one.tag for one in view.sources}
    found: dict[tuple[str, int | None, int | None], list[Recording]] = {}
    for row in view.recordings:
        if ears_of(row) and row.source_id in tags:
            found.setdefault((tags[row.source_id], row.distance_mm, row.delay_us), []).append(row)
    return [(key[0], rows) for key, rows in sorted(found.items(), key=lambda item: (item[0][0], item[1][0].id))]


def told(rows: Sequence[Recording]) -> str:
    """Return what is said of recordings that all hear alike, and of which."""
    row = rows[0]
    metres = None if row.distance_mm is None else Fraction(row.distance_mm, 1000)
    delay = None if row.delay_us is None else Fraction(row.delay_us, 1000)
    names = row.name if len(rows) == 1 else f"{len(rows)} recordings, {row.name} first"
    return f"{Ears(metres, delay).says}: {names}, says {row.ears_by}"


def _hearing(
    view: Overview, source: Source, rows: tuple[Recording, ...], ears: Ears, stretch: HeardStretch | None = None
) -> Hearing:
    asked = (one for one in view.solution.contradictions if one.about == Discord.LATENESS)
    distance_alone = ears.distance_m is not None and ears.delay_ms is None
    if distance_alone and any(view.solution.sources[one.device] == source.tag for one in asked):
        # What is not typed is as entered for its device: that its evidence denies, and nobody would be told any more.
        raise RefusedError(
            f"The evidence of {source.tag} disagrees with what is entered of how late it hears. Answer that first, for "
            "all its takes, on the Day page; or type the delay too."
        )
    own = {row.id for row in rows}
    takes = tuple(one for one in view.statuses if own & {one.picture.id, one.sound.id})
    return Hearing(source, rows, takes, ears, stretch)


def say(session: Session, settings: Settings, day_id: int, about: Sequence[Hearing]) -> str:
    """Say how recordings hear; everything of them follows. Returns what was done, in words.

    Parameters
    ----------
    session, settings
    day_id : int
    about : sequence of Hearing
        As a view that was read under the day's hold shows them.
    """
    changes.hold(session, day_id)
    said = []
    for one in about:
        if one.stretch is not None:
            one.stretch.made_by = settings.person
            session.add(one.stretch)
            session.flush()
        for number in (row.id for row in one.recordings):
            row = recordings.get(session, number)
            row.distance_mm, row.delay_us = _kept(one.ears)
            row.ears_of = None if one.stretch is None else one.stretch.id
            row.ears_by = settings.person if ears_of(row) else ""
            changes.count(session, row)
        for now in one.takes:
            changes.count(session, pairings.get(session, now.pairing.id))
        count = len(one.recordings)
        names = one.recordings[0].name if count == 1 else f"{count} recordings"
        said.append(f"{one.source.tag}, {names}: {one.ears.says}")
    journal.note(session, day_id=day_id, by=settings.person, what="; ".join(said))
    return f"{'; '.join(said)}. Everything of it follows."
