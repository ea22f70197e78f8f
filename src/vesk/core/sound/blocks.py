"""Cross-spectra in blocks of bins: what they say at small delays, without a turn for every bin.

Only delays of a few milliseconds are asked, and within such a delay a spectrum turns by little from bin to bin. Blocks
of bins are summed once by their moments about their middle; a delay then turns blocks, not bins, and the exponential
within a block is its series. It ends within 1e-5 of the whole.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy import special

_BLOCK_HZ = 48.0
_TERMS = 6  # of the series; a block's edge turns by 0.3 radian at 2 ms
_MORE = 2  # moments beyond, for a first and a second derivative


@lru_cache(maxsize=4)
def _powers(bins: int) -> NDArray[np.complex64]:
    """Return the powers of each bin's distance from its block's middle, over the block's half (bins, moments)."""
    beside = np.arange(bins) - (bins - 1) / 2
    return np.asarray((beside[:, None] / max(bins / 2, 1.0)) ** np.arange(_TERMS + _MORE), np.complex64)


@lru_cache(maxsize=4)
def _turns(first_hz: float, step_hz: float, bins: int, count: int, most_s: float, lags: int) -> NDArray[np.complex64]:
    """Return what turns moments (blocks * terms) into correlations at evenly spaced lags within ±`most_s`."""
    middles = first_hz + step_hz * (bins * np.arange(count) + (bins - 1) / 2)
    at = np.linspace(-most_s, most_s, lags)
    terms = np.arange(_TERMS)[:, None]
    series = (-2j * np.pi * step_hz * max(bins / 2, 1.0) * at) ** terms / special.factorial(terms)
    whole = np.exp(np.outer(middles, -2j * np.pi * at))[:, None, :] * series
    return np.asarray(whole.reshape(-1, lags), np.complex64)


@dataclass(frozen=True, slots=True)
class Blocks:
    """Cross-spectra of windows, summed in blocks of bins.

    Attributes
    ----------
    moments : ndarray of complex64, shape (windows, blocks, moments)
    first_hz, step_hz : float
        The first bin, and from bin to bin.
    bins : int
        In a block.
    """

    moments: NDArray[np.complex64]
    first_hz: float
    step_hz: float
    bins: int

    @classmethod
    def of(cls, spectra: NDArray[np.complex64], first_hz: float, step_hz: float) -> Blocks:
        """Sum spectra.

        Parameters
        ----------
        spectra : ndarray of complex64, shape (windows, bins)
            Their bins evenly apart.
        first_hz, step_hz : float
            The first bin, and from bin to bin.
        """
        windows, count = spectra.shape
        bins = max(1, int(_BLOCK_HZ / step_hz))
        powers, whole = _powers(bins), count // bins * bins
        summed = [spectra[:, :whole].reshape(windows, -1, bins) @ powers]
        if whole < count:
            summed.append(spectra[:, None, whole:] @ powers[: count - whole])
        return cls(np.concatenate(summed, axis=1), first_hz, step_hz, bins)

    def correlations(self, most_s: float, lags: int) -> NDArray[np.float32]:
        """Return the correlations (windows, lags) at `lags` delays evenly apart from ``-most_s`` to ``most_s``.

        Parameters
        ----------
        most_s : float
            Seconds; 2 ms is what the series is made for.
        lags : int
        """
        windows, count, _ = self.moments.shape
        turns = _turns(self.first_hz, self.step_hz, self.bins, count, most_s, lags)
        return np.asarray((self.moments[:, :, :_TERMS].reshape(windows, -1) @ turns).real)

    def slopes(self, delays_s: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return how each window's correlation slopes and bends at a delay of its own.

        Parameters
        ----------
        delays_s : ndarray of float64, shape (windows,)

        Returns
        -------
        slope, bend : ndarray of float64, shape (windows,)
            Its first derivative by the delay, and its second with the sign turned.
        """
        half = 2 * np.pi * self.step_hz * max(self.bins / 2, 1.0)
        middles = self.first_hz + self.step_hz * (self.bins * np.arange(self.moments.shape[1]) + (self.bins - 1) / 2)
        omega = 2 * np.pi * middles
        terms = np.arange(_TERMS)
        series = (-1j * half * delays_s[:, None]) ** terms / special.factorial(terms)
        turn = np.exp(-1j * np.outer(delays_s, omega))
        zeroth, first, second = (
            np.einsum("wbt,wt->wb", self.moments[:, :, more : more + _TERMS], series) * turn for more in range(3)
        )
        slope = (zeroth @ omega + half * first.sum(axis=1)).imag
        bend = (zeroth @ omega**2 + 2 * half * (first @ omega) + half**2 * second.sum(axis=1)).real
        return slope, bend
