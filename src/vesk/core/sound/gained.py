"""What a recording holds where it gained samples: the same ones twice, or digital silence; and exactly where.

No microphone hears the same noise twice. Where a recorder wrote a buffer twice, its own samples say so, in a pause too,
where no other recording could tell the moment.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from vesk.core.kinds import Gained
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import SILENCE, Hearing

_LEAST, _MOST = 48, 60 * WORK_RATE  # samples: fewer gained say little; a longer stretch is not searched
_AROUND = WORK_RATE // 2  # samples beside where it may lie
_RUNG = 32  # samples that a resampler's filter rings beside a splice
_LAGS, _FINER = np.arange(-3, 4) / 4, np.arange(-8, 9) / 32  # samples about the lag that was measured
_ALIKE = 0.03  # of the energy may differ: int16 in a quiet pause
_UNLIKE, _UNLIKE_LEAST = 20.0, 0.4  # times as much, and of the energy, just before and after: a vowel goes on
_CHANCE_LOG10 = -9.0
_ORDER, _FLOOR = 12, 1e-4  # of the prediction; a floor 40 dB down, so that it does not lift int16's own noise
_WITHIN = 6.0  # samples: the largest error of 61 was 5.3


@dataclass(frozen=True, slots=True)
class Found:
    """What was gained, the sound's sample (at `WORK_RATE`) where it begins, and how far that may be off, samples."""

    gained: Gained
    at: float
    within: float


def find_gained(sound: Hearing, count: float, low: int, high: int) -> Found | None:
    """Look for what a recording gained, in itself.

    Parameters
    ----------
    sound : Hearing
    count : float
        Samples gained, at `WORK_RATE`, true to half of one.
    low, high : int
        Samples of the sound between which they begin.

    Returns
    -------
    Found or None
        None where neither silence nor the same samples twice are found: few, in a long stretch, or something else.
    """
    start, end = max(0, low - _AROUND), min(sound.size, high + round(count) + _AROUND)
    if count < _LEAST or end - start > _MOST or end - start < 3 * count:
        return None
    own = sound.window(start, end - start).astype(np.float64)
    found = _silence(own, count, SILENCE / sound.unit) or _twice(own, count)
    return None if found is None else Found(found.gained, start + found.at, found.within)


def _silence(own: NDArray[np.float64], count: float, silence: float) -> Found | None:
    """Find the one stretch of digital silence that is as long as what was gained."""
    still = np.concatenate([[0], np.abs(own) <= silence, [0]])
    edges = np.flatnonzero(np.diff(still.astype(np.int8)))
    begins, ends = edges[::2], edges[1::2]
    long = np.flatnonzero(ends - begins > count / 2)
    if long.size != 1:
        return None
    begin, end = int(begins[long[0]]), int(ends[long[0]])
    if begin == 0 or end == own.size or abs(end - begin - count) > min(4 * _RUNG, count / 3):
        return None
    return Found(Gained.SILENCE, (begin + end - count) / 2, _RUNG / 2)


def _twice(own: NDArray[np.float64], count: float) -> Found | None:
    """Find where a stretch as long as what was gained is the same as the one before it.

    Notes
    -----
    What linear prediction leaves is compared, so that rumble and vowels do not decide. Of n independent values two
    unlike stretches differ by no more than a share q of their energy with a probability of about q**(n / 2).
    """
    flat = _unpredicted(own)
    edge = int(min(_RUNG, count / 4))
    length = int(count) - 2 * edge
    about = min((_differing(flat, float(lag), length) for lag in count + _LAGS), key=lambda one: one.least)
    # The lag to a thirtieth of a sample, about that place only.
    start = max(0, about.at - int(count) - 2 * length - _AROUND)
    near = slice(start, about.at + 2 * length + int(count) + _AROUND)
    best = min((_differing(flat[near], about.lag + float(more), length) for more in _FINER), key=lambda one: one.least)
    if best.least > _ALIKE:
        return None
    chance = np.log10(max(best.least, 1e-12)) * _independent(flat[near][best.at : best.at + length]) / 2
    if chance + np.log10(_LAGS.size * flat.size) > _CHANCE_LOG10 or _goes_on(best, edge, length):
        return None
    return Found(Gained.TWICE, start + _begins(own[near], best, edge), _WITHIN)


@dataclass(frozen=True, slots=True)
class _Differing:
    """By what share of its energy each stretch differs from the one a lag before; where least, and by how much."""

    lag: float
    share: NDArray[np.float64]
    at: int
    least: float


def _differing(sound: NDArray[np.float64], lag: float, length: int) -> _Differing:
    earlier = _earlier(sound, lag)
    energy = _summed(sound**2 + earlier**2, length) / 2
    nothing = 1e-12 * float(energy.mean()) + 1e-30
    share = _summed((sound - earlier) ** 2, length) / np.maximum(energy, nothing)
    share[energy <= nothing] = np.inf
    share[: int(lag) + 1] = np.inf  # before that there is nothing earlier
    at = int(np.argmin(share))
    return _Differing(lag, share, at, float(share[at]))


def _goes_on(best: _Differing, edge: int, length: int) -> bool:
    """Say whether it repeats itself for longer than what was gained: a vowel, a tone."""
    fits = best.share <= max(3 * best.least, 0.1 * _ALIKE)
    first = last = best.at
    while first > 0 and fits[first - 1]:
        first -= 1
    while last + 1 < fits.size and fits[last + 1]:
        last += 1
    beside = [n for n in (first - length - edge, last + length + edge) if int(best.lag) < n < fits.size]
    unlike = max(_UNLIKE * best.least, _UNLIKE_LEAST)
    return last - first > 4 * edge or any(best.share[n] < unlike for n in beside)


def _begins(own: NDArray[np.float64], best: _Differing, edge: int) -> float:
    """Return where the same begins: of all stretches as long, the one that differs least, by its logarithm."""
    differs = (own - _earlier(own, best.lag)) ** 2
    inside = float(differs[best.at : best.at + int(best.lag) - 2 * edge].mean())
    told = np.log(differs + max(inside, 1e-9 * float(differs.mean())))
    starts = np.arange(best.at - 3 * edge, best.at + 2 * edge)
    starts = starts[(starts >= 0) & (starts + round(best.lag) <= own.size)]
    sums = _summed(told, round(best.lag))[starts]
    return float(starts[sums <= sums.min() + 1e-6].mean())


def _unpredicted(sound: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return what linear prediction leaves of a sound: its spectrum is flat, and every sample stays where it is."""
    power = np.abs(fft.rfft(sound, 2 * sound.size)) ** 2
    alike = fft.irfft(power)[: _ORDER + 1]
    alike[0] *= 1 + _FLOOR
    if alike[0] <= 0:
        return sound
    apart = np.abs(np.subtract.outer(np.arange(_ORDER), np.arange(_ORDER)))
    taps = np.linalg.solve(alike[apart], alike[1:])
    return np.convolve(sound, np.concatenate([[1.0], -taps]))[: sound.size]


def _earlier(sound: NDArray[np.float64], lag: float) -> NDArray[np.float64]:
    """Return a sound so many samples later: at each sample, what it was before."""
    size = fft.next_fast_len(sound.size + int(lag) + 1, real=True)
    turn = np.exp(-2j * np.pi * np.arange(size // 2 + 1) * lag / size)
    return np.asarray(fft.irfft(fft.rfft(sound, size) * turn, size)[: sound.size])


def _summed(values: NDArray[np.float64], length: int) -> NDArray[np.float64]:
    """Return the sum of the values from each one on, over so many; as many as fit."""
    total = np.concatenate([[0.0], np.cumsum(values)])
    return np.asarray(total[length:] - total[:-length])


def _independent(sound: NDArray[np.float64]) -> float:
    """Return how many independent values a sound holds, by its spectrum: half its samples, for white noise."""
    power = np.abs(fft.rfft(sound)) ** 2
    return float(sound.size * power.sum() ** 2 / (power.size * (power**2).sum() + 1e-300))
