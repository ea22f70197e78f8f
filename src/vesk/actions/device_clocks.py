"""Each device's clock over the day, by rows: what was measured of it, and what the solution makes of that."""

from __future__ import annotations

from dataclasses import dataclass

from vesk.actions import solving
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.core.clocks.choice import Choice
from vesk.core.day.against import Shown, Sighting, shown_against
from vesk.core.day.lateness import Lateness
from vesk.core.day.parting import Parting, partings
from vesk.core.kinds import PICTURE, Discord, Witness
from vesk.core.timecode import unwrapped
from vesk.store import days
from vesk.store.tables import Recording, Source


@dataclass(frozen=True, slots=True)
class DeviceView:
    """A device as its page shows it.

    Attributes
    ----------
    shown : Shown
    source : Source
        That it is filed as.
    choice : Choice or None
        Which clock of it is trusted, and why.
    ears : Lateness or None
    without_ears_s : float or None
        How far ahead it is at its first measurement once the ears of both are taken out; None where either is unknown.
    rolled : tuple of (float, float, Recording)
        From when to when, label seconds, and what.
    """

    shown: Shown
    source: Source
    choice: Choice | None
    ears: Lateness | None
    without_ears_s: float | None
    rolled: tuple[tuple[float, float, Recording], ...]

    @property
    def used(self) -> int:
        """How many measurements its clock rests on."""
        return sum(one.used for one, *_ in self.shown.marks)

    @property
    def aside(self) -> int:
        """How many are set aside."""
        return len(self.shown.marks) - self.used


def device_views(view: Overview, truth: str = "") -> list[DeviceView]:
    """Return every device of a day whose clock is known, cameras first.

    Parameters
    ----------
    view : Overview
    truth : str
        The device to show all against; empty for the one that explains most with least.
    """
    solution = view.solution
    rows = {str(row.id): row for row in view.recordings}
    line = unwrapped((row.start for row in view.recordings if row.start is not None), days.rate_of(view.day).day)
    by_tag = {source.tag: source for source in view.sources}
    made = []
    for shown in shown_against(solution.clocks, sightings(view), truth or None):
        source = by_tag.get(solution.sources.get(shown.device, ""))
        if source is None:
            continue
        own = [rows[key] for key, device in solution.devices.items() if device == shown.device and key in rows]
        timed = [(row.start, row) for row in own if row.start is not None]
        spans = [(float(line(start)), float(line(start) + row.duration), row) for start, row in timed]
        rolled = sorted(spans, key=lambda item: item[:2])
        ears, others = (solution.lateness.get(tag) for tag in (shown.device, shown.truth))
        bare = None
        if ears is not None and shown.segments:
            bare = shown.segments[0].ahead_s[0] - ears.best_s + (others.best_s if others is not None else 0.0)
        choice = view.known.clocks.get(source.tag)
        made.append(DeviceView(shown, source, choice, ears, bare, tuple(rolled)))
    return sorted(made, key=lambda one: (one.source.kind != PICTURE, one.source.position, one.shown.device))


def partings_of(view: Overview) -> list[Parting]:
    """Return how far each camera and recorder part over what both recorded, between jams: the longest stretch counts.

    Parameters
    ----------
    view : Overview
    """
    groups: dict[tuple[str, str], dict[tuple[int, ...], list[Sighting]]] = {}
    clocks = view.solution.clocks
    for one in sightings(view):
        of = []
        for device, at in ((one.picture, one.at_s), (one.sound, one.at_s - one.apart_s)):
            stretch = clocks[device].stretch_at(at) if device in clocks else None
            of.append(0 if stretch is None else id(stretch))
        groups.setdefault((one.picture, one.sound), {}).setdefault(tuple(of), []).append(one)
    longest = [max(own.values(), key=_span) for own in groups.values()]
    every = [one for own in longest for one in own if one.by == Witness.SOUND]
    return partings(every, float(view.day.fps), tolerance_frames=float(view.day.tolerance))


def _span(own: list[Sighting]) -> tuple[bool, float]:
    at = [one.at_s for one in own if one.used]
    return (len(at) > 1, max(at) - min(at)) if at else (False, 0.0)


def _beyond_s(now: PairingStatus) -> float:
    """Return by how much later a take was heard than its devices hear, where a person says so of it alone."""
    if now.judged.place is None or now.judged.place.by != Witness.SOUND:
        return 0.0
    sides = (now.picture, now.picture_source), (now.sound, now.sound_source)
    picture, sound = (solving.late_of(row, source) - solving.late_s(source) for row, source in sides)
    return picture - sound


def sightings(view: Overview) -> list[Sighting]:
    """Return every measurement of how far clocks are apart.

    Parameters
    ----------
    view : Overview
    """
    solution = view.solution
    line = unwrapped((row.start for row in view.recordings if row.start is not None), days.rate_of(view.day).day)
    made = []
    for now in view.statuses:
        place = now.judged.place
        keys = str(now.picture.id), str(now.sound.id)
        if place is None or now.picture.start is None or now.sound.start is None:
            continue
        if place.by == Witness.TIMECODE:
            continue  # placed by the clocks themselves: no measurement of them
        label = float(line(now.picture.start)) + place.at_s
        off = now.contradiction is not None and now.contradiction.about == Discord.PATTERN
        made.append(
            Sighting(
                solution.devices[keys[0]], solution.devices[keys[1]], label,
                place.offset_s + place.late_s - float(now.pairing.offset) - _beyond_s(now), place.se_s, place.by,
                used=not off and now.settled, key=str(now.pairing.id),
            )
        )  # fmt: skip
    return made
