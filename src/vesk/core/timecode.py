"""Timecode: a frame counted from midnight, and the label written for it.

Time is held as whole frames at an exact rate. Floats appear nowhere: one hour
at 30000/1001 is 107892 frames and 107892 * 1001/30000 seconds, exactly.

Source: SMPTE ST 12-1 for labels and drop-frame counting; EBU Tech 3285 for
the broadcast WAV time reference.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from math import ceil, floor

from vesk.core.errors import NumberError, TimecodeError
from vesk.core.figures import read_number, shortened

_LABEL = re.compile(r"(\d\d):(\d\d):(\d\d)([:;])(\d\d\d?)", re.ASCII)
MINUTES_PER_DAY = 24 * 60
_NTSC = {24, 30, 48, 60, 120}
RATES = tuple(
    [Fraction(n) for n in (24, 25, 30, 48, 50, 60, 100, 120)] + [Fraction(n * 1000, 1001) for n in sorted(_NTSC)]
)
"""Frames a second that are in use, exact."""


@dataclass(frozen=True, slots=True)
class FrameRate:
    """An exact frame rate, and whether its labels skip numbers (drop-frame)."""

    fps: Fraction
    drop: bool = False

    def __post_init__(self) -> None:
        if not isinstance(self.fps, Fraction) or self.fps <= 0:
            raise TimecodeError(f"a frame rate is a positive Fraction, not {self.fps!r}")
        if self.drop and self.fps != Fraction(self.nominal * 1000, 1001):
            raise TimecodeError(f"drop-frame needs n*1000/1001 frames per second, not {self.fps}")
        if self.drop and self.nominal % 30:
            raise TimecodeError(f"drop-frame needs a multiple of 30, not {self.nominal}")

    @classmethod
    def parse(cls, text: str) -> FrameRate:
        """Read ``25``, ``23.976``, ``24000/1001``, ``29.97 DF`` or ``29.97 NDF``.

        Raises
        ------
        TimecodeError
            If `text` names no rate of the trade.

        Examples
        --------
        >>> FrameRate.parse("29.97 DF")
        FrameRate(fps=Fraction(30000, 1001), drop=True)
        """
        words = text.strip().upper().replace("NDF", " NDF").split()
        drop = "DF" in words or (bool(words) and words[0].endswith("DF") and "NDF" not in words)
        number = words[0].removesuffix("DF") if words else ""
        if set(words[1:]) - {"DF", "NDF", "FPS"}:
            raise TimecodeError(f"{shortened(text)} is not a frame rate; write 25, 23.976 or 29.97 DF")
        try:
            value = read_number(number)
        except NumberError as error:
            raise TimecodeError(f"{shortened(text)} is not a frame rate; write 25, 23.976 or 29.97 DF") from error
        rate = nearest_rate(value)
        if rate is None:
            raise TimecodeError(f"{shortened(text)} is not a frame rate in use; write 25, 23.976 or 29.97 DF")
        return cls(rate, drop)

    @property
    def nominal(self) -> int:
        """Label numbers per second: 30 for 30000/1001."""
        return ceil(self.fps)

    @property
    def skipped(self) -> int:
        """Label numbers skipped in each minute not divisible by ten."""
        return self.nominal // 15 if self.drop else 0

    @property
    def frames_per_day(self) -> int:
        """Frames from the label 00:00:00:00 until it comes again."""
        tens = MINUTES_PER_DAY // 10
        return MINUTES_PER_DAY * 60 * self.nominal - 9 * tens * self.skipped

    @property
    def day(self) -> Fraction:
        """Real seconds from one label midnight to the next."""
        return self.frames_per_day / self.fps

    def __str__(self) -> str:
        if self.fps.denominator == 1:
            return str(self.fps.numerator)
        text = f"{float(self.fps):.3f}".rstrip("0")
        return f"{text} DF" if self.drop else text


def nearest_rate(value: Fraction) -> Fraction | None:
    """Return the exact rate of the trade that a written number means, or None.

    Parameters
    ----------
    value : Fraction
        Frames a second, as written.

    Examples
    --------
    >>> nearest_rate(Fraction("23.98")), nearest_rate(Fraction(25)), nearest_rate(Fraction(17))
    (Fraction(24000, 1001), Fraction(25, 1), None)
    """
    best = min(RATES, key=lambda rate: abs(rate - value))
    # 23.976 and 24 lie 0.1 % apart; two decimals ("23.98") are 0.017 % off.
    return best if abs(best - value) / best < Fraction(25, 100_000) else None


@dataclass(frozen=True, slots=True)
class Timecode:
    """Frame *frame* after midnight at *rate*. Immutable; compares by value."""

    frame: int
    rate: FrameRate

    def __post_init__(self) -> None:
        if not isinstance(self.frame, int) or not 0 <= self.frame < self.rate.frames_per_day:
            raise TimecodeError(f"{self.frame!r} is not a frame of one day at {self.rate.fps}")

    @classmethod
    def parse(cls, label: str, rate: FrameRate) -> Timecode:
        """Read ``HH:MM:SS:FF``, or ``HH:MM:SS;FF`` at a drop-frame rate.

        Parameters
        ----------
        label : str
            As written.
        rate : FrameRate
            That it counts at.
        """
        match = _LABEL.fullmatch(label)
        if match is None:
            raise TimecodeError(f"{shortened(label)} is not of the form HH:MM:SS:FF")
        if (match[4] == ";") != rate.drop:
            raise TimecodeError(f"{shortened(label)} has the wrong separator for its rate")
        hour, minute, second, number = (int(match[i]) for i in (1, 2, 3, 5))
        if hour > 23 or minute > 59 or second > 59 or number >= rate.nominal:
            raise TimecodeError(f"{shortened(label)} is out of range at {rate.fps}")
        if minute % 10 and second == 0 and number < rate.skipped:
            raise TimecodeError(f"{shortened(label)} is a number that drop-frame skips")
        minutes = 60 * hour + minute
        labels = (60 * minutes + second) * rate.nominal + number
        return cls(labels - rate.skipped * (minutes - minutes // 10), rate)

    @classmethod
    def at(cls, seconds: Fraction, rate: FrameRate) -> Timecode:
        """Return the frame that covers `seconds` of real time after midnight, wrapped to one day.

        Parameters
        ----------
        seconds : Fraction
            Real seconds after label midnight, of either sign.
        rate : FrameRate
            That it counts at.
        """
        return cls(floor(seconds * rate.fps) % rate.frames_per_day, rate)

    def __str__(self) -> str:
        labels = self.frame + self._labels_skipped_before()
        seconds, number = divmod(labels, self.rate.nominal)
        minutes, second = divmod(seconds, 60)
        hour, minute = divmod(minutes, 60)
        separator = ";" if self.rate.drop else ":"
        width = 3 if self.rate.nominal > 100 else 2
        return f"{hour:02}:{minute:02}:{second:02}{separator}{number:0{width}}"

    def __add__(self, frames: int) -> Timecode:
        return Timecode((self.frame + frames) % self.rate.frames_per_day, self.rate)

    @property
    def seconds(self) -> Fraction:
        """Real time since midnight, exact."""
        return self.frame / self.rate.fps

    def _labels_skipped_before(self) -> int:
        skipped, nominal = self.rate.skipped, self.rate.nominal
        tens, rest = divmod(self.frame, 600 * nominal - 9 * skipped)
        # Only the first minute of each ten is whole, so count from its end.
        short_minutes = max(0, (rest - skipped) // (60 * nominal - skipped))
        return skipped * (9 * tens + short_minutes)


def time_reference(timecode: Timecode, sample_rate: int) -> Fraction:
    """Return the broadcast WAV time reference of a label: samples since label midnight.

    Parameters
    ----------
    timecode : Timecode
        The label, at the recorder's timecode rate.
    sample_rate : int
        Samples per second, Hz.

    Returns
    -------
    Fraction
        Samples since midnight of label time; whole at most rates.

    Examples
    --------
    >>> rate = FrameRate(Fraction(24000, 1001))
    >>> time_reference(Timecode.parse("10:00:00:00", rate), 48000)
    Fraction(1729728000, 1)
    """
    return timecode.seconds * sample_rate


def relabel(seconds: Fraction, rate: FrameRate, onto: FrameRate) -> Fraction:
    """Carry a moment from one rate's label clock onto another's.

    Two machines jammed together show the same *label*; how many real seconds
    that label lies after midnight depends on the rate each counts at.

    Parameters
    ----------
    seconds : Fraction
        Real seconds after label midnight, counted at `rate`; may be negative or past a day.
    rate, onto : FrameRate
        The clock it was counted on, and the one asked about.

    Returns
    -------
    Fraction
        Real seconds after label midnight on `onto`, of the same label.

    Examples
    --------
    >>> relabel(Fraction(36000), FrameRate(Fraction(24)), FrameRate(Fraction(24000, 1001)))
    Fraction(36036, 1)
    """
    if rate == onto:
        return seconds
    days, rest = divmod(seconds, rate.day)
    whole = floor(rest * rate.fps)
    part = rest * rate.fps - whole  # fraction of a frame
    label = str(Timecode(whole, rate))
    head, number = re.split(r"[:;](?=\d+$)", label)
    minute, second = int(head[3:5]), int(head[6:8])
    position = (int(number) + part) * onto.nominal / rate.nominal  # in label numbers of `onto`
    minutes = int(head[:2]) * 60 + minute
    numbers = (minutes * 60 + second) * onto.nominal + position
    # Labels that drop-frame skips are read as the first one that exists.
    if minute % 10 and second == 0 and position < onto.skipped:
        numbers += onto.skipped - position
    frames = numbers - onto.skipped * (minutes - minutes // 10)
    return days * onto.day + frames / onto.fps


def wrap_day(seconds: Fraction, day: Fraction) -> Fraction:
    """Bring a difference of two label times into half a day either way (midnight wraps).

    Parameters
    ----------
    seconds : Fraction
        The difference.
    day : Fraction
        Length of a day of labels, seconds.
    """
    return (seconds + day / 2) % day - day / 2


def unwrapped(starts: Iterable[Fraction], day: Fraction) -> Callable[[Fraction], Fraction]:
    """Return a function that lays the label times of a shoot day on one line, also across midnight.

    The day begins after the longest stretch in which nothing starts; what is labelled earlier belongs to the night
    after.

    Parameters
    ----------
    starts : iterable of Fraction
        Label times at which something starts, seconds.
    day : Fraction
        Length of a day of labels, seconds.

    Examples
    --------
    >>> line = unwrapped([Fraction(86_000), Fraction(300)], Fraction(86_400))
    >>> line(Fraction(300)), line(Fraction(86_000))
    (Fraction(86700, 1), Fraction(86000, 1))
    """
    ordered = sorted({start % day for start in starts})
    if not ordered:
        return lambda start: start
    gaps = [(ordered[0] + day - ordered[-1], ordered[0])]
    gaps += [(after - start, after) for start, after in pairwise(ordered)]
    _, begin = max(gaps, key=lambda gap: gap[0])
    return lambda start: start % day + (day if start % day < begin else 0)
