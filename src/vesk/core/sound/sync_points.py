"""Sync points heard: claps and start tones, timed at their attack and ranked."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.kinds import CLAP, TONE, SyncPointKind
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.filters import filtered, second_order
from vesk.core.sound.taper import hann

_HOP = 16  # samples: 1 ms
_RISE_DB = 9.0
_BESIDE_MS, _AFTER_MS = 500, 250  # what surrounds it: half a second before, and after a room has rung out
_FLOOR = 1e-10
_APART_MS = 120
_HIGH, _TOP, _LOW = (
    second_order(700, "high", WORK_RATE), second_order(2500, "high", WORK_RATE), second_order(400, "low", WORK_RATE)
)  # fmt: skip
_BLOCK = 60 * WORK_RATE
_TONE_FRAME = 320
_TONE_LEAST_S = 0.2
_TONE_SCORE = 0.6
_TONE_HOLDS = 0.1  # of its energy, from one end to the other


@dataclass(frozen=True, slots=True)
class SyncPoint:
    """A sync point heard on a recording.

    Attributes
    ----------
    at_s : float
        The attack's first moment, seconds of the recording's own time.
    kind : str
        `CLAP` or `TONE`.
    score : float
        0 to 1: how likely it is a clap of sticks or hands; a third and more is worth looking at.
    rise_db : float
        How far it stands over the loud moments (nine tenths are below) of the half seconds around it.
    decay_ms : float
        Until it has fallen by 20 dB.
    """

    at_s: float
    kind: SyncPointKind
    score: float
    rise_db: float
    decay_ms: float


def find_sync_points(sound: NDArray[np.float32], *, most: int = 12) -> list[SyncPoint]:
    """Find claps and start tones.

    Parameters
    ----------
    sound : ndarray of float32, shape (n,)
        One channel at `WORK_RATE`.
    most : int
        Sync points wanted.

    Returns
    -------
    list of SyncPoint
        The likeliest first.

    Notes
    -----
    A clap stands out of what surrounds it, rises out of a quiet tenth of a second, brings no lows, has highs, and is
    gone within a tenth of a second. How much each counts was fitted (logistic regression) to 320 simulated takes,
    half of them with claps, and 33 000 other sudden sounds in them: talk, sibilants, stops, doors, knocks.
    """
    found: list[SyncPoint] = []
    for start in range(0, max(1, sound.size), _BLOCK):
        # Blocks overlap by a second, so that nothing at a seam is lost.
        first = max(0, start - WORK_RATE)
        piece = sound[first : start + _BLOCK + WORK_RATE]
        if piece.size < WORK_RATE // 10:
            continue
        # A tone's beginning is sudden too: it is told first.
        for one in [*_tones(piece), *_claps(_bands(piece))]:
            at = one.at_s + first / WORK_RATE
            if all(abs(at - other.at_s) > 0.06 for other in found):
                found.append(replace(one, at_s=at))
    return sorted(found, key=lambda one: -one.score)[:most]


@dataclass(frozen=True, slots=True)
class _Bands:
    """A piece of sound above 700 Hz, and its energies a millisecond there, above 2.5 kHz and below 400 Hz."""

    high: NDArray[np.float32]
    energy: NDArray[np.float64]
    top: NDArray[np.float64]
    low: NDArray[np.float64]


def _db(energy: float) -> float:
    return 10 * float(np.log10(energy + _FLOOR))


def _bands(piece: NDArray[np.float32]) -> _Bands:
    high, top, low = filtered(piece, _HIGH, _TOP, _LOW)
    return _Bands(high, _energy(high), _energy(top), _energy(low))


def _energy(sound: NDArray[np.float32]) -> NDArray[np.float64]:
    rows = sound[: sound.size // _HOP * _HOP].reshape(-1, _HOP)
    return np.asarray(np.einsum("ij,ij->i", rows, rows), np.float64) / _HOP


def _shifted(values: NDArray[np.float64], by: int) -> NDArray[np.float64]:
    """Move values later by `by`, the end repeated."""
    index = np.clip(np.arange(values.size) - by, 0, values.size - 1)
    return np.asarray(values[index])


def _claps(bands: _Bands) -> list[SyncPoint]:
    energy = bands.energy
    floor = _FLOOR + 1e-3 * float(np.median(energy))
    ahead = _shifted(ndimage.maximum_filter1d(energy, 5), -2)
    behind = _shifted(ndimage.uniform_filter1d(energy, 100), 52)  # the tenth of a second before
    near = _shifted(ndimage.maximum_filter1d(energy, 7), 6)  # 3 to 9 ms before
    rise = 10 * np.log10((ahead + floor) / (behind + floor))
    steep = 10 * np.log10((ahead + floor) / (near + floor))
    value = np.minimum(rise, steep + 6)
    peak = (ndimage.maximum_filter1d(value, _APART_MS) == value) & (value > _RISE_DB)
    return [_judged(int(k), float(rise[k]), bands, floor) for k in np.flatnonzero(peak)]


def _judged(k: int, out_of_quiet: float, bands: _Bands, floor: float) -> SyncPoint:
    energy, top = bands.energy, bands.top
    after = energy[k : k + 400]
    crest = float(after[:8].max(initial=floor))
    peak = int(np.argmax(after[:8])) if after.size else 0
    settled = ndimage.maximum_filter1d(after[peak:], 5)
    below = np.flatnonzero(settled < crest / 100 + floor)
    decay = float(below[0]) if below.size else float(after.size)
    at = _attack(bands.high, k) / WORK_RATE
    k = int(at * 1000)
    attack = slice(max(0, k - 1), k + 6)
    beside = [slice(max(0, k - _BESIDE_MS), max(0, k - 10)), slice(k + _AFTER_MS, k + _AFTER_MS + _BESIDE_MS)]
    whole, highs = _db(float(energy[attack].max(initial=0.0))), _db(float(top[attack].max(initial=0.0)))
    rise = whole - _loud(energy, beside)
    gone = _db(float(energy[k : k + 6].sum())) - _db(float(energy[k + 60 : k + 120].sum()))
    over_lows = whole - _db(float(bands.low[k : k + 30].max(initial=0.0)))
    total = (
        0.114 * float(np.clip(rise, -10, 50))
        + 0.030 * float(np.clip(highs - _loud(top, beside), -10, 50))
        + 0.145 * float(np.clip(gone, -15, 18))
        # That there are lows, and no highs, speaks against a clap; the other way round is a sibilant as well.
        + 0.228 * min(over_lows, 8.0)
        + 0.497 * min(highs - whole, -8.0)
        + 0.111 * float(np.clip(out_of_quiet, 0, 45))
        - 6.64
    )
    return SyncPoint(at, CLAP, float(1 / (1 + np.exp(-total))), rise, decay)


def _loud(energy: NDArray[np.float64], parts: list[slice]) -> float:
    near = np.concatenate([energy[part] for part in parts])
    tenth = near.size - near.size // 10 - 1
    return _db(float(np.partition(near, tenth)[tenth]) if near.size else 0.0)


def _attack(high: NDArray[np.float32], k: int) -> float:
    """Return the sample, with its fraction, at which the attack leaves what was there before."""
    low, stop = max(0, (k - 4) * _HOP), min(high.size, (k + 6) * _HOP)
    piece = np.abs(high[low:stop])
    if not piece.size:
        return float(k * _HOP)
    before = np.abs(high[max(0, low - 40 * _HOP) : low])
    quiet = float(before.max(initial=0.0))
    crest = float(piece.max())
    limit = min(max(0.15 * crest, 1.5 * quiet), 0.7 * crest)
    first = int(np.argmax(piece >= limit))
    if first == 0:
        return float(low)
    rise = piece[first] - piece[first - 1]
    return low + first - float(np.clip((piece[first] - limit) / rise, 0, 1)) if rise > 0 else float(low + first)


def _tones(piece: NDArray[np.float32]) -> list[SyncPoint]:
    """Find steady tones that begin at once: one line holds nearly all energy for a twelfth of a second or more."""
    count = piece.size // _TONE_FRAME
    if count < 6:
        return []
    frames = piece[: count * _TONE_FRAME].reshape(count, _TONE_FRAME)
    bins = fft.rfft(frames * hann(_TONE_FRAME), axis=1)
    power = bins.real**2 + bins.imag**2
    power[:, :6] = 0  # below 300 Hz is hum
    line = power.argmax(axis=1)
    rows_of = np.arange(count)
    held = sum(power[rows_of, np.clip(line + d, 0, power.shape[1] - 1)] for d in (-1, 0, 1))
    total = power.sum(axis=1) + 1e-9
    steady = (held / total > 0.97) & (total > 20 * np.median(total))
    steady &= np.abs(np.diff(line, prepend=line[0])) <= 1
    runs, found = ndimage.label(steady)
    made = []
    for run in range(1, found + 1):
        rows = np.flatnonzero(runs == run)
        ends = total[rows[0]], total[rows[-1]]
        if rows.size * _TONE_FRAME / WORK_RATE < _TONE_LEAST_S or min(ends) < _TONE_HOLDS * max(ends):
            continue  # too short, or what was struck and dies away
        start = max(0, (int(rows[0]) - 1) * _TONE_FRAME)
        part = np.abs(piece[start : start + 3 * _TONE_FRAME])
        crest = float(np.quantile(np.abs(piece[rows[0] * _TONE_FRAME : (rows[-1] + 1) * _TONE_FRAME]), 0.95))
        first = start + int(np.argmax(part >= 0.3 * crest))
        made.append(SyncPoint(first / WORK_RATE, TONE, _TONE_SCORE, 20.0, rows.size * _TONE_FRAME / WORK_RATE * 1000))
    return made
