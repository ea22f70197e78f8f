"""What each of two recordings holds that the other lacks: playback shared by two takes is common sound all the same."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.measurement import Line
from vesk.core.sound.taper import hann
from vesk.core.sound.windows import cut_at_rate, lay_windows

PRIVATE_SHARE = 0.01  # of the loud moments: one recording of an event lacks at most half of that on both sides
_SEVERAL = 3
_FRAME, _HOP = 640, 320  # samples: 40 ms, so that a word and the beat under it are told apart
_MOST_WINDOWS = 60
_MISSING = 10 ** (-10 / 10)  # of the energy that the other tells of
_LOUD = 0.7  # quantile of a band's own energies
_LOST = 1e-7  # of a loud moment's energy
_KNOWN = 0.1  # share of a band's loud moments that must agree before its gain is known
_LEAST_BANDS, _EDGE_BANDS = 5, 2
_EDGES_HZ = np.geomspace(200, 6800, 17)
_HERTZ = fft.rfftfreq(_FRAME, 1 / WORK_RATE)
_BANDS = (_HERTZ[:, None] >= _EDGES_HZ[:-1]) & (_HERTZ[:, None] < _EDGES_HZ[1:])
_MOMENT = _FRAME + 4 * _HOP  # samples that a moment is pooled over
_MOMENT_HERTZ = fft.rfftfreq(_MOMENT, 1 / WORK_RATE)
_MOMENT_BANDS = np.asarray(
    (_MOMENT_HERTZ[:, None] >= _EDGES_HZ[:-1]) & (_MOMENT_HERTZ[:, None] < _EDGES_HZ[1:]), np.float32
)
_SHORTEST, _LONGEST = WORK_RATE // 400, WORK_RATE // 75  # samples: a voice's periods
_SHAPE_BINS = 61  # 500 Hz: a voice's formants go, its harmonics stay
_LEAST_BINS = 24  # 200 Hz in all
_MOSTLY = 0.5  # of what is lacked; of hits, knocks, rustling, wind 0.55 and more, of talk of two takes 0.12 at most
_AT_ONCE = 512  # moments
_TAPER_CURVE = fft.irfft(np.abs(fft.rfft(hann(_MOMENT), 2 * _MOMENT)) ** 2)[: _LONGEST + 1]
_TAPER_CURVE /= _TAPER_CURVE[0]


@dataclass(frozen=True, slots=True)
class OneSided:
    """Shares of the loud moments, over the bands, that the other recording has not.

    Attributes
    ----------
    picture, sound : float
        0 to 1: of the scratch's that the sound lacks, and of the sound's that the scratch lacks.
    channels : int
        How many were asked on the side that lacks: what lies between their gates is no event of its own.
    """

    picture: float
    sound: float
    channels: int = 1

    @property
    def two_events(self) -> bool:
        """Whether each holds what the other lacks: then common sound does not say that they ran together."""
        return min(self.picture, self.sound) > PRIVATE_SHARE * (1 if self.channels == 1 else _SEVERAL)


def one_sided_shares(
    picture: Hearing,
    sound: Hearing,
    line: Line,
    *,
    more_pictures: Sequence[Hearing] = (),
    more_sounds: Sequence[Hearing] = (),
    echoes_s: Sequence[float] = (),
) -> OneSided:
    """Tell how much each of two matched recordings holds that the other lacks.

    Parameters
    ----------
    picture, sound : Hearing
    line : Line
        As measured.
    more_pictures, more_sounds : sequence of Hearing
        Their other channels, on the same clocks: a lav that hears one voice alone is no other event where the mix
        beside it holds both.
    echoes_s : sequence of float
        By how much later (seconds) an echo is heard on the scratch, negative: on the sound. What is heard between two
        words may be the word before.

    Returns
    -------
    OneSided
        Zero where too few bands agree to know.

    Notes
    -----
    One recording's energy at a moment, in a band, times the gain at which the two agree, must be in
    the other, whatever noise lies over it. Noise of one adds to its own side only: both sides lack
    something only when two events are heard. Bands at a filter's edge are left out, and so is what befell
    one microphone alone: wind, clothes on a lav, hits on a radio link, a camera that is touched.
    """
    guess = Candidate(line.offset_s, line.ppm, 1.0)
    cells = lay_windows(picture.seconds, sound.seconds, guess, most=_MOST_WINDOWS)
    if cells is None:
        return OneSided(0.0, 0.0)
    ratio = 1 / (1 + line.ppm * 1e-6)
    half = cells.length / 2
    # Beside a jump each side holds what the other has elsewhere, or lost.
    beside = [(jump.low_s - half / WORK_RATE, jump.high_s + half / WORK_RATE) for jump in line.jumps]
    kept = np.array([all(not low < at < high for low, high in beside) for at in cells.centres_s])
    if not kept.any():
        return OneSided(0.0, 0.0)
    cells = replace(cells, starts=cells.starts[kept])
    middles = cells.centres_s
    offsets = np.array([line.offset_at(float(at)) for at in middles])
    own = (middles - offsets) * WORK_RATE - half / ratio

    def of_picture(one: Hearing, late_s: float = 0.0) -> _Side:
        late = round(late_s * WORK_RATE)
        return _Side(np.stack([one.window(int(start) - late, cells.length) for start in cells.starts]))

    def of_sound(one: Hearing, late_s: float = 0.0) -> _Side:
        return _Side(cut_at_rate(one, own - late_s * WORK_RATE, cells.length, ratio)[0])

    x, y = of_picture(picture), of_sound(sound)
    again = (
        [of_sound(sound, late) for late in echoes_s if late > 0],
        [of_picture(picture, -e) for e in echoes_s if e < 0],
    )
    agreed = _agreed(x, y)  # either way the same
    return OneSided(
        _lacking(x, [(y, agreed), *((z, _agreed(x, z)) for z in (*again[0], *map(of_sound, more_sounds)))]),
        _lacking(y, [(x, agreed), *((z, _agreed(y, z)) for z in (*again[1], *map(of_picture, more_pictures)))]),
        1 + max(len(more_pictures), len(more_sounds)),
    )


class _Side:
    """One recording's windows: spectra of their frames, energies of these in bands, and which are loud."""

    def __init__(self, windows: NDArray[np.float32]) -> None:
        frames = np.lib.stride_tricks.sliding_window_view(windows, _FRAME, axis=1)[:, ::_HOP]
        self.spectra = np.asarray(fft.rfft(frames * hann(_FRAME), axis=2), np.complex64)
        self.windows = windows
        power = self.spectra.real**2 + self.spectra.imag**2
        self.energy = _pooled(power)
        whole = power.sum(axis=2)
        # A radio link that is lost for a moment is silent as no room is: what was heard meanwhile is not asked for.
        lost = whole <= _LOST * np.quantile(whole, _LOUD)
        self.lost = np.asarray(ndimage.maximum_filter1d(lost, 5, axis=1))

    @cached_property
    def loud(self) -> NDArray[np.bool_]:
        """Which moments are, of each band's own: (windows, frames, bands)."""
        return np.asarray(self.energy > np.quantile(self.energy, _LOUD, axis=(0, 1)))


def _agreed(x: _Side, y: _Side) -> NDArray[np.bool_]:
    cross = x.spectra * np.conj(y.spectra)
    return (_pooled(cross.real) ** 2 + _pooled(cross.imag) ** 2) / (x.energy * y.energy + 1e-30) > 0.5


def _pooled(values: NDArray[np.float32]) -> NDArray[np.float32]:
    """Sum bins (windows, frames, bins) into bands, over a tenth of a second."""
    return np.asarray(ndimage.uniform_filter1d(values @ _BANDS.astype(np.float32), 5, axis=1), np.float32)


def _lacking(x: _Side, others: Iterable[tuple[_Side, NDArray[np.bool_]]]) -> float:
    """Return the share of the loud moments of `x` that none of the other recording's channels has, over the bands."""
    gone = np.zeros(x.energy.shape, bool)
    asked: set[int] = set()
    for y, agreed in others:
        for band in range(x.energy.shape[2]):
            own, other = x.energy[..., band], np.maximum(y.energy[..., band], 0)
            loud = x.loud[..., band]
            known = loud & agreed[..., band]
            if known.sum() <= max(20, _KNOWN * loud.sum()):
                continue
            gain = float(np.median(other[known] / own[known]))
            missing = loud & ~y.lost & (other < _MISSING * gain * own)
            gone[..., band] = missing & gone[..., band] if band in asked else missing
            asked.add(band)
    if len(asked) < _LEAST_BANDS:
        return 0.0
    shares = sorted(float(gone[..., band].sum() / x.loud[..., band].sum()) for band in asked)
    # A filter's edge lies in a band or two: the greatest are left out.
    share = float(np.mean(shares[:-_EDGE_BANDS]))
    return 0.0 if share > PRIVATE_SHARE and _is_the_microphones(x, gone) else share


def _is_the_microphones(x: _Side, gone: NDArray[np.bool_]) -> bool:
    """Say whether what the other lacks befell one microphone: a hit on a radio link, cloth on a lav, wind, a knock.

    That has no pitch. Who speaks has one in the bands that are lacked, or is heard in a few bins of what plays.
    """
    befell = np.zeros(gone.shape[:2], bool)
    window, frame = np.nonzero(gone @ _MOMENT_BANDS.sum(axis=0) >= _LEAST_BINS)
    begins = np.clip((frame - 2) * _HOP, 0, x.windows.shape[1] - _MOMENT)
    for first in range(0, window.size, _AT_ONCE):
        some = slice(first, first + _AT_ONCE)
        heard = x.windows[window[some, None], begins[some, None] + np.arange(_MOMENT)]
        pitch, bins = _pitch(heard, gone[window[some], frame[some]] @ _MOMENT_BANDS.T)
        # By chance few bins seem to have more of a pitch than many: 99 of 100 moments of noise have less than this.
        befell[window[some], frame[some]] = pitch < 0.05 + 3.3 / np.sqrt(bins)
    return float((gone & befell[..., None]).sum()) >= _MOSTLY * float(gone.sum())


def _pitch(heard: NDArray[np.float32], asked: NDArray[np.float32]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Return how much of a pitch moments (n, samples) have in bins that are asked (n, bins), and how many those are.

    The highest of the correlation with itself, once its broad shape is taken out, at a voice's periods: 0 to 1.
    """
    spectra = fft.rfft(heard * hann(_MOMENT), axis=1)
    power = spectra.real**2 + spectra.imag**2
    power /= ndimage.uniform_filter1d(power, _SHAPE_BINS, axis=1) + 1e-20
    curve = fft.irfft(power * asked, axis=1)[:, : _LONGEST + 1] / _TAPER_CURVE
    return curve[:, _SHORTEST:].max(axis=1) / (curve[:, 0] + 1e-20), asked.sum(axis=1)
