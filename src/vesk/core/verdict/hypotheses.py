"""Causes as explicit hypotheses: each says which level and which rate error it expects, and how narrowly.

A narrow hypothesis that is right beats a wide one that merely allows it: the log of its density
at what was measured, plus how common it is, decides (Bayesian model comparison).

References
----------
.. [1] D. J. C. MacKay, "Information Theory, Inference, and Learning Algorithms", 2003, chapter 28.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import exp, log, pi

from vesk.core.kinds import Cause
from vesk.core.sound.distance import SPEED_OF_SOUND
from vesk.core.wording import signed

(
    WITHIN,
    WHOLE_FRAME,
    SLIP,
    OFFSET,
    CLOCK,
    DROP,
    RATE_LABEL,
    DRIFT,
    PULL,
    SPEED,
    SAMPLE_RATE,
    JUMP,
    DELAY,
    DISTANCE,
    OFF_SPEED,
    WRONG_PARTNER,
    AMBIGUOUS_FIT,
    NO_SOUND,
    DISAGREES,
) = Cause


@dataclass(frozen=True, slots=True)
class Setting:
    """What is known of a pairing besides its sound.

    Attributes
    ----------
    fps : float
        Picture frames a second.
    tolerance_s : float
        The day's, as picture time.
    span_s : float
        What the two share.
    label_hours : float or None
        Hours of label time at the picture's start, where timecode laid them.
    sample_rate : int
        As the sound file's header has it, Hz.
    seen_s : tuple of (float, float) or None
        What claps seen say of the error as laid: the interval it lies in, seconds.
    better : str
        A recording that fits the same picture and moment better, where there is one.
    rival : str
        A recording that fits the same moments about as well, where there is one.
    off_speed : str
        Why the picture is taken as off-speed; empty when it is not.
    """

    fps: float
    tolerance_s: float
    span_s: float
    label_hours: float | None = None
    sample_rate: int = 48_000
    seen_s: tuple[float, float] | None = None
    better: str = ""
    rival: str = ""
    off_speed: str = ""


@dataclass(frozen=True, slots=True)
class Hypothesis:
    """A cause, the figure it stands for, and the log of its weight at what was measured."""

    cause: Cause
    expected: str
    weight: float


def _normal(value: float, mean: float, spread: float) -> float:
    return -0.5 * ((value - mean) / spread) ** 2 - log(spread) - 0.5 * log(2 * pi)


def _uniform(value: float, low: float, high: float) -> float:
    # Soft ends: nothing is impossible, only less and less likely.
    width = high - low
    outside = max(low - value, value - high, 0.0)
    return -log(width) - outside / (0.02 * width)


def _mixture(values: list[float]) -> float:
    top = max(values)
    return top + log(sum(exp(value - top) for value in values) / len(values))


def levels(error_s: float, se_s: float, setting: Setting) -> list[Hypothesis]:
    """Weigh what a constant error could come from; likeliest first.

    Parameters
    ----------
    error_s : float
        Where the sound sits minus where it belongs, at the middle, seconds.
    se_s : float
        Its standard error, seconds.
    setting : Setting
    """
    frame = 1 / setting.fps
    narrow = max(se_s, 0.02 * frame)
    made = [Hypothesis(WITHIN, "nothing", log(0.5) + _normal(error_s, 0, 0.5 * setting.tolerance_s + se_s))]
    whole = [_normal(error_s, k * frame, narrow) for k in (-3, -2, -1, 1, 2, 3)]
    made.append(Hypothesis(WHOLE_FRAME, f"{round(error_s / frame):+d} frames", log(0.12) + _mixture(whole)))
    made.append(Hypothesis(SLIP, "part of a frame", log(0.2) + _uniform(error_s, -frame, frame)))
    made.append(Hypothesis(OFFSET, "up to some seconds", log(0.08) + _uniform(error_s, -5, 5)))
    hours = [_normal(error_s, 3600.0 * k, 20.0) for k in range(-24, 25) if k]
    hour = round(error_s / 3600)
    made.append(Hypothesis(CLOCK, f"{signed(hour, 0)} h" if hour else "hours", log(0.02) + _mixture(hours)))
    made.append(Hypothesis(CLOCK, "any time of day", log(0.02) + _uniform(error_s, -43_200, 43_200)))
    made += list(_labels(error_s, setting))
    if setting.seen_s is not None:
        made += list(_seen(error_s, se_s, setting))
    return sorted(made, key=lambda one: -one.weight)


def _labels(error_s: float, setting: Setting) -> Iterator[Hypothesis]:
    """Labels counted at the wrong rate: 3.6 s in an hour of label, from midnight on."""
    hours = setting.label_hours
    if hours is None or hours < 0.05:
        return
    grown = 3.6 * hours
    # A file's span and how a rate is rounded leave a fraction of a second.
    weight = _mixture([_normal(error_s, sign * grown, 0.15 + 0.002 * grown) for sign in (-1, 1)])
    thirty = (
        abs(setting.fps / round(setting.fps / 30) - 30) < 0.1 if setting.fps > 20 and round(setting.fps / 30) else False
    )
    if thirty and setting.fps % 1:
        yield Hypothesis(DROP, f"3.6 s an hour of label, {grown:.1f} s here", log(0.06) + weight)
    if setting.fps % 1 or setting.fps in {24.0, 30.0, 48.0, 60.0}:
        yield Hypothesis(RATE_LABEL, f"3.6 s an hour of label, {grown:.1f} s here", log(0.04) + weight)


def _seen(error_s: float, se_s: float, setting: Setting) -> Iterator[Hypothesis]:
    """Claps seen bound the picture's own error: what sound says beyond that, the camera's ears add."""
    low, high = setting.seen_s or (0.0, 0.0)
    frame = 1 / setting.fps
    if low - setting.tolerance_s <= 0 <= high + setting.tolerance_s and not low <= error_s <= high:
        # The picture is in place where it is seen, and the sound is not: the scratch is early or late.
        late = -error_s
        if 0 < late < 0.15:
            metres = late * SPEED_OF_SOUND
            yield Hypothesis(DISTANCE, f"{metres:.0f} m further than known", log(0.2) + _uniform(late, 0, 0.15))
        whole = [_normal(error_s, k * frame, max(se_s, 0.05 * frame)) for k in (-2, -1, 1, 2)]
        yield Hypothesis(DELAY, f"{-error_s / frame:+.2f} frames of its scratch", log(0.3) + _mixture(whole))
        yield Hypothesis(
            DELAY, f"{-error_s / frame:+.2f} frames of its scratch", log(0.1) + _uniform(error_s, -0.1, 0.1)
        )


_CONFUSED = (
    (SAMPLE_RATE, "44.1 kHz named 48", (44.1 / 48 - 1) * 1e6),
    (SAMPLE_RATE, "48 kHz named 44.1", (48 / 44.1 - 1) * 1e6),
    (SPEED, "24 fps run at 25", (24 / 25 - 1) * 1e6),
    (SPEED, "25 fps run at 24", (25 / 24 - 1) * 1e6),
)


def rates(ppm: float, se_ppm: float, setting: Setting) -> list[Hypothesis]:
    """Weigh what a rate error could come from; likeliest first.

    Parameters
    ----------
    ppm : float
        What the sound's clock runs fast against the picture's, as it is laid.
    se_ppm : float
        Its standard error.
    setting : Setting
    """
    inside = setting.tolerance_s / max(setting.span_s, 1e-3) * 1e6
    made = [
        Hypothesis(WITHIN, "no drift that shows", log(0.6) + _normal(ppm, 0, 0.5 * min(inside, 1e5) + se_ppm)),
        Hypothesis(DRIFT, "a crystal's tens of ppm", log(0.25) + _normal(ppm, 0, 80 + se_ppm)),
        Hypothesis(DRIFT, "a poor clock", log(0.01) + _uniform(ppm, -5000, 5000)),
    ]
    odd = setting.sample_rate in {47_952, 48_048}
    pulled = _mixture([_normal(ppm, sign * 1000, 40 + se_ppm) for sign in (-1, 1)])
    named = f"{setting.sample_rate} Hz" if odd else "47.952 or 48.048 kHz named 48"
    made.append(Hypothesis(PULL, "±0.1 %", log(0.02 if odd else 0.06) + pulled))
    made.append(Hypothesis(SAMPLE_RATE, named, log(0.06 if odd else 0.02) + pulled))
    made += [Hypothesis(cause, text, log(0.01) + _normal(ppm, mean, 150 + se_ppm)) for cause, text, mean in _CONFUSED]
    return sorted(made, key=lambda one: -one.weight)
