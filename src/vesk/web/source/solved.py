"""What the day as a whole says of one source: its clock in stretches, and how late it hears."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.day.lateness import Lateness
from vesk.core.day.solution import Solution
from vesk.core.timecode import FrameRate, Timecode


@dataclass(frozen=True, slots=True)
class ToldStretch:
    """A stretch of a device's clock: its labels, how far ahead of the reference it is, its drift, and how sure."""

    device: str
    since: str
    until: str
    ahead_s: float
    band_s: float
    ppm: float
    takes: int


@dataclass(frozen=True, slots=True)
class Told:
    """What is told of a source: against which device, its stretches, how late it hears; several devices share a tag."""

    reference: str
    stretches: tuple[ToldStretch, ...]
    ears: tuple[tuple[str, Lateness], ...]


def told_of(solution: Solution, tag: str, clock: FrameRate) -> Told:
    """Return what a day's solution says of a source.

    Parameters
    ----------
    solution : Solution
    tag : str
    clock : FrameRate
        The day's label clock.
    """
    devices = sorted(device for device, filed in solution.sources.items() if filed == tag)
    clocks = [found for device in devices if (found := solution.clocks.get(device)) is not None]

    def label(seconds: float) -> str:
        return str(Timecode.at(Fraction(round(seconds * 1000), 1000) % clock.day, clock))[:8]

    stretches = tuple(
        ToldStretch(
            own.device, label(one.since_s), label(one.until_s), one.ahead_s, 1.96 * one.error_at(one.middle_s),
            one.rate * 1e6, len(one.members),
        )
        for own in clocks
        for one in own.stretches
    )  # fmt: skip
    ears = tuple((device, solution.lateness[device]) for device in devices if device in solution.lateness)
    return Told(next((own.reference for own in clocks), ""), stretches, ears)
