"""What measuring two recordings by sound gives: plain values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from vesk.core.kinds import REFUSED, Decision, Gained
from vesk.core.plain import Plain

# One metre of movement is 2.9 ms and a microphone's filter 60 to 90 µs: what is shown to a
# person claims no more than this of the world, however well the method does on arrays.
WORLD_FLOOR_S = 50e-6
_SAME_STEP_S = 1e-3  # measured once more, of a file that was delivered


@dataclass(frozen=True, slots=True)
class TracePoint:
    """One window of the trace.

    Attributes
    ----------
    at_s : float
        Picture time of the window's middle, seconds.
    offset_s : float
        Offset found in it: picture time minus sound time, seconds.
    weight : float
        0 to 1: how clearly the window spoke.
    agrees : bool
        Whether it lies on the line.
    """

    at_s: float
    offset_s: float
    weight: float
    agrees: bool


@dataclass(frozen=True, slots=True)
class Jump:
    """Samples lost or gained at one place.

    Attributes
    ----------
    at_s : float
        Picture time of the last sound before it, seconds.
    step_s : float
        By how much the offset grows there, seconds: positive where the sound lost samples.
    low_s, high_s : float
        Between these picture times it happened (95 %): wide where nothing sounded.
    se_step_s : float
        Standard error of the step, seconds.
    gained : Gained or None
        What one of the two holds there beyond what sounded, as it is seen in itself: the sound where the step is
        negative, the scratch where it is positive. None where nothing is seen: which of the two it was is not known.
    """

    at_s: float
    step_s: float
    low_s: float
    high_s: float
    se_step_s: float
    gained: Gained | None = None

    @property
    def is_scratchs(self) -> bool:
        """Whether the scratch itself shows that it gained samples: the sound lost none."""
        return self.gained is not None and self.step_s > 0

    def samples(self, sample_rate: int) -> int:
        """Return the samples that the sound gained at its own rate; negative where it lost some.

        Parameters
        ----------
        sample_rate : int
            Of the sound, Hz.
        """
        return -round(self.step_s * sample_rate)


@dataclass(frozen=True, slots=True)
class Line:
    """Offset along the take: a line, with a step at each jump; and its errors.

    Attributes
    ----------
    middle_s : float
        Picture time about which the line turns, seconds.
    at_middle_s : float
        Offset there, seconds, of the line before the first jump.
    ppm : float
        Rate error of the sound against the picture (`job` convention).
    se_middle_s, se_ppm : float
        Standard errors of the method.
    jumps : tuple of Jump
        In the order of time.
    covariance : tuple of tuple of float
        Of (offset at the middle in s, slope in s per s, each jump's step in s); empty when only
        the two standard errors are known, which then are taken as uncorrelated.
    places : tuple of (float, float)
        Where people speak from several places: by how much later (seconds) each is heard on the picture than the one
        that the line follows, and its share of the windows; that one first. Empty where all is heard from one.
    moves : tuple of (float, float)
        Where somebody walks, or carries the microphone: by how much later (seconds) than along the line is heard at
        these picture times, straight between them. No clock did that, and nothing is corrected for it.
    bends : tuple of (float, float, float)
        Where a clock's rate wanders: by how much the offset lies above the straight line at these picture times, with
        its standard error, seconds; straight between them. `ppm` is then the mean rate.
    unsure : tuple of Jump
        Steps in pauses so long that somebody may have walked as far: or samples were lost there. Not in the line.
    echoes : tuple of float
        By how much later (seconds) the same sound is heard once more on the picture; negative: on the sound. The line
        follows what arrives first.
    hall : float
        Standard error of which arrival that is where one of the two is far off in a hall, seconds; positive where the
        picture is, negative where the sound is, 0 where neither.
    """

    middle_s: float
    at_middle_s: float
    ppm: float
    se_middle_s: float
    se_ppm: float
    jumps: tuple[Jump, ...] = ()
    covariance: tuple[tuple[float, ...], ...] = ()
    places: tuple[tuple[float, float], ...] = ()
    moves: tuple[tuple[float, float], ...] = ()
    bends: tuple[tuple[float, float, float], ...] = ()
    unsure: tuple[Jump, ...] = ()
    echoes: tuple[float, ...] = ()
    hall: float = 0.0

    def wider(self, by_s: float) -> Line:
        """Return the line with a further standard error (s) of where it lies as a whole.

        Parameters
        ----------
        by_s : float
        """
        first, *rest = self.covariance or ((),)
        covariance = ((first[0] + by_s**2, *first[1:]), *rest) if first else ()
        return replace(self, se_middle_s=float(np.hypot(self.se_middle_s, by_s)), covariance=covariance)

    def offset_at(self, picture_s: float) -> float:
        """Return the offset (seconds) at a picture time: where it minus sound time lies.

        Parameters
        ----------
        picture_s : float
            Seconds.
        """
        # n/fs = (t - offset0)(1 + p); offset(t) = t - n/fs falls by p for each picture second.
        steps = sum(jump.step_s for jump in self.jumps if picture_s > jump.at_s)
        return self.at_middle_s - self.ppm * 1e-6 * (picture_s - self.middle_s) + steps + self._bent(picture_s)[0]

    def _bent(self, picture_s: float) -> tuple[float, float]:
        """Return by how much the offset lies above the straight line, and its standard error, seconds."""
        if not self.bends:
            return 0.0, 0.0
        at, above, error = zip(*self.bends, strict=True)
        return float(np.interp(picture_s, at, above)), float(np.interp(picture_s, at, error))

    @property
    def wander_s(self) -> float:
        """By how much the offset leaves a straight line at most, seconds; 0 for a steady clock."""
        return max((abs(above) for _, above, _ in self.bends), default=0.0)

    def standard_error_at(self, picture_s: float) -> float:
        """Return the standard error (seconds) of the offset at a picture time.

        Parameters
        ----------
        picture_s : float
            Seconds.
        """
        away = picture_s - self.middle_s
        if not self.covariance:
            bent = self._bent(picture_s)[1]
            return float((self.se_middle_s**2 + (self.se_ppm * 1e-6 * away) ** 2 + bent**2) ** 0.5)
        row = [1.0, away, *(1.0 if picture_s > jump.at_s else 0.0 for jump in self.jumps)]
        variance = sum(
            a * b * c for a, line in zip(row, self.covariance, strict=True) for b, c in zip(row, line, strict=True)
        )
        return float((max(variance, 0.0) + self._bent(picture_s)[1] ** 2) ** 0.5)

    def band_at(self, picture_s: float) -> float:
        """Return the half width (seconds) of the 95 % band shown to a person, with the world's floor.

        Parameters
        ----------
        picture_s : float
            Seconds.
        """
        return float(((1.96 * self.standard_error_at(picture_s)) ** 2 + WORLD_FLOOR_S**2) ** 0.5)

    @property
    def offset_s(self) -> float:
        """Picture time of sound sample 0, seconds, by the line before the first jump."""
        rate = self.ppm * 1e-6
        # Solve t - offset_at(t) = 0 for t.
        return (self.at_middle_s + rate * self.middle_s) / (1 + rate)


def as_walked(line: Line, ppm: float, head_s: float, tail_s: float) -> Line:
    """Return a line at the rate that its clocks are known to run at; what it leaves is somebody's way.

    Parameters
    ----------
    line : Line
        As measured, at a rate that is no clock's.
    ppm : float
        The clocks'.
    head_s, tail_s : float
        Picture times of what the two share, seconds. The line goes through the nearer of both ends.
    """
    grows = (ppm - line.ppm) * 1e-6
    anchor = head_s if grows > 0 else tail_s
    own = line.at_middle_s - line.ppm * 1e-6 * (anchor - line.middle_s)
    error = line.standard_error_at(anchor)
    moves = tuple((at, grows * (at - anchor)) for at in (head_s, tail_s))
    return replace(
        line, middle_s=anchor, at_middle_s=own, ppm=ppm, se_middle_s=error, se_ppm=min(line.se_ppm, 1.0),
        covariance=(), bends=(), places=(), moves=moves,
    )  # fmt: skip


def without_steps(line: Line, steps: Sequence[tuple[float, float, float]]) -> tuple[Line, tuple[Jump, ...]]:
    """Return a line as the picture wants it where its scratch stepped and the sound did not, and those steps.

    Of steps that may be somebody's way nothing is left, either: the sound made none. What one of the two recordings
    itself shows needs nobody's word, and nobody's word is stronger.

    Parameters
    ----------
    line : Line
    steps : sequence of (float, float, float)
        Between which picture times, and by how much, seconds: the scratch's, as others say.
    """

    def is_one(jump: Jump) -> bool:
        if jump.gained is not None:
            return jump.is_scratchs
        near = [size for low, high, size in steps if low <= jump.high_s and high >= jump.low_s]
        return any(abs(size - jump.step_s) < _SAME_STEP_S for size in near)

    left = tuple(jump for jump in line.jumps if is_one(jump))
    kept = tuple(jump for jump in line.jumps if jump not in left)
    told = replace(line, unsure=tuple(jump for jump in line.unsure if not is_one(jump)))
    return (replace(told, jumps=kept, covariance=()) if left else told), left


def as_jumped(line: Line) -> Line:
    """Return a line whose steps in pauses are jumps: a person listened, and says that samples were lost.

    Parameters
    ----------
    line : Line
        With `unsure` steps; it goes through the nearest of the levels between them.
    """
    levels = [0.0]
    for one in line.unsure:
        levels.append(levels[-1] + one.step_s)
    steps = tuple(sorted((*line.jumps, *line.unsure), key=lambda one: one.at_s))
    return replace(
        line, at_middle_s=line.at_middle_s - min(levels), jumps=steps, unsure=(), moves=(), covariance=()
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Rival:
    """Another place that was looked at: its offset, rate, share of the best's strength, and chance.

    Attributes
    ----------
    offset_s, ppm : float
        Where, and at which rate error.
    ratio : float
        Its strength over the best's, 0 to 1.
    log10_false_alarm : float
        Of that place alone.
    """

    offset_s: float
    ppm: float
    ratio: float
    log10_false_alarm: float


@dataclass(frozen=True, slots=True)
class OtherChannel:
    """How another channel of the same recording fitted.

    Attributes
    ----------
    channel : int
        From 0.
    strength : float
        Of its agreement, in nats.
    later_s : float or None
        How much later than the chosen channel it carries the same sound, seconds; None when not clear.
    """

    channel: int
    strength: float
    later_s: float | None


@dataclass(frozen=True, slots=True)
class Measurement:
    """The answer to "do these two share sound, and how do their times map?".

    Attributes
    ----------
    decision : Decision
    reason : str
        Why it was refused or is ambiguous; empty when matched.
    line : Line or None
        None when refused.
    head_s, middle_s, tail_s : float
        Picture times of the shared stretch's start, middle and end.
    trace : tuple of TracePoint
        Empty when refused before any window was looked at.
    share : float
        Share of the windows in which both sound that agree with the line, 0 to 1.
    log10_false_alarm : float
        Of the decision; 0 when nothing was found.
    runner_up_s, runner_up_ratio : float or None
        The next best place and its strength over the best's.
    channel : int
        Channel of the sound that was used, from 0.
    windows : tuple of float
        Picture times to look at for head, middle and tail: the clearest moment near each.
    candidates : tuple of Rival
        Every place looked at, the best first.
    picture_channel : int
        Channel of the picture's scratch that was used, from 0.
    others : tuple of OtherChannel
        The sound's other channels.
    polarity : int
        -1 when one of the two is turned over.
    by : str
        ``"sound"``, or ``"sync points"`` where a clap or two alone decided.
    unheard : bool
        Whether one of the two has no sound that could be compared: that it was refused says nothing of them.
    """

    decision: Decision
    reason: str
    line: Line | None
    head_s: float = 0.0
    middle_s: float = 0.0
    tail_s: float = 0.0
    trace: tuple[TracePoint, ...] = ()
    share: float = 0.0
    log10_false_alarm: float = 0.0
    runner_up_s: float | None = None
    runner_up_ratio: float | None = None
    channel: int = 0
    windows: tuple[float, ...] = ()
    candidates: tuple[Rival, ...] = ()
    picture_channel: int = 0
    others: tuple[OtherChannel, ...] = ()
    polarity: int = 1
    by: str = "sound"
    unheard: bool = False


def refused(reason: str, *, unheard: bool = False) -> Measurement:
    """Return the measurement that says nothing was found, and why.

    Parameters
    ----------
    reason : str
        For a person; the end of a sentence.
    unheard : bool
        Whether one of the two has no sound that could be compared.
    """
    return Measurement(REFUSED, reason, None, unheard=unheard)


def _packed(values: dict[str, Any]) -> dict[str, Any]:
    """Write the trace as rows of ``[at_s, offset_s, weight, agrees]``: it is nearly all there is."""
    rows = [
        [round(one["at_s"], 4), round(one["offset_s"], 9), round(one["weight"], 3), one["agrees"]]
        for one in values["trace"]
    ]
    return {**values, "trace": rows}


def _unpacked(values: dict[str, Any]) -> dict[str, Any]:
    names = TracePoint.__slots__
    return {**values, "trace": [dict(zip(names, row, strict=True)) for row in values.get("trace", ())]}


MEASUREMENT = Plain(Measurement, pack=_packed, unpack=_unpacked)
