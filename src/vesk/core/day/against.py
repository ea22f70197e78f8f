"""Clocks shown against a device that is taken for the truth. What was measured does not change by the choice."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from vesk.core.day.clocks import DeviceClock
from vesk.core.kinds import Witness


@dataclass(frozen=True, slots=True)
class Sighting:
    """One measurement of how far a camera's clock is ahead of a recorder's.

    Attributes
    ----------
    picture, sound : str
        Devices.
    at_s : float
        Label time, seconds.
    apart_s, se_s : float
        How far, and its standard error, seconds.
    by : Witness
    used : bool
        Whether the clocks rest on it.
    key : str
        Of the pairing, to the caller.
    """

    picture: str
    sound: str
    at_s: float
    apart_s: float
    se_s: float
    by: Witness
    used: bool
    key: str


@dataclass(frozen=True, slots=True)
class Segment:
    """A straight piece of a clock: label times, how far ahead it is at both ends with the standard errors, its rate."""

    since_s: float
    until_s: float
    ahead_s: tuple[float, float]
    se_s: tuple[float, float]
    ppm: float
    se_ppm: float
    goes_on: bool = False  # from the one before: a curve, bend by bend


@dataclass(frozen=True, slots=True)
class Shown:
    """A device's clock against another.

    Attributes
    ----------
    device, truth : str
    segments : tuple of Segment
        In the order of time; one of nothing for the truth itself.
    marks : tuple of (Sighting, float, float)
        Every measurement of it, when on the device's own labels, and how far ahead it says that it is, seconds.
    scatter_s : float
        Standard deviation of one measurement about the line.
    """

    device: str
    truth: str
    segments: tuple[Segment, ...]
    marks: tuple[tuple[Sighting, float, float], ...]
    scatter_s: float

    @property
    def jams(self) -> tuple[tuple[float, float], ...]:
        """Between which label times it, or the truth, was set anew."""
        return tuple((one.until_s, other.since_s) for one, other in pairwise(self.segments) if not other.goes_on)

    def ahead_at(self, label_s: float) -> tuple[float, float]:
        """Return how far ahead it is, and the standard error, seconds, by the segment that is nearest.

        Parameters
        ----------
        label_s : float
            Seconds.
        """
        one = min(self.segments, key=lambda own: max(0.0, own.since_s - label_s, label_s - own.until_s))
        beyond = label_s - one.until_s
        if beyond <= 0 or one.until_s <= one.since_s:
            span = max(one.until_s - one.since_s, 1e-9)
            share = min(max((label_s - one.since_s) / span, 0.0), 1.0)
            return (
                one.ahead_s[0] + share * (one.ahead_s[1] - one.ahead_s[0]),
                one.se_s[0] + share * (one.se_s[1] - one.se_s[0]),
            )
        error = (one.se_s[1] ** 2 + (one.se_ppm * 1e-6 * beyond) ** 2) ** 0.5
        return one.ahead_s[1] + one.ppm * 1e-6 * beyond, float(error)


def shown_against(
    clocks: Mapping[str, DeviceClock], sightings: Sequence[Sighting], truth: str | None = None
) -> list[Shown]:
    """Return every device's clock against one of them.

    Parameters
    ----------
    clocks : mapping of str to DeviceClock
    sightings : sequence of Sighting
    truth : str, optional
        A device; by default the reference that the day was solved against. Devices that nothing links with it are
        shown against the reference of their own.
    """
    made = []
    for device in sorted(clocks):
        reference = clocks[device].reference
        linked = truth in clocks and clocks[truth or ""].reference == reference
        against = truth if linked and truth is not None else reference
        segments = _segments(clocks[device], clocks[against]) if device != against else ()
        own = [one for one in sightings if device in {one.picture, one.sound}]
        marks = [
            (one, one.at_s - (0.0 if device == one.picture else one.apart_s), ahead)
            for one in own
            if (ahead := _ahead(one, device, clocks, against)) is not None
        ]
        stretches = (*clocks[device].stretches, *clocks[against].stretches)
        scatter = max((one.scatter_s for one in stretches), default=0.0)
        made.append(Shown(device, against, segments, tuple(marks) if device != against else (), scatter))
    return made


def _segments(own: DeviceClock, truth: DeviceClock) -> tuple[Segment, ...]:
    # The truth's breaks, as this clock names those moments.
    mine = {id(one): (own.at_moment(one.middle_s - one.ahead_s) or (0.0, 0.0))[0] for one in truth.stretches}
    theirs = [
        (edge - one.ahead_s + mine[id(one)], one) for one in truth.stretches for edge in (one.since_s, one.until_s)
    ]
    pieces = [(one.since_s, one.until_s) for one in own.stretches] or [
        (one.since_s - one.ahead_s, one.until_s - one.ahead_s) for one in truth.stretches
    ]
    cut: list[tuple[float, float]] = []
    for since, until in pieces:
        begin = since
        for (low, before), (high, after) in pairwise(sorted(theirs, key=lambda item: item[0])):
            # The truth was set anew in between: another line from here on.
            if before is not after and begin < low and high < until:
                cut.append((begin, low))
                begin = high
        cut.append((begin, until))
    bends = sorted(knot.at_s for one in own.stretches if one.curve is not None for knot in one.curve.knots)
    made = []
    for since, until in cut:  # a curve is drawn from bend to bend
        edges = [since, *(bend for bend in bends if since < bend < until), until]
        made += [
            replace(_segment(own, truth, low, high), goes_on=number > 0)
            for number, (low, high) in enumerate(pairwise(edges))
        ]
    return tuple(made)


def _segment(own: DeviceClock, truth: DeviceClock, since: float, until: float) -> Segment:
    ahead, errors = [], []
    for at in (since, until):
        one = own.at(at) or (0.0, 0.0)
        other = truth.at_moment(at - one[0]) or (0.0, 0.0)
        ahead.append(one[0] - other[0])
        errors.append(float((one[1] ** 2 + other[1] ** 2) ** 0.5))
    middle = (since + until) / 2
    stretches = own.stretch_at(middle), truth.stretch_at(middle - (ahead[0] + ahead[1]) / 2)
    rates = [0.0 if one is None else one.rate * 1e6 for one in stretches]
    spread = sum(0.0 if one is None else one.covariance[2] * 1e12 for one in stretches)
    return Segment(since, until, (ahead[0], ahead[1]), (errors[0], errors[1]), rates[0] - rates[1], float(spread**0.5))


def _ahead(one: Sighting, device: str, clocks: Mapping[str, DeviceClock], truth: str) -> float | None:
    other = one.sound if device == one.picture else one.picture
    if other not in clocks or one.picture == one.sound:
        return None
    # The camera's label; what the others' clocks say at that moment may be hours away.
    by_picture = device == one.picture
    known = clocks[other].at(one.at_s - (one.apart_s if by_picture else 0.0))
    if known is None:
        return None
    moment = one.at_s - one.apart_s - known[0] if by_picture else one.at_s - known[0]
    against = clocks[truth].at_moment(moment)
    if against is None:
        return None
    return (known[0] + one.apart_s if by_picture else known[0] - one.apart_s) - against[0]
