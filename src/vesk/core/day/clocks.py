"""Every device's clock over the day, as its sound tells: all pairings together, against one reference.

What is found is the clock *as heard*: how far ahead of the reference its labels seem where the two sounds agree. A
lateness of the device's ears is in it, and is told apart elsewhere (`lateness`).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from vesk.core.day.stretches import Stretch, find_stretches

_WANDER = 1e-7  # of a clock beyond what was measured of it: seconds a second
_ALIKE_S = 0.05
_ROUNDS = 2


@dataclass(frozen=True, slots=True)
class Apart:
    """What one pairing measures: how far a camera's clock is ahead of a recorder's at a label time, seconds.

    `picture` and `sound` are tags, `recordings` the keys of both recordings; `label_s` is the camera's.
    """

    picture: str
    sound: str
    recordings: tuple[str, str]
    label_s: float
    apart_s: float
    se_s: float

    @property
    def sound_label_s(self) -> float:
        """What the recorder's clock says at that moment: hours away, where one of the two is."""
        return self.label_s - self.apart_s


@dataclass(frozen=True, slots=True)
class DeviceClock:
    """A device's clock as heard.

    Attributes
    ----------
    device, reference : str
        Tags: whose, and against whose it is told; the same for the reference itself.
    stretches : tuple of Stretch
        In the order of time; empty for the reference.
    """

    device: str
    reference: str
    stretches: tuple[Stretch, ...] = ()

    def at(self, label_s: float, *, without: int | None = None) -> tuple[float, float] | None:
        """Return how far ahead it is at a label time and the standard error, seconds; None where nothing tells.

        Parameters
        ----------
        label_s : float
            Seconds.
        without : int, optional
            Index of a measurement that must not vouch for itself: None where its stretch rests on little else.
        """
        if self.device == self.reference:
            return 0.0, 0.0
        if not self.stretches:
            return None
        # Nearest in time; between two nobody knows when the break was.
        ordered = sorted(self.stretches, key=lambda one: _away(one, label_s))
        own = ordered[0]
        if len(own.members) - (without in own.members) < (1 if without is None else 2):
            return None
        error = (own.error_at(label_s) ** 2 + (_WANDER * _away(own, label_s)) ** 2) ** 0.5
        away = _away(own, label_s)
        if away > 0 and len(ordered) > 1:
            other = ordered[1]
            gap = away + _away(other, label_s)
            between = min(own.until_s, other.until_s) < label_s < max(own.since_s, other.since_s)
            if between and gap > 0:
                chance = away / gap
                differ = other.ahead_at(label_s) - own.ahead_at(label_s)
                error = (error**2 + chance * (1 - chance) * differ**2) ** 0.5
        return own.ahead_at(label_s), error

    def at_moment(self, reference_s: float, *, without: int | None = None) -> tuple[float, float] | None:
        """Return the same at a moment that the reference's clock names: its own may say hours more or less then.

        Parameters
        ----------
        reference_s : float
            Seconds, on the reference's clock.
        without : int, optional
            As of `at`.
        """
        near = self.at(reference_s, without=without)
        return None if near is None else self.at(reference_s + near[0], without=without)

    def stretch_at(self, label_s: float) -> Stretch | None:
        """Return the stretch that a label time is of, or lies nearest to; None for the reference.

        Parameters
        ----------
        label_s : float
            Seconds.
        """
        return min(self.stretches, key=lambda one: _away(one, label_s), default=None)


def _away(stretch: Stretch, label_s: float) -> float:
    return max(0.0, stretch.since_s - label_s, label_s - stretch.until_s)


def around(clocks: Sequence[DeviceClock], low_s: float, high_s: float) -> tuple[float | None, float | None]:
    """Return between which breaks of several clocks a part of the day lies; None where there is no break.

    Parameters
    ----------
    clocks : sequence of DeviceClock
    low_s, high_s : float
        Label times of the part, seconds.
    """
    edges = []
    for clock in clocks:
        ordered = sorted(clock.stretches, key=lambda one: one.since_s)
        edges += [(one.until_s + other.since_s) / 2 for one, other in pairwise(ordered)]
    before = [edge for edge in edges if edge <= low_s]
    after = [edge for edge in edges if edge > high_s]
    return max(before, default=None), min(after, default=None)


def solve_clocks(measured: Sequence[Apart], *, prefer: Sequence[str] = ()) -> dict[str, DeviceClock]:
    """Solve the clocks of all devices that pairings link, each group of linked devices against its own reference.

    Parameters
    ----------
    measured : sequence of Apart
    prefer : sequence of str
        Tags that shall be the reference rather than the recorder that most pairings rest on.

    Returns
    -------
    dict of str to DeviceClock
        By tag. Indices in stretches' members are those of `measured`.
    """
    clocks: dict[str, DeviceClock] = {}
    recorders = {one.sound for one in measured}
    own: dict[str, list[int]] = {}
    for index, one in enumerate(measured):
        own.setdefault(one.picture, []).append(index)
        own.setdefault(one.sound, []).append(index)
    # Recorders first: they run on, and cameras are held against them.
    ranked = sorted(own, key=lambda tag: (tag not in prefer, tag not in recorders, -len(own[tag]), tag))
    for reference in ranked:
        if reference in clocks:
            continue
        clocks[reference] = DeviceClock(reference, reference)
        group = _linked(reference, measured, own)
        for _ in range(_ROUNDS if len(group) > 1 else 1):
            for device in group:
                clocks[device] = _solve_one(device, reference, measured, own[device], clocks)
            if not _shared(group, measured, own):
                break  # each hangs on the reference alone: nothing changes in another round
    return clocks


def _linked(reference: str, measured: Sequence[Apart], own: Mapping[str, list[int]]) -> list[str]:
    """Return the devices linked with one, the nearest first."""
    found = [reference]
    for device in found:
        others = {tag for index in own[device] for tag in (measured[index].picture, measured[index].sound)}
        found += sorted(others - set(found))
    return found[1:]


def _shared(group: list[str], measured: Sequence[Apart], own: Mapping[str, list[int]]) -> bool:
    """Say whether a device of a group is linked with more than one other."""
    return any(
        len({tag for index in own[device] for tag in (measured[index].picture, measured[index].sound)}) > 2
        for device in group
    )


def _solve_one(
    device: str, reference: str, measured: Sequence[Apart], own: list[int], clocks: Mapping[str, DeviceClock]
) -> DeviceClock:
    points: dict[tuple[str, int], list[tuple[float, float, float, int]]] = {}
    for index in own:
        one = measured[index]
        by_picture = one.picture == device
        other = clocks.get(one.sound if by_picture else one.picture)
        labels = one.label_s, one.sound_label_s
        mine, others = labels if by_picture else reversed(labels)
        known = other.at(others) if other is not None else None
        if known is None:
            continue
        ahead = one.apart_s + known[0] if by_picture else known[0] - one.apart_s
        # What one recording says several times it says once: its label is rounded once.
        key = one.recordings[0 if by_picture else 1], round(ahead / _ALIKE_S)
        points.setdefault(key, []).append((mine, ahead, (one.se_s**2 + known[1] ** 2) ** 0.5, index))
    groups = list(points.values())
    means = [tuple(sum(values) / len(group) for values in zip(*group, strict=True)) for group in groups]
    at, ahead_s, se = ([mean[n] for mean in means] for n in range(3))
    stretches = [
        Stretch(
            one.since_s, one.until_s, one.middle_s, one.ahead_s, one.rate, one.scatter_s, one.covariance,
            tuple(index for n in one.members for *_, index in groups[n]), one.curve,
        )
        for one in find_stretches(at, ahead_s, se)
    ]  # fmt: skip
    return DeviceClock(device, reference, tuple(stretches))
