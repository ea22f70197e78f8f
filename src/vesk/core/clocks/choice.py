"""Which clock of a source is trusted: its header's timecode, timecode on a sound channel, or none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import accumulate, pairwise

from vesk.core.intake.counting import Names
from vesk.core.kinds import HEADER, LTC, NONE, Clock
from vesk.core.timecode import FrameRate, relabel, wrap_day
from vesk.core.wording import duration

CHOICES = (HEADER, LTC, NONE)
_MOSTLY = 0.5
_LEAST, _NEARLY_ALL, _FRAMES = 4, 0.8, 2  # recordings; of their joints; at a joint
_MOST_OF = 0.6
_REPEATS = (
    "{} recordings run at once by it, as where a song's timecode is played with every take: that is no time of day"
)
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
    stem : str
        Its file's name without the ending.
    """

    header: Fraction | None
    header_rate: FrameRate
    ltc: Fraction | None
    ltc_rate: FrameRate | None
    frame: Fraction
    seconds: Fraction = Fraction(0)
    size: int = 0
    stem: str = ""

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
    both are there and agree, LTC is the finer: it is true to a part of a sample. Timecode that begins anew with every
    take, as that of a song that is played back does, is no clock: by it one device's files would run at once.

    Parameters
    ----------
    recordings : sequence of Clocks
        What the clocks of each of the source's recordings say.
    day : FrameRate
        The day's label clock.
    """
    count = len(recordings)
    headers = [one for one in recordings if one.header is not None]
    coded = [(one, one.ltc) for one in recordings if one.ltc is not None]
    coded_at_once = _at_once(coded)
    if coded and len(coded) >= _MOSTLY * count and not coded_at_once:
        said = f"timecode on a sound channel of {len(coded)} of {count} recordings"
        return Choice(LTC, f"{said}{_against(recordings, day)}")
    if not headers:
        repeats = f"{_REPEATS.format(coded_at_once)}, by timecode on a sound channel"
        return Choice(NONE, repeats if coded_at_once else "no recording carries timecode")
    if why := _no_clock(headers):
        return Choice(NONE, why)
    some = "" if len(headers) == count else f" of {len(headers)} of {count} recordings"
    beside = f"{coded_at_once} run at once by that on a sound channel" if coded_at_once else "no LTC on a sound channel"
    return Choice(HEADER, f"timecode in the header{some}; {beside}")


def _no_clock(headed: Sequence[Clocks]) -> str:
    """Return why the timecode in the headers of some recordings is no clock; empty where it may be one."""
    starts = [one.header for one in headed]
    if all(start == 0 for start in starts):
        who = "it starts" if len(starts) == 1 else f"all {len(starts)} start"
        return f"{who} at zero: that is a counter, not a clock"
    if len(starts) > 2 and len(set(starts)) == 1:
        return "all start at the same label: that is no clock"
    if at_once := _at_once([(one, one.header) for one in headed if one.header is not None]):
        return _REPEATS.format(at_once)
    if meet := _meeting(headed):
        said = f"{meet} of {len(headed) - 1} recordings start where the one before ended"
        return f"counts only while it records: {said}"
    return ""


def _at_once(labelled: Sequence[tuple[Clocks, Fraction]]) -> int:
    """Return how many recordings of a source run at the same time by their labels, if one device made them; else 0.

    Most of them do, and their names count on: cameras filed as one run at once take by take, few of many, or each has
    names of its own. Parts that bear the label of their first are no others.

    Parameters
    ----------
    labelled : sequence of (Clocks, Fraction)
        Each with its start by that timecode, seconds.
    """
    distinct = {start: one.seconds for one, start in labelled}
    ends = sorted([(start, 1) for start in distinct] + [(start + lasts, -1) for start, lasts in distinct.items()])
    most = max(accumulate(step for _, step in ends), default=0)
    names = Names(one.stem for one, _ in labelled)
    ordered = sorted((one.stem for one, _ in labelled), key=names.place)
    counted = sum(names.count_on(one, after) for one, after in pairwise(ordered))
    one_device = counted >= _MOST_OF * (len(labelled) - 1)
    return most if one_device and most >= max(_LEAST, _MOST_OF * len(labelled)) else 0


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
