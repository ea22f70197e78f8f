"""Jumps: which stretches of a take lie on which line, and where exactly one gives way to the next."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.filters import tenth
from vesk.core.sound.fine import Path, laid_on
from vesk.core.sound.gained import find_gained
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.leaping import LEAST_WINDOWS, SWITCH_NATS
from vesk.core.sound.measurement import Jump
from vesk.core.sound.offset_levels import OffsetLevel, find_levels
from vesk.core.sound.verify import SPOKE, Verified
from vesk.core.sound.windows import LEAST_SHARED_S, SHORTEST_S, Stretch

_OPEN_NATS = 8.0  # every moment as likely as that may be a jump's
_SURELY_NATS = 5.0  # a window that says more for a level lies on it
_FINE_S = 0.25
_NEAR, _HEARD = WORK_RATE // 5, 0.5  # samples that tell how well the two agree at a moment, and how well is enough
MARGIN_S = 3.0  # beyond the windows that tell: one of them may have heard somebody else
_EDGE_WINDOWS = 3
_EDGE_S, _EDGE_WINDOW_S = 6.0, 0.5
_EDGE_STEP_S = 0.0015  # less, in few windows, is who speaks from where


@dataclass(frozen=True, slots=True)
class Change:
    """From one level to the next: by how much, and between which picture times."""

    step_s: float
    before_s: float
    after_s: float


def assign(levels: list[OffsetLevel]) -> NDArray[np.int64]:
    """Assign each window to a level: the most evidence, changes paid for (Viterbi [1]_).

    Parameters
    ----------
    levels : list of OffsetLevel
        Each with the evidence of every window.

    References
    ----------
    .. [1] A. J. Viterbi, IEEE Trans. Inf. Theory 13(2), 1967.
    """
    evidence = np.array([level.surprise for level in levels], dtype=np.float64)
    count, windows = evidence.shape
    score = evidence[:, 0] - np.where(np.arange(count) == 0, 0.0, 2.0)
    back = np.zeros((windows, count), np.int64)
    for t in range(1, windows):
        stay = score[None, :] - SWITCH_NATS * (1 - np.eye(count))
        back[t] = np.argmax(stay, axis=1)
        score = stay[np.arange(count), back[t]] + evidence[:, t]
    path = np.zeros(windows, np.int64)
    path[-1] = int(np.argmax(score))
    for t in range(windows - 1, 0, -1):
        path[t - 1] = back[t, path[t]]
    return path


def changes(levels: list[OffsetLevel], path: NDArray[np.int64], at_s: NDArray[np.float64]) -> list[Change]:
    """Return where the assigned level changes, each backed by windows that spoke on both sides.

    Parameters
    ----------
    levels : list of OffsetLevel
        The levels that windows were assigned to.
    path : ndarray of int64
        Level of each window (windows,).
    at_s : ndarray of float64
        Picture times of the windows, seconds (windows,).
    """
    made = []
    edges = np.flatnonzero(np.diff(path))
    bounds = [0, *(edges + 1), path.size]
    for number, edge in enumerate(edges):
        a, b = int(path[edge]), int(path[edge + 1])
        own = levels[a].surprise[: edge + 1][path[: edge + 1] == a]
        spoke_before = np.flatnonzero((path[: edge + 1] == a) & (levels[a].surprise[: edge + 1] > 3.0))
        spoke_after = edge + 1 + np.flatnonzero((path[edge + 1 :] == b) & (levels[b].surprise[edge + 1 :] > 3.0))
        if not own.size or not spoke_before.size or not spoke_after.size:
            continue
        first, last = _open(levels[a].surprise, levels[b].surprise, int(bounds[number]), int(bounds[number + 2]))
        before, after = (int(spoke_before[-1]), int(spoke_after[0]))
        before, after = min(before, first), max(after, last)
        made.append(Change(levels[b].above_s - levels[a].above_s, float(at_s[before]), float(at_s[after])))
    return made


def _open(one: NDArray[np.float32], other: NDArray[np.float32], low: int, high: int) -> tuple[int, int]:
    """Return the last window that surely lies on one level, and the first that surely lies on another.

    Where somebody else speaks meanwhile, neither says a thing, and one window in twenty speaks for either by chance.
    """
    told = np.concatenate([[0.0], np.cumsum(one[low:high] - other[low:high])])
    inside = low + np.flatnonzero(told >= told.max() - _SURELY_NATS)
    return max(low, int(inside[0]) - 1), min(high - 1, int(inside[-1]))


def at_edge(
    picture: Hearing,
    sound: Hearing,
    cells: Stretch,
    place: Verified,
    level_s: float,
    levels: list[OffsetLevel],
    *,
    head: bool,
) -> Change | None:
    """Look for a jump so near an end that too few windows lie beyond it to say so: by shorter ones.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
        The windows of the trace.
    place : Verified
    level_s : float
        By how much the windows next to the end lie above the place, seconds.
    levels : list of OffsetLevel
        As found by the windows of the trace.
    head : bool
        Whether at the head, or at the tail.
    """
    known = np.max([level.surprise for level in levels], axis=0)
    edge = known[:_EDGE_WINDOWS] if head else known[-_EDGE_WINDOWS:]
    if float(edge.min()) >= SPOKE:
        return None
    low = cells.head_s if head else max(cells.head_s, cells.tail_s - _EDGE_S)
    high = min(cells.tail_s, low + _EDGE_S) if head else cells.tail_s
    starts = np.arange(low, high - _EDGE_WINDOW_S, _EDGE_WINDOW_S / 2) * WORK_RATE
    if starts.size < 4 * LEAST_WINDOWS:
        return None
    short = Stretch(starts.astype(np.int64), int(_EDGE_WINDOW_S * WORK_RATE), low, high)
    shifted = replace(place, at_middle_s=place.at_middle_s + level_s)
    _, own = find_levels(picture, sound, short, shifted, [], near_end=True)
    if len(own) == 1:
        return None
    assigned = assign(own)
    found = changes(own, assigned, short.centres_s)
    inner = own[int(assigned[-1 if head else 0])].above_s
    if len(found) != 1 or inner != 0.0 or abs(found[0].step_s) < _EDGE_STEP_S:
        return None
    return found[0]


def place_jump(
    picture: Hearing,
    sound: Hearing,
    path: Path,
    step_s: float,
    before_s: float,
    after_s: float,
    *,
    above_s: tuple[float, ...] = (0.0,),
) -> Jump:
    """Say where a jump happened: the likeliest moment, and between which it lies with 95 %.

    Parameters
    ----------
    picture, sound : Hearing
    path : Path
        Along which the sound lies before the jump; fitted.
    step_s : float
        By how much the offset grows.
    before_s, after_s : float
        The middles of the last window that fits before and of the first that fits after.
    above_s : tuple of float
        By how much the places that people speak from lie above the path: whoever speaks there tells the moment, and
        sound that is laid 110 µs off turns 2.3 kHz by a right angle.

    Returns
    -------
    Jump
        Of that size: its error is whoever's who measured it.

    Notes
    -----
    Both sounds, whitened alike, are laid along both lines; moment for moment their products with
    the picture's tell which line holds. The likeliest change is where the running sum of their
    difference is greatest; every moment within 8 nats of it is possible. Where one of the two gained what it holds
    twice, or silence, that itself tells the moment, and whose step it is.
    """
    length = int(_FINE_S * 2 * WORK_RATE)
    # Halved while long: cheap, and the fine step then has few seconds to look at.
    while after_s - before_s > 6.0:
        middle = (before_s + after_s) / 2
        probes = np.linspace(middle - 1.5, middle + 1.5, 7)
        told = sum(_prefers(picture, sound, path, step_s, float(at), length, above_s) for at in probes)
        if abs(told) < 2.0:
            break
        before_s, after_s = (middle - 1.5, after_s) if told > 0 else (before_s, middle + 1.5)
    margin = MARGIN_S
    start = int((before_s - margin) * WORK_RATE)
    count = int((after_s - before_s + 2 * margin + abs(step_s)) * WORK_RATE)
    first, second = _products(picture, sound, path, step_s, start, count, above_s)
    nats = _nats(first, second, int(margin * WORK_RATE), len(above_s))
    # Before it the one line holds; the other from where the sound goes on: a step later.
    before = np.concatenate([[0.0], np.cumsum(first * nats)])
    after = np.concatenate([[0.0], np.cumsum(second * nats)])
    moments = np.arange(count + 1)
    resumes = np.clip(moments + round(step_s * WORK_RATE), 0, count)
    gain = before + after[-1] - after[resumes]
    gain[(moments + step_s * WORK_RATE < 0) | (moments + step_s * WORK_RATE > count)] = -np.inf
    inside = np.flatnonzero(gain >= gain.max() - _OPEN_NATS)
    best = np.flatnonzero(gain >= gain.max() - 0.5)
    at = start + (float(best[0]) + float(best[-1])) / 2
    low, high = (start + float(inside[0])) / WORK_RATE, (start + float(inside[-1])) / WORK_RATE
    return _by_gained(picture, sound, path, Jump(at / WORK_RATE, step_s, low, high, 0.0))


def _by_gained(picture: Hearing, sound: Hearing, path: Path, jump: Jump) -> Jump:
    """Place a jump by what one of the two holds twice, or as silence: to part of a millisecond, in a pause too.

    The offset grows where the sound lost samples, or the scratch gained some; it shrinks the other way round.
    """
    times = np.array([jump.low_s, jump.high_s])
    grows = jump.step_s > 0
    low, high = (times if grows else times - replace(path, jumps=()).offset_at(times)) * WORK_RATE
    found = find_gained(picture if grows else sound, abs(jump.step_s) * WORK_RATE, int(low), int(high) + 1)
    if found is None:
        return jump
    # From its own sample to the picture's time, along the line before it.
    pace = 1.0 if grows else 1 - path.slope
    at = jump.low_s + (found.at - float(low)) / WORK_RATE / pace
    within = found.within / WORK_RATE
    return replace(jump, at_s=at, low_s=at - within, high_s=at + within, gained=found.gained)


def _products(
    picture: Hearing,
    sound: Hearing,
    path: Path,
    step_s: float,
    start: int,
    count: int,
    above_s: tuple[float, ...],
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return, sample by sample, how picture and sound agree along the line before and after, whoever speaks."""
    each = [
        _products_at(picture, sound, replace(path, level_s=path.level_s + above), step_s, start, count)
        for above in above_s
    ]
    first, second = (np.sum([one[side] for one in each], axis=0) for side in (0, 1))
    return first, second


def _products_at(
    picture: Hearing, sound: Hearing, path: Path, step_s: float, start: int, count: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    base = Path(path.middle_s, path.level_s, path.slope)
    size = fft.next_fast_len(count, real=True)
    own = fft.rfft(picture.window(start, count), size)
    flat = np.abs(own)
    out = []
    for above in (0.0, step_s):
        middle = np.array([(start + count / 2) / WORK_RATE])
        offset = float(base.offset_at(middle)[0]) + above
        laid, late = laid_on(sound, np.array([start]), count, np.array([offset]), path.slope)
        spectrum = fft.rfft(laid[0], size)
        spectrum *= path.polarity * np.exp(2j * np.pi * np.arange(spectrum.size) * float(late[0]) / size)
        out.append((spectrum, np.abs(spectrum)))
    width = max(9, round(30.0 * size / WORK_RATE))

    def white(spectrum: NDArray[np.complex128], level: NDArray[np.float64]) -> NDArray[np.float64]:
        smooth = np.sqrt(np.maximum(ndimage.uniform_filter1d(level**2, width), 0))
        hertz = np.arange(spectrum.size) * (WORK_RATE / size)
        kept = np.where((hertz > 150) & (hertz < 6000), spectrum / (smooth + 1e-3 * smooth.mean() + 1e-20), 0)
        return np.asarray(fft.irfft(kept, size)[:count])

    reference = white(own, flat)
    # Loud moments must not decide alone, and a pause's noise not at all.
    reference = _levelled(reference)
    first, second = (reference * _levelled(white(*one)) for one in out)
    return first, second


def _levelled(sound: NDArray[np.float64]) -> NDArray[np.float64]:
    power = ndimage.uniform_filter1d(sound**2, 320)
    return np.asarray(sound / np.sqrt(np.maximum(power, 0) + 0.5 * float(power.mean()) + 1e-30))


def _nats(first: NDArray[np.float64], second: NDArray[np.float64], edge: int, places: int) -> NDArray[np.float64]:
    """Return nats a unit of product at each moment: the correlation r of unit signals tells r / (1 - r**2) a product.

    Told by the first and last so many samples. Where neither line is heard, in a noisy pause, noise would wander by
    many nats. Of several places one is spoken from at a time; the others' products add chance alone.
    """
    r = float(np.clip(0.5 * (first[:edge].mean() + second[-edge:].mean()), 0.02, 0.9))
    agree = np.maximum(*(ndimage.uniform_filter1d(one, _NEAR) for one in (first, second)))
    heard = np.clip(agree / (_HEARD * r), 0.0, 1.0)
    return np.asarray(heard * (r / (places - r * r) * 0.5))  # neighbours of a band two thirds wide repeat each other


def _prefers(
    picture: Hearing,
    sound: Hearing,
    path: Path,
    step_s: float,
    at_s: float,
    length: int,
    above_s: tuple[float, ...],
) -> float:
    """Return which line holds around a moment: positive for the one before the jump, in units of chance."""
    first, second = _products(picture, sound, path, step_s, int(at_s * WORK_RATE) - length // 2, length, above_s)
    difference = first - second
    pooled = tenth(difference) if difference.size > 100 else difference
    spread = float(pooled.std()) or 1.0
    return float(pooled.mean() / spread * np.sqrt(pooled.size))


def enough_for(shared_s: float) -> bool:
    """Say whether a stretch is long enough to have jumps looked for.

    Parameters
    ----------
    shared_s : float
        Its length, seconds.
    """
    return shared_s >= max(LEAST_SHARED_S, LEAST_WINDOWS * 2 * SHORTEST_S)
