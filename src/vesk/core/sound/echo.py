"""Strong single echoes: which of two recordings holds one, and whether a line follows it instead of the direct sound.

A wall, a loudspeaker, a second microphone in a mix: the same sound comes twice, and the second may be the louder. Two
recordings then agree at two places, and sound belongs where it comes first. That is told from sound that repeats by
itself (hum, a machine) by where it repeats: in one recording alone.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.taper import hann
from vesk.core.sound.verify import SPOKE, Verified, verify
from vesk.core.sound.windows import cut, cut_at_rate, in_band, whitened

NEAREST_S = 0.003  # below, a line's own peak and a voice's pitch
_SHORTEST_S = 0.5
_CRYSTAL_PPM = 150.0  # a window's ends are then off by two samples: nothing here asks for more
_SPREAD_HZ = 400.0  # an echo of 3 ms ripples a spectrum every 333 Hz: what is flattened more finely loses it
_SURE = 30.0  # robust deviations; an echo at -10 dB has 80 and more
_SUSPECT = 0.3  # of the height of the line, beside it: nothing but an echo, a hall or a repetition gives as much
_SEEN = 0.12  # of the height of the line; an echo at -10 dB stands at 0.2
_HEARD = 0.2  # of the line's own height: what comes before it is the direct sound
_NEAR = 3  # samples
_SHARP = 0.4  # of its height so far to either side: an echo has 0.06 there, a voice's pitch two thirds
_WAVE, _LOBE = 12, 0.6  # samples, of its height: where a tone turns over, it stands as high
_ARRIVES, _OUT_OF_NOISE = 0.45, 6.0  # of the highest, and of what lies where nothing can be
_APART, _MANY = 16, 4
_STROKE_S = 0.012  # what stands out so far apart is a machine; a hall's arrivals lie 2 to 7 ms apart
_REPEATS, _HIGHER = 0.3, 1.05  # of the line's own height: an echo is on one side of it, an engine's strokes on both
_AS_LOUD, _FIRST_S = 0.7, 0.0025  # of 96 halls at 18 to 26 dB 76 lie within 0.15 ms, all within 5.5
_MOST = 4
_MOVES = 3


@dataclass(frozen=True, slots=True)
class Alike:
    """How windows that spoke for a line agree beside it, and with themselves.

    Attributes
    ----------
    cross : ndarray of float32, shape (2 * reach + 1,)
        Whitened correlation, the line's own height 1, by how much later (samples) it is heard on the picture.
    more : ndarray of float64, shape (reach + 1,)
        By how many robust deviations more the picture's sound comes again so many samples later than the other's.
    """

    cross: NDArray[np.float32]
    more: NDArray[np.float64]

    @property
    def reach(self) -> int:
        """Samples to either side."""
        return self.more.size - 1

    @property
    def noise(self) -> float:
        """Root mean square of the cross correlation where it is least: far to one side of the line."""
        third = self.reach // 3
        return float(np.sqrt(min(np.mean(side**2) for side in (self.cross[:third], self.cross[-third:]))))

    def height(self, later: int) -> float:
        """Return the greatest height within 0.2 ms of a lag, samples; 0 outside."""
        at = self.reach + later
        near = self.cross[max(0, at - _NEAR) : max(0, at + _NEAR + 1)]
        return float(near.max()) if near.size else 0.0

    @property
    def echoes(self) -> tuple[int, ...]:
        """Lags (samples) at which one of the two comes again and the other does not: positive of the picture's.

        There the two agree on one side of the line: a voice's pitch, which noise hides in one of them, is on both. And
        it comes again after so many samples, not about so many, as a pitch that is never quite the same.
        """
        found: list[int] = []
        left = np.abs(self.more)
        left[: round(NEAREST_S * WORK_RATE)] = 0.0
        while len(found) < _MOST and float(left.max(initial=0.0)) >= _SURE:
            at = int(np.argmax(left))
            low, high = sorted((self.height(at), self.height(-at)))
            if self._sharp(at) and high >= max(_SEEN, _OUT_OF_NOISE * self.noise) and low < high / 2:
                found.append(at if self.more[at] > 0 else -at)
            left[max(0, at - 2 * _NEAR) : at + 2 * _NEAR + 1] = 0.0
        return tuple(found)

    def _sharp(self, lag: int) -> bool:
        """Say whether it stands alone, as an echo does: neither on a voice's broad peak nor among a tone's waves."""
        beside = [self.more[at] for at in (lag - _NEAR, lag + _NEAR) if at < self.more.size]
        if max(float(one / self.more[lag]) for one in beside) >= _SHARP:
            return False
        waves = np.concatenate([self.more[lag - _WAVE : lag - _NEAR], self.more[lag + _NEAR + 1 : lag + _WAVE + 1]])
        return float(np.abs(waves).max(initial=0.0)) < _LOBE * abs(float(self.more[lag]))

    @property
    def smeared(self) -> tuple[int, int] | None:
        """First and last lag (samples) of those, one a millisecond, that stand out like the highest; None where few do.

        So it is where one of the two stands in a hall, far beyond where direct sound is louder than its echoes. Where
        these are few and known one by one, it is none.
        """
        if self.echoes:
            return None
        high = np.abs(self.cross)
        limit = max(_ARRIVES * float(high.max()), _OUT_OF_NOISE * self.noise)
        at = np.flatnonzero((ndimage.maximum_filter1d(high, 2 * _APART + 1) == high) & (high >= limit)) - self.reach
        if at.size < _MANY or float(np.median(np.diff(at))) > _STROKE_S * WORK_RATE:
            return None
        return int(at[0]), int(at[-1])

    @property
    def away(self) -> int:
        """How much later than the line (samples; negative: earlier) the direct sound is heard; 0 where it is the line.

        Of the picture's echo what comes before is direct; the sound's echo makes the picture seem early. A hall's
        answer dies away: a picture's lies mostly at the beginning, a sound's at the end.
        """
        before = [(self.height(-lag), -lag) for lag in self.echoes if self.height(-lag) > self.height(lag)]
        height, lag = max(before, default=(0.0, 0))
        if height >= _HEARD:
            low = max(0, self.reach + lag - _NEAR)
            return low + int(np.argmax(self.cross[low : self.reach + lag + _NEAR + 1])) - self.reach
        if self.smeared is None:
            return 0
        first, last = self.smeared
        power = self.cross[self.reach + first : self.reach + last + 1].astype(np.float64) ** 2
        middle = first + float(np.dot(np.arange(power.size), power) / max(float(power.sum()), 1e-12))
        arrival = first if middle - first < last - middle else last
        return arrival if abs(arrival) > _NEAR else 0

    @property
    def doubt_s(self) -> float:
        """Standard error (s) of which arrival in a hall is the first, where others are as loud; 0 where none is."""
        if self.smeared is None:
            return 0.0
        beside = np.abs(self.cross)
        beside[self.reach - _APART : self.reach + _APART + 1] = 0.0
        return _FIRST_S if float(beside.max()) > _AS_LOUD else 0.0

    @property
    def higher(self) -> int:
        """How much later than the line (samples) they agree better, where what they share repeats; 0 if nowhere.

        An engine's strokes are never quite the same: they fit best where they belong.
        """
        at = int(np.argmax(self.cross)) - self.reach
        return at if abs(at) > _NEAR and float(self.cross.max()) > _HIGHER else 0

    def repetition(self, lag_s: float) -> float:
        """Return how high what they share stands at a lag (seconds) before and after the line, 1 as the line itself.

        Parameters
        ----------
        lag_s : float
        """
        lag = round(abs(lag_s) * WORK_RATE)
        return min(self.height(lag), self.height(-lag))


@dataclass(frozen=True, slots=True)
class _Look:
    """How many windows are looked at, how long each (s), and how far beside the line (s)."""

    windows: int
    window_s: float
    reach_s: float


_FULL, _GLANCE = _Look(12, 1.5, 0.5), _Look(6, 1.0, 0.25)


def alike(picture: Hearing, sound: Hearing, place: Verified, look: _Look = _FULL) -> Alike | None:
    """Stack what windows that spoke for a place tell of its surroundings; None where they agree on no line.

    Parameters
    ----------
    picture, sound : Hearing
    place : Verified
    look : _Look
        At how much.
    """
    spoke = np.flatnonzero(place.surprise > SPOKE)
    if not spoke.size:
        return None
    at = place.at_s[np.unique(spoke[np.linspace(0, spoke.size - 1, min(look.windows, spoke.size)).astype(int)])]
    span = float(place.at_s[-1] - place.at_s[0])
    length, reach = round(min(look.window_s, max(_SHORTEST_S, span / 3)) * WORK_RATE), round(look.reach_s * WORK_RATE)
    size = fft.next_fast_len(length + 2 * reach, real=True)
    ratio = 1 / (1 + place.guess.ppm * 1e-6) if abs(place.guess.ppm) > _CRYSTAL_PPM else 1.0
    own = (at - np.asarray(place.offset_at(at))) * WORK_RATE
    x = fft.rfft(cut(picture, np.rint(at * WORK_RATE - length / 2).astype(np.int64), length), size, axis=1)
    wide, _ = cut_at_rate(sound, own - (length / 2 + reach) / ratio, length + 2 * reach, ratio)
    spectra = whitened(x, fft.rfft(wide, size, axis=1), WORK_RATE / size)
    spectra[:, ~in_band(size)] = 0
    # The median: who speaks in turn from elsewhere is heard in some windows, an echo in each.
    cross = place.polarity * np.median(fft.irfft(spectra, size, axis=1)[:, : 2 * reach + 1], axis=0)[::-1]
    top = float(cross[reach - _NEAR : reach + _NEAR + 1].max())
    narrow = wide[:, reach : reach + length]
    y = fft.rfft(narrow * hann(length), size, axis=1)
    more = (_again(x, size) - _again(y, size))[: reach + 1]
    usual = 1.4826 * float(np.median(np.abs(more[round(NEAREST_S * WORK_RATE) :])))
    found = Alike(np.asarray(cross / max(top, 1e-9), np.float32), np.asarray(more / max(usual, 1e-12), np.float64))
    # Who walks is nowhere on a straight line: what lies beside it then says nothing.
    return found if found.noise * _OUT_OF_NOISE < 1.0 else None


def _again(spectra: NDArray[np.complex64], size: int) -> NDArray[np.float64]:
    """Return how much windows are alike to themselves at each lag, their broad shape taken out; 1 at lag 0."""
    power = spectra.real**2 + spectra.imag**2
    level = ndimage.uniform_filter1d(power, round(_SPREAD_HZ * size / WORK_RATE), axis=1)
    power /= level + 1e-3 * level.mean(axis=1, keepdims=True) + 1e-20
    power[:, ~in_band(size)] = 0
    curve = fft.irfft(power.mean(axis=0), size)
    return np.asarray(curve / max(float(curve[0]), 1e-12), np.float64)


def on_direct(picture: Hearing, sound: Hearing, place: Verified, others: Sequence[Verified] = ()) -> Verified:
    """Lay a place onto the direct sound where it follows an echo, and say where else the same sound fits.

    Parameters
    ----------
    picture, sound : Hearing
    place : Verified
    others : sequence of Verified
        Where the two fit as well: one of them may be the direct sound, or an echo.
    """
    near = any(abs(float(one.offset_at(place.middle_s)) - place.at_middle_s) < _FULL.reach_s for one in others)
    if place.repeat_ratio < _SUSPECT and not near:
        found = alike(picture, sound, place, _GLANCE)
        if found is None or not (found.smeared or np.abs(found.more[round(NEAREST_S * WORK_RATE) :]).max() > _SURE / 2):
            return place
    found = alike(picture, sound, place)
    for _ in range(_MOVES):
        if found is None:
            return place
        alike_there = place.repeat_ratio > _AS_LOUD and found.repetition(place.repeat_s) > _REPEATS
        repeats = alike_there and not found.smeared  # a hall answers on both sides of what is heard best
        away = found.higher if repeats else found.away
        if not away:
            break
        if repeats:
            there = replace(place.guess, offset_s=place.guess.offset_s + away / WORK_RATE)
            better = verify(picture, sound, there, tried=_MOVES)
            if better is None or better.strength < place.strength:
                break
            place = better
        else:
            turned = float(found.cross[found.reach + away]) < 0
            place = replace(
                place,
                at_middle_s=place.at_middle_s + away / WORK_RATE,
                polarity=-place.polarity if turned else place.polarity,
            )
        found = alike(picture, sound, place)
    if found is None:
        return place
    # Heights over what lies around them make an echo at a tenth as high as the sound itself.
    ratio = min(place.repeat_ratio, found.repetition(place.repeat_s))
    echoes = tuple(lag / WORK_RATE for lag in found.echoes)
    hall = None
    if found.smeared:  # its answer goes on, below what stands out
        first, last = (lag / WORK_RATE for lag in found.smeared)
        hall = (first, _FULL.reach_s) if last > -first else (-_FULL.reach_s, last)
    return replace(place, repeat_ratio=ratio, echoes_s=echoes, hall_s=hall, doubt_s=found.doubt_s)
