"""Whether one file's sound goes on in the next: the joint between two parts of one recording.

A model of the sound (autoregressive, from both sides) says how likely the first samples after the joint
are when they follow what came before, and how likely when they stand alone. The logarithm of the ratio is the
evidence: sound with any colour tells within a few milliseconds; white noise tells nothing and is said to.
Source: prediction error decomposition of the likelihood (Box, Jenkins & Reinsel, Time Series Analysis); Burg, 1975.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

_BREAKS = -5.0  # nats: of 1 440 true joints one in 1 000 says so
LOOKED_AT_S = 0.1  # on either side
_NEAR_S = 0.04  # the model is fitted to this much: sound changes, and an average of more fits neither side
_ORDER = 48
_FREEDOM = 4.0  # of the errors' distribution: sound has outliers, and one alone must not decide
_AFTER = 4 * _ORDER
_FLOOR = 1e-9
_LEAST = 1e-10  # power below which there is no sound


def continuity(before: NDArray[np.float32], after: NDArray[np.float32], sample_rate: int) -> float:
    """Weigh whether `after` follows `before` without a sample between.

    Parameters
    ----------
    before, after : ndarray of float32, shape (n,)
        One channel's last and first samples, a tenth of a second of each or so.
    sample_rate : int
        Hz.

    Returns
    -------
    float
        Evidence that it does, nats; negative: that it does not. 0 where either side is silent or shorter than a few
        milliseconds. Of joints that say -5 to 6 about as many are true as they say; beyond that it grows no surer.
    """
    near = round(_NEAR_S * sample_rate)
    past, next_ = before[-near:].astype(np.float64), after[:near].astype(np.float64)
    if min(past.size, next_.size) < 8 * _ORDER or min(_power(past), _power(next_)) < _LEAST:
        return 0.0
    predictors = _predictors([past / np.sqrt(_power(past)), next_ / np.sqrt(_power(next_))])
    whole = np.concatenate([past, next_])
    # Both ways in time: a sound that sets in just here is no break, but looks like one from its louder side.
    onward = _evidence(whole, past.size, predictors)
    backward = _evidence(whole[::-1], next_.size, predictors)
    return max(onward, backward)


def together(channels: Sequence[float]) -> float:
    """Return what the channels of a joint say together, nats: one that breaks outweighs those that go on."""
    if not channels:
        return 0.0
    return min(channels) if min(channels) < _BREAKS else max(channels)


def _power(sound: NDArray[np.float64]) -> float:
    return float(np.mean(sound**2))


def _predictors(segments: list[NDArray[np.float64]]) -> list[tuple[NDArray[np.float64], float]]:
    """Return the best predictor of each order from 0 and its error's variance, by Burg's method over all segments.

    Burg's, since sound whose colour spans 80 dB is predicted badly from an estimated covariance.
    """
    predictor = np.zeros(0)
    variance = float(np.mean(np.concatenate(segments) ** 2))
    forward, backward = [one[1:] for one in segments], [one[:-1] for one in segments]
    found = [(predictor, variance)]
    for _ in range(_ORDER):
        cross = sum(float(f @ b) for f, b in zip(forward, backward, strict=True))
        power = sum(float(f @ f + b @ b) for f, b in zip(forward, backward, strict=True))
        reflection = 2 * cross / power if power > 0 else 0.0
        predictor = np.append(predictor - reflection * predictor[::-1], reflection)
        variance *= max(1 - reflection**2, _FLOOR)
        found.append((predictor, variance))
        moved = [(f - reflection * b, b - reflection * f) for f, b in zip(forward, backward, strict=True)]
        forward, backward = [f[1:] for f, _ in moved], [b[:-1] for _, b in moved]
    return found


def _evidence(sound: NDArray[np.float64], joint: int, predictors: list[tuple[NDArray[np.float64], float]]) -> float:
    full, least = predictors[-1]
    errors = np.convolve(sound, np.concatenate([[1.0], -full]), "valid")  # of samples _ORDER and on
    crossing = errors[joint - _ORDER : joint]
    # How large errors are just after, in place of the model's: loudness moves faster than colour.
    spread = float(np.median(np.abs(errors[joint : joint + _AFTER]))) / 0.6745 or 1e-12
    told = _log_t(crossing / spread) - np.log(spread)
    alone = 0.0
    for k, (predictor, variance) in enumerate(predictors[:_ORDER]):
        error = sound[joint + k] - predictor @ sound[joint : joint + k][::-1]
        deviation = spread * np.sqrt(variance / least)
        alone += float(_log_t(np.array([error / deviation]))[0] - np.log(deviation))
    return float(told.sum() - alone)


def _log_t(error: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(-0.5 * (_FREEDOM + 1) * np.log1p(error**2 / _FREEDOM))
