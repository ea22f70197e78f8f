"""A recording's timecode as sound tells it: rate, the label at its first sample, its clock's error, its breaks."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vesk.core.ltc.frames import Frames
from vesk.core.timecode import FrameRate, Timecode

LEAST_FRAMES = 3  # fewer in a row may be chance
_RATES = (Fraction(24), Fraction(25), Fraction(30), Fraction(24000, 1001), Fraction(30000, 1001))


@dataclass(frozen=True, slots=True)
class LtcRun:
    """A stretch over which labels follow one another.

    Attributes
    ----------
    first_sample : float
        Sample at which frame `first` begins, by a straight line through the run.
    first, last : Timecode
    frames : int
        Frames read in it; those missing are not counted.
    period : float
        Samples a frame.
    se_sample, se_period : float
        Standard errors of `first_sample` (samples) and `period` (samples a frame).
    missing : int
        Frames between first and last that could not be read.
    """

    first_sample: float
    first: Timecode
    last: Timecode
    frames: int
    period: float
    se_sample: float
    se_period: float
    missing: int


@dataclass(frozen=True, slots=True)
class LtcBreak:
    """Where labels stop following one another: the sample, the label expected there, and the one found."""

    at_sample: float
    expected: Timecode
    found: Timecode


@dataclass(frozen=True, slots=True)
class LtcTrack:
    """What linear timecode on one channel says.

    Attributes
    ----------
    rate : FrameRate
    sample_rate : int
        As the file names it, Hz.
    runs : tuple of LtcRun
        In the order of time; at least one.
    breaks : tuple of LtcBreak
    user_bits : str
        Eight hexadecimal digits, the last group first, as they are written; the commonest.
    """

    rate: FrameRate
    sample_rate: int
    runs: tuple[LtcRun, ...]
    breaks: tuple[LtcBreak, ...]
    user_bits: str

    @property
    def longest(self) -> LtcRun:
        """The run that says most."""
        return max(self.runs, key=lambda run: run.frames)

    @property
    def frames(self) -> int:
        """Frames read in all runs."""
        return sum(run.frames for run in self.runs)

    @property
    def start(self) -> Fraction:
        """Real seconds since label midnight at the recording's first sample, to a nanosecond; may be below zero."""
        run = self.longest
        frames = run.first.frame - run.first_sample / run.period
        return Fraction(round(frames / float(self.rate.fps) * 1e9), 10**9)

    @property
    def ppm(self) -> float:
        """How much the recording's sample clock runs fast against its timecode, ppm."""
        return self.longest.period / self._nominal * 1e6 - 1e6

    @property
    def se_ppm(self) -> float:
        """Standard error of `ppm`."""
        return self.longest.se_period / self._nominal * 1e6

    @property
    def _nominal(self) -> float:
        return self.sample_rate / float(self.rate.fps)

    @property
    def label(self) -> str:
        """The label of the frame that covers the first sample."""
        return str(Timecode.at(self.start, self.rate))


def lay_track(frames: Frames, sample_rate: int) -> LtcTrack | None:
    """Chain single frames into runs and fit each; None when nothing follows on.

    Parameters
    ----------
    frames : Frames
        In the order of time.
    sample_rate : int
        Hz, as the file names it.

    Notes
    -----
    A frame counts only if the next or the one before agrees with it: its label as many frames on as
    the time between them. A misread one agrees with neither and is dropped.
    """
    if frames.size < LEAST_FRAMES:
        return None
    rate = _rate_of(frames, sample_rate)
    number = _numbers(frames, rate)
    day = rate.frames_per_day
    period = float(np.median(frames.period))
    keep = np.arange(frames.size)
    groups: list[NDArray[np.int64]] = []
    for _ in range(3):  # what was dropped lets its neighbours meet
        groups = _groups(frames.start[keep], number[keep], period, day)
        groups = [keep[group] for group in groups if group.size >= LEAST_FRAMES]
        if not groups:
            return None
        kept = np.concatenate(groups)
        if kept.size == keep.size:
            break
        keep = kept
    runs = tuple(_run(frames.start[group], number[group], rate) for group in groups)
    breaks = tuple(_break(before, after, rate) for before, after in pairwise(runs))
    values, counts = np.unique(frames.user[np.concatenate(groups)], return_counts=True)
    return LtcTrack(rate, sample_rate, runs, breaks, f"{int(values[np.argmax(counts)]):08X}")


def _rate_of(frames: Frames, sample_rate: int) -> FrameRate:
    """Return the rate nearest to the frames' length; which of 23.976 and 24 it is, the clocks decide."""
    fps = sample_rate / float(np.median(frames.period))
    drop = float(frames.drop.mean()) > 0.5
    if drop:
        return FrameRate(Fraction(30000, 1001), drop=True)
    highest = int(np.quantile(frames.number, 0.99)) if frames.size > 60 else 0
    able = [rate for rate in _RATES if rate > highest]
    return FrameRate(min(able or list(_RATES), key=lambda rate: abs(float(rate) - fps)))


def _numbers(frames: Frames, rate: FrameRate) -> NDArray[np.int64]:
    minutes = frames.hour * 60 + frames.minute
    labels = (minutes * 60 + frames.second) * rate.nominal + frames.number
    return np.asarray(labels - rate.skipped * (minutes - minutes // 10))


def _groups(start: NDArray[np.float64], number: NDArray[np.int64], period: float, day: int) -> list[NDArray[np.int64]]:
    passed = np.diff(start) / period
    follows = np.rint(passed).astype(np.int64)
    on = (np.diff(number) - follows) % day == 0
    on &= np.abs(passed - follows) < 0.2 + 2e-3 * follows
    return np.split(np.arange(start.size), np.flatnonzero(~on) + 1)


def _run(start: NDArray[np.float64], number: NDArray[np.int64], rate: FrameRate) -> LtcRun:
    # Counted on past midnight, so that the line is straight.
    steps = np.diff(number) % rate.frames_per_day
    count = np.concatenate([[0], np.cumsum(steps)]).astype(np.float64)
    middle = count.mean()
    spread = float(((count - middle) ** 2).sum())
    period = float(((count - middle) * (start - start.mean())).sum()) / spread
    left = start - start.mean() - period * (count - middle)
    noise = float((left**2).sum()) / max(start.size - 2, 1)
    first_sample = float(start.mean() - period * middle)
    return LtcRun(
        first_sample, Timecode(int(number[0]), rate), Timecode(int(number[-1]), rate), int(start.size), period,
        float(np.sqrt(noise * (1 / start.size + middle**2 / spread))), float(np.sqrt(noise / spread)),
        int(count[-1]) + 1 - int(start.size),
    )  # fmt: skip


def _break(before: LtcRun, after: LtcRun, rate: FrameRate) -> LtcBreak:
    passed = round((after.first_sample - before.first_sample) / before.period)
    expected = Timecode((before.first.frame + passed) % rate.frames_per_day, rate)
    return LtcBreak(after.first_sample, expected, after.first)
