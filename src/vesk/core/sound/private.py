"""What each of two recordings holds that the other lacks: playback shared by two takes is common sound all the same."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.measurement import Line
from vesk.core.sound.windows import cut_at_rate, lay_windows

PRIVATE_SHARE = 0.01  # of the loud moments: one recording of an event lacks at most half of that on both sides
_FRAME, _HOP = 640, 320  # samples: 40 ms, so that a word and the beat under it are told apart
_MOST_WINDOWS = 60
_MISSING = 10 ** (-10 / 10)  # of the energy that the other tells of
_LOUD = 0.7  # quantile of a band's own energies
_KNOWN = 0.1  # share of a band's loud moments that must agree before its gain is known
_LEAST_BANDS, _EDGE_BANDS = 5, 2
_EDGES_HZ = np.geomspace(200, 6800, 17)


@dataclass(frozen=True, slots=True)
class Private:
    """Shares of the loud moments, over the bands, that the other recording has not.

    Attributes
    ----------
    picture, sound : float
        0 to 1: of the scratch's that the sound lacks, and of the sound's that the scratch lacks.
    """

    picture: float
    sound: float

    @property
    def two_events(self) -> bool:
        """Whether each holds what the other lacks: then common sound does not say that they ran together."""
        return min(self.picture, self.sound) > PRIVATE_SHARE


def private_shares(picture: Hearing, sound: Hearing, line: Line) -> Private:
    """Tell how much each of two matched recordings holds that the other lacks.

    Parameters
    ----------
    picture, sound : Hearing
    line : Line
        As measured.

    Returns
    -------
    Private
        Zero where too few bands agree to know.

    Notes
    -----
    One recording's energy at a moment, in a band, times the gain at which the two agree, must be in
    the other, whatever noise lies over it. Noise of one adds to its own side only: both sides lack
    something only when two events are heard. Bands at a filter's edge are left out.
    """
    guess = Candidate(line.offset_s, line.ppm, 1.0)
    cells = lay_windows(picture.seconds, sound.seconds, guess, most=_MOST_WINDOWS)
    if cells is None:
        return Private(0.0, 0.0)
    ratio = 1 / (1 + line.ppm * 1e-6)
    half = cells.length / 2
    middles = (cells.starts + half) / WORK_RATE
    offsets = np.array([line.offset_at(float(at)) for at in middles])
    own = (middles - offsets) * WORK_RATE - half / ratio
    x = _spectra(np.stack([picture.window(int(start), cells.length) for start in cells.starts]))
    y = _spectra(cut_at_rate(sound, own, cells.length, ratio)[0])
    px, py = _pooled(x.real**2 + x.imag**2), _pooled(y.real**2 + y.imag**2)
    cross = x * np.conj(y)
    agreed = (_pooled(cross.real) ** 2 + _pooled(cross.imag) ** 2) / (px * py + 1e-30) > 0.5
    return Private(_lacking(px, py, agreed), _lacking(py, px, agreed))


def _spectra(windows: NDArray[np.float32]) -> NDArray[np.complex64]:
    frames = np.lib.stride_tricks.sliding_window_view(windows, _FRAME, axis=1)[:, ::_HOP]
    return np.asarray(fft.rfft(frames * np.hanning(_FRAME).astype(np.float32), axis=2), np.complex64)


def _pooled(values: NDArray[np.float32]) -> NDArray[np.float32]:
    """Sum bins (windows, frames, bins) into bands, over a tenth of a second."""
    hertz = fft.rfftfreq(_FRAME, 1 / WORK_RATE)
    bands = (hertz[:, None] >= _EDGES_HZ[:-1]) & (hertz[:, None] < _EDGES_HZ[1:])
    return np.asarray(ndimage.uniform_filter1d(values @ bands.astype(np.float32), 5, axis=1), np.float32)


def _lacking(holds: NDArray[np.float32], lacks: NDArray[np.float32], agreed: NDArray[np.bool_]) -> float:
    """Return the share of the loud moments of `holds` that `lacks` has not, over the bands."""
    shares = []
    for band in range(holds.shape[2]):
        own, other = holds[..., band], np.maximum(lacks[..., band], 0)
        loud = own > np.quantile(own, _LOUD)
        known = loud & agreed[..., band]
        if known.sum() <= max(20, _KNOWN * loud.sum()):
            continue
        gain = float(np.median(other[known] / own[known]))
        shares.append(float((other[loud] < _MISSING * gain * own[loud]).mean()))
    # A filter's edge lies in a band or two: the greatest are left out.
    return float(np.mean(sorted(shares)[:-_EDGE_BANDS])) if len(shares) >= _LEAST_BANDS else 0.0
