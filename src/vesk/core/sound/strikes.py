"""Strikes heard: claps and start tones, timed at their attack and ranked."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage, signal

from vesk.core.sound.features import WORK_RATE

CLAP, TONE = "clap", "tone"
_HOP = 16  # samples: 1 ms
_QUIET_MS = 150
_RISE_DB = 9.0
_APART_MS = 120
_BLOCK = 60 * WORK_RATE
_TONE_FRAME = 320
_TONE_LEAST_S = 0.08


@dataclass(frozen=True, slots=True)
class Strike:
    """A sync point heard on a recording.

    Attributes
    ----------
    at_s : float
        The attack's first moment, seconds of the recording's own time.
    kind : str
        `CLAP` or `TONE`.
    score : float
        0 to 1: how like a clap of sticks or hands; a half and more is worth looking at.
    rise_db : float
        How far it stands above the tenth of a second before.
    decay_ms : float
        Until it has fallen by 20 dB.
    """

    at_s: float
    kind: str
    score: float
    rise_db: float
    decay_ms: float


def find_strikes(sound: NDArray[np.float32], *, most: int = 12) -> list[Strike]:
    """Find claps and start tones.

    Parameters
    ----------
    sound : ndarray of float32, shape (n,)
        One channel at `WORK_RATE`.
    most : int
        Strikes wanted.

    Returns
    -------
    list of Strike
        The likeliest first.

    Notes
    -----
    A clap rises within a few milliseconds out of quiet, is as loud at 5 kHz as at 1 kHz, and is
    gone within a tenth of a second. A door brings lows and lingers, a consonant rises slowly and
    lasts, handling comes in clusters: each costs score.
    """
    found: list[Strike] = []
    for start in range(0, max(1, sound.size), _BLOCK):
        # Blocks overlap by half a second, so that nothing at a seam is lost.
        piece = sound[max(0, start - WORK_RATE // 2) : start + _BLOCK + WORK_RATE // 2]
        if piece.size < WORK_RATE // 10:
            continue
        shift = max(0, start - WORK_RATE // 2) / WORK_RATE
        # A tone's beginning is sudden too: it is told first.
        for one in [*_tones(piece), *_claps(piece)]:
            at = one.at_s + shift
            if all(abs(at - other.at_s) > 0.06 for other in found):
                found.append(Strike(at, one.kind, one.score, one.rise_db, one.decay_ms))
    return sorted(found, key=lambda one: -one.score)[:most]


def _bands(piece: NDArray[np.float32]) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Return the sound above 700 Hz, and the energies a millisecond above 2.5 kHz and below 400 Hz."""
    high = signal.sosfilt(signal.butter(2, 700, "high", fs=WORK_RATE, output="sos"), piece)
    top = signal.sosfilt(signal.butter(2, 2500, "high", fs=WORK_RATE, output="sos"), piece)
    low = signal.sosfilt(signal.butter(2, 400, "low", fs=WORK_RATE, output="sos"), piece)
    return high, _energy(top), _energy(low)


def _energy(sound: NDArray[np.float64]) -> NDArray[np.float64]:
    whole = sound.size // _HOP * _HOP
    return np.asarray((sound[:whole].reshape(-1, _HOP) ** 2).mean(axis=1))


def _shifted(values: NDArray[np.float64], by: int) -> NDArray[np.float64]:
    """Move values later by `by`, the end repeated."""
    index = np.clip(np.arange(values.size) - by, 0, values.size - 1)
    return np.asarray(values[index])


def _claps(piece: NDArray[np.float32]) -> list[Strike]:
    high, top, low = _bands(piece)
    energy = _energy(high)
    floor = 1e-10 + 1e-3 * float(np.median(energy))
    ahead = _shifted(ndimage.maximum_filter1d(energy, 5), -2)
    behind = _shifted(ndimage.uniform_filter1d(energy, 100), 52)  # the tenth of a second before
    near = _shifted(ndimage.maximum_filter1d(energy, 7), 6)  # 3 to 9 ms before
    rise = 10 * np.log10((ahead + floor) / (behind + floor))
    steep = 10 * np.log10((ahead + floor) / (near + floor))
    value = np.minimum(rise, steep + 6)
    peak = (ndimage.maximum_filter1d(value, _APART_MS) == value) & (value > _RISE_DB)
    loudest = float(energy.max()) + floor
    return [
        _judge(int(k), high, energy, top, low, float(rise[k]), float(steep[k]), floor, loudest)
        for k in np.flatnonzero(peak)
    ]


def _judge(
    k: int,
    high: NDArray[np.float64],
    energy: NDArray[np.float64],
    top: NDArray[np.float64],
    low: NDArray[np.float64],
    rise: float,
    steep: float,
    floor: float,
    loudest: float,
) -> Strike:
    after = energy[k : k + 400]
    crest = float(after[:8].max(initial=floor))
    peak = int(np.argmax(after[:8])) if after.size else 0
    settled = ndimage.maximum_filter1d(after[peak:], 5)
    below = np.flatnonzero(settled < crest / 100 + floor)
    decay = float(below[0]) if below.size else float(after.size)
    around = slice(max(0, k - 2), k + 25)
    bright = 10 * np.log10((float(top[around].mean()) + floor) / (float(energy[around].mean()) + floor))
    boom = 10 * np.log10((float(low[k : k + 60].mean()) + floor) / (float(energy[k : k + 60].mean()) + floor))
    before = energy[max(0, k - _QUIET_MS) : max(0, k - 3)]
    quiet = 10 * np.log10(crest / (float(np.quantile(before, 0.9)) + floor)) if before.size else 10.0
    level = 10 * np.log10(crest / loudest)
    # Each term is worth about one unit when typical of sticks; the sum is squashed to 0..1.
    total = (
        0.10 * (min(rise, 40) - 18)
        + 0.12 * (min(steep, 25) - 10)
        + 0.06 * (min(quiet, 35) - 15)
        + 0.08 * (max(bright, -20) + 8)
        - 0.06 * max(boom, 0.0)
        - 0.010 * max(decay - 90, 0)
        + 0.05 * (max(level, -30) + 8)
    )
    return Strike(_attack(high, k) / WORK_RATE, CLAP, float(1 / (1 + np.exp(-total))), rise, decay)


def _attack(high: NDArray[np.float64], k: int) -> float:
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


def _tones(piece: NDArray[np.float32]) -> list[Strike]:
    """Find steady tones that begin at once: one line holds nearly all energy for a twelfth of a second or more."""
    count = piece.size // _TONE_FRAME
    if count < 6:
        return []
    frames = piece[: count * _TONE_FRAME].reshape(count, _TONE_FRAME) * np.hanning(_TONE_FRAME).astype(np.float32)
    power = np.abs(np.fft.rfft(frames, axis=1)) ** 2
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
        if rows.size * _TONE_FRAME / WORK_RATE < _TONE_LEAST_S:
            continue
        start = max(0, (int(rows[0]) - 1) * _TONE_FRAME)
        part = np.abs(piece[start : start + 3 * _TONE_FRAME])
        crest = float(np.quantile(np.abs(piece[rows[0] * _TONE_FRAME : (rows[-1] + 1) * _TONE_FRAME]), 0.95))
        first = start + int(np.argmax(part >= 0.3 * crest))
        made.append(Strike(first / WORK_RATE, TONE, 0.6, 20.0, rows.size * _TONE_FRAME / WORK_RATE * 1000))
    return made
