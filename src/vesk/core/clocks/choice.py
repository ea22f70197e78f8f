"""Which clock of a source is trusted: its header's timecode, timecode on a sound channel, or none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise

from vesk.core.kinds import HEADER, LTC, NONE, Clock
from vesk.core.timecode import FrameRate, relabel, wrap_day
from vesk.core.wording import duration

CHOICES = (HEADER, LTC, NONE)
_MOSTLY = 0.5
_LEAST, _NEARLY_ALL, _FRAMES = 4, 0.8, 2  # recordings; of their joints; at a joint
_AS_LARGE = 0.97  # files that end at a limit do so at a whole group of frames


@dataclass(frozen=True, slots=True)
class Clocks:
    """What one recording's clocks say: real seconds since label midnight at its start, and at which rate.

    Attributes
    ----------
    header, ltc : Fraction or None
        None where it has no such timecode.
    header_rate, ltc_rate : FrameRate
        What each counts at.
    frame : Fraction
        Of its picture, or of the day: seconds.
    seconds : Fraction
        That it lasts.
    size : int
        Bytes of its file.
    """

    header: Fraction | None
    header_rate: FrameRate
    ltc: Fraction | None
    ltc_rate: FrameRate | None
    frame: Fraction
    seconds: Fraction = Fraction(0)
    size: int = 0

    def apart(self, day: FrameRate) -> Fraction | None:
        """Return how much later the header says it starts than LTC does, seconds; None without both.

        Parameters
        ----------
        day : FrameRate
            The day's label clock; both starts are laid on it.
        """
        if self.header is None or self.ltc is None or self.ltc_rate is None:
            return None
        return wrap_day(relabel(self.header, self.header_rate, day) - relabel(self.ltc, self.ltc_rate, day), day.day)


@dataclass(frozen=True, slots=True)
class Choice:
    """The clock that is trusted, and why, for a person."""

    clock: Clock
    reason: str


@dataclass(frozen=True, slots=True)
class Period:
    """A stretch of the day, seconds on its label clock, in which a source is trusted by another clock."""

    since: Fraction
    before: Fraction
    clock: Clock

    def holds(self, start: Fraction | None) -> bool:
        """Say whether a recording that starts then is of it; a period may run past midnight."""
        if start is None:
            return False
        inside = self.since <= start < self.before
        return inside if self.since <= self.before else start >= self.since or start < self.before


@dataclass(frozen=True, slots=True)
class Said:
    """What a person said of a source's clock: which is trusted (none: as found), when another, at which rate."""

    clock: Clock | None = None
    periods: tuple[Period, ...] = ()
    rate: FrameRate | None = None


def choose_clock(recordings: Sequence[Clocks], day: FrameRate) -> Choice:
    """Choose a source's clock from all of its recordings.

    LTC comes from a box that was jammed; a header may be a camera's own setting. Where
    both are there and agree, LTC is the finer: it is true to a part of a sample.

    Parameters
    ----------
    recordings : sequence of Clocks
        What the clocks of each of the source's recordings say.
    day : FrameRate
        The day's label clock.
    """
    count = len(recordings)
    headers = [one.header for one in recordings if one.header is not None]
    coded = sum(one.ltc is not None for one in recordings)
    if coded and coded >= _MOSTLY * count:
        return Choice(LTC, f"timecode on a sound channel of {coded} of {count} recordings{_against(recordings, day)}")
    if not headers:
        return Choice(NONE, "no recording carries timecode")
    if all(start == 0 for start in headers):
        who = "it starts" if len(headers) == 1 else f"all {len(headers)} start"
        return Choice(NONE, f"{who} at zero: that is a counter, not a clock")
    if len(headers) > 2 and len(set(headers)) == 1:
        return Choice(NONE, "all start at the same label: that is no clock")
    if meet := _meeting(recordings):
        said = f"{meet} of {len(headers) - 1} recordings start where the one before ended"
        return Choice(NONE, f"counts only while it records: {said}")
    some = "" if len(headers) == count else f" of {len(headers)} of {count} recordings"
    return Choice(HEADER, f"timecode in the header{some}; no LTC on a sound channel")


def _meeting(recordings: Sequence[Clocks]) -> int:
    """Return how many recordings begin where the one before ended by its header, if that is nearly all; else 0.

    Files as long, or as large, as each other are the parts of one recording, which begin so whatever their clock does.
    """
    known = sorted((one for one in recordings if one.header is not None), key=lambda one: one.header or 0)
    ends = [
        one
        for one, after in pairwise(known)
        if abs((one.header or 0) + one.seconds - (after.header or 0)) <= _FRAMES * one.frame
    ]
    lengths = {round(one.seconds / one.frame) for one in ends}
    full = sum(one.size > _AS_LARGE * max(other.size for other in ends) for one in ends)
    if len(lengths) < _LEAST - 1 or len(ends) < _NEARLY_ALL * (len(known) - 1) or full > _MOSTLY * len(ends):
        return 0
    return len(ends)


def _against(recordings: Sequence[Clocks], day: FrameRate) -> str:
    apart = [(value, one.frame) for one in recordings if (value := one.apart(day)) is not None]
    if not apart:
        return "; headers carry none"
    worst, frame = max(apart, key=lambda item: abs(item[0]))
    if abs(worst) <= frame:
        return "; headers agree to a frame"
    way = "ahead of" if worst > 0 else "behind"
    return f"; headers are up to {duration(abs(float(worst)))} {way} it"
