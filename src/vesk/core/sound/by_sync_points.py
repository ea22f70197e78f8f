"""Match by claps where there is nothing else to hear: their pattern, or one clap's own waveform."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage, special

from vesk.core.kinds import CLAP
from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.sync_points import SyncPoint, find_sync_points
from vesk.core.sound.verify import log10_tail, verify

MOST = 6
_LEAST_SCORE = 0.1
_REACH = 64  # samples, 4 ms: how far two attacks of one clap may be read apart
_WHOLE, _ATTACK = 640, 96  # samples: 40 ms of wood, and the 6 ms before a room answers
_RINGS_ALIKE, _ONE_LAG = 0.4, 3.0  # what the whole must say too, and samples within which both agree
_PLAUSIBLE_PPM = 300.0
_LONGEST_MS = 200.0
_BEFORE_S, _AFTER_S = 1.0, 2.5  # a slam and its room are heard for longer than a clap
_FRAME, _QUIET = 640, 0.05  # 40 ms: whoever talks without a pause is quiet between syllables
_SPEAKING = 5  # windows in which both speak before what they say counts
_AGREES_LOG10 = -5.0  # the best of some thousand lines is as good as this by chance one time in ten


@dataclass(frozen=True, slots=True)
class BySyncPoints:
    """What claps say.

    Attributes
    ----------
    offset_s, at_s : float
        Offset, and the picture time (middle of the claps used) at which it holds, seconds.
    claps : tuple of (float, float)
        Picture time and offset of each clap used.
    log10_false_alarm : float
        That other claps would agree as well by chance.
    polarity : int
        -1 when one of the two is turned over.
    """

    offset_s: float
    at_s: float
    claps: tuple[tuple[float, float], ...]
    log10_false_alarm: float
    polarity: int


def _white(hearing: Hearing, at_s: float, length: int) -> NDArray[np.float64]:
    """Cut a clap, its broad spectrum flattened."""
    start = round(at_s * WORK_RATE) - 80
    piece = hearing.window(start, length + 160).astype(np.float64)
    spectrum = fft.rfft(piece)
    level = np.sqrt(ndimage.uniform_filter1d(np.abs(spectrum) ** 2, 25))
    hertz = fft.rfftfreq(piece.size, 1 / WORK_RATE)
    spectrum[(hertz < 400) | (hertz > 7000)] = 0
    return np.asarray(fft.irfft(spectrum / (level + 1e-3 * level.mean() + 1e-12), piece.size))


def _alike(a: NDArray[np.float64], b: NDArray[np.float64]) -> tuple[float, float, float]:
    """Compare two claps: (lag of b behind a in samples, correlation with its sign, log10 of its chance)."""
    size = fft.next_fast_len(a.size + b.size, real=True)
    curve = fft.irfft(fft.rfft(b, size) * np.conj(fft.rfft(a, size)), size)
    near = np.concatenate([curve[-_REACH:], curve[: _REACH + 1]])
    norm = float(np.sqrt((a**2).sum() * (b**2).sum())) or 1.0
    k = int(np.argmax(np.abs(near)))
    r = float(np.clip(near[k] / norm, -0.99, 0.99))
    # Degrees of freedom: samples in which both ring, for the part of the band that was kept.
    together = np.abs(a) * np.abs(b)
    free = 0.8 * float(together.sum() ** 2 / max((together**2).sum(), 1e-30))
    deviate = np.arctanh(abs(r)) * np.sqrt(max(free - 3, 1.0))
    chance = float(special.log_ndtr(-deviate) / np.log(10)) + np.log10(2 * (2 * _REACH + 1))
    fraction = 0.0
    if 0 < k < near.size - 1:
        left, top, right = np.abs(near[k - 1 : k + 2])
        bend = left - 2 * top + right
        fraction = 0.5 * (left - right) / bend if bend < 0 else 0.0
    return k - _REACH + fraction, r, chance


def _compare(picture: Hearing, p_s: float, sound: Hearing, s_s: float) -> tuple[float, float, float]:
    """Compare two claps by their attack, which no room has answered yet, where the whole of them agrees; else by that.

    Returns lag, correlation and log10 of its chance, as `_alike`.
    """
    whole, attack = (_alike(_white(picture, p_s, length), _white(sound, s_s, length)) for length in (_WHOLE, _ATTACK))
    one = abs(attack[0] - whole[0]) <= _ONE_LAG and attack[1] * whole[1] > 0 and abs(whole[1]) >= _RINGS_ALIKE
    lag, r, chance = attack if one and attack[2] < whole[2] else whole
    return lag, r, chance + float(np.log10(2))


def clear_claps(hearing: Hearing) -> list[SyncPoint]:
    """Return what can be a clap: sticks and hands are gone within a fifth of a second, a syllable is not.

    Parameters
    ----------
    hearing : Hearing
        One channel.
    """
    found = find_sync_points(hearing.window(0, hearing.size), most=MOST)
    return [one for one in found if one.kind == CLAP and one.score >= _LEAST_SCORE and one.decay_ms <= _LONGEST_MS]


def match_by_sync_points(
    picture: Hearing, sound: Hearing, claps: tuple[Sequence[SyncPoint], Sequence[SyncPoint]] | None = None
) -> BySyncPoints | None:
    """Match two recordings by the claps both hear.

    Parameters
    ----------
    picture, sound : Hearing
    claps : two sequences of SyncPoint, optional
        Their `clear_claps`, where they are known.

    Returns
    -------
    BySyncPoints or None
        None when one of the two has no clap, or none is like another.

    Notes
    -----
    Each pair of claps is compared by its flattened waveform: the same clap heard twice keeps its
    grain, another clap of the same sticks does not. Several pairs at one offset multiply their chances.
    """
    first, second = claps or (clear_claps(picture), clear_claps(sound))
    if not first or not second:
        return None
    pairs = []
    for p, s in product(first, second):
        lag, r, chance = _compare(picture, p.at_s, sound, s.at_s)
        # Cuts begin at rounded samples: their own distance is exact, the lag refines it.
        base = round(p.at_s * WORK_RATE) - round(s.at_s * WORK_RATE)
        pairs.append((p.at_s, (base - lag) / WORK_RATE, r, chance))
    best: BySyncPoints | None = None
    for at, offset, r, _ in pairs:
        same = [one for one in pairs if _same(one, at, offset) and one[2] * r > 0]
        unique = {round(one[0], 3): one for one in sorted(same, key=lambda one: -one[3])}
        total = sum(min(one[3], 0.0) for one in unique.values()) + np.log10(len(pairs))
        if best is None or total < best.log10_false_alarm:
            used = sorted(unique.values())
            middle = float(np.mean([one[0] for one in used]))
            best = BySyncPoints(
                float(np.mean([one[1] for one in used])),
                middle,
                tuple((one[0], one[1]) for one in used),
                min(float(total), 0.0),
                1 if r > 0 else -1,
            )
    return best


def speak_apart(picture: Hearing, sound: Hearing, found: BySyncPoints) -> bool:
    """Say whether both recordings also speak beside the claps, and say different things: then it is no match.

    Parameters
    ----------
    picture, sound : Hearing
    found : BySyncPoints
        A place that claps propose.

    Returns
    -------
    bool
        Windows count in which both stand well above their own quiet; their surprises, added up, must be beyond chance.
    """
    place = verify(picture, sound, Candidate(found.offset_s, 0.0, 1.0), tried=1)
    if place is None:
        return False
    away = place.at_s[:, None] - np.array([when for when, _ in found.claps])
    beside = ((away < -_BEFORE_S) | (away > _AFTER_S)).all(axis=1)
    loud = _stands_out(picture, place.at_s) & _stands_out(sound, place.at_s - found.offset_s) & beside
    count = int(loud.sum())
    return count >= _SPEAKING and log10_tail(float(place.surprise[loud].sum()), count) > _AGREES_LOG10


def _stands_out(hearing: Hearing, at_s: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Say where a recording is well above its own quiet, half a second around moments of its own."""
    size = WORK_RATE // 2
    whole = hearing.window(0, hearing.size // _FRAME * _FRAME).reshape(-1, _FRAME)
    quiet = float(np.quantile((whole**2).mean(axis=1), _QUIET)) if whole.size else 0.0
    near = [hearing.window(round(float(at) * WORK_RATE) - size // 2, size) for at in at_s]
    return np.array([float((one**2).mean()) > 10 * quiet + 1e-12 for one in near], bool)


def _same(one: tuple[float, float, float, float], at: float, offset: float) -> bool:
    return abs(one[1] - offset) < 1e-4 + _PLAUSIBLE_PPM * 1e-6 * abs(one[0] - at)
