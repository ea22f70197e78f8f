"""Look at one candidate window by window: do the windows agree on a line, and could that be chance."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage, special

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.windows import Stretch, cut, cut_at_rate, in_band, lay_windows, liveliest, whitened

WIDE_WINDOWS = 96  # enough to decide; the chosen place is then traced in full
PEAKS = 5
REACH_S = 0.06  # coarse search is good to about 20 ms; its drift to about 60 ppm
MAX_PPM = 700.0  # around the candidate's rate
DRIFT_PPM = 90.0  # by which the coarse rate may be off
TOLERANCE = 3  # samples either side: 0.19 ms
_BESIDE = 48  # samples: nearer than 3 ms is the line's own peak
_LOCAL = 128  # samples: heights are judged against the 8 ms either side
_PAIRS = 3000
_GLANCED = 2  # times the windows of a glance: of fewer, all are looked at
_ECHO_S = 0.001
SPOKE = 3.0  # nats: a window this surprised (5 % by chance) has spoken for a line


class Glance(NamedTuple):
    """How many of the liveliest windows are looked at first, and up to which chance (log10) all are."""

    windows: int
    log10_chance: float


@dataclass(frozen=True, slots=True)
class Verified:
    """A candidate looked at window by window: its rough line and how strongly it speaks.

    Attributes
    ----------
    at_middle_s, slope, middle_s : float
        Offset ``at_middle_s + slope * (t - middle_s)``, seconds.
    strength : float
        Evidence beyond what chance gives, in nats: the sum of the windows' surprises less their number.
    windows : float
        Windows that spoke.
    log10_false_alarm : float
        That chance alone gives as much somewhere among what was tried.
    repeat_s, repeat_ratio : float
        The lag beside the line at which all windows together fit next best, and how well against
        the line itself: near 1 for hum and other sound that repeats.
    polarity : int
        -1 when one of the two is turned over.
    clarity : float
        How high the windows that spoke stand on the line, in units of what lies around: grows with coherence.
    at_s, surprise : ndarray of float64, shape (windows,)
        Picture time of each window, and its surprise on the line.
    echoes_s : tuple of float
        By how much above the line (seconds) the very same sound fits once more: one recording's echo, and no place.
    hall_s : tuple of (float, float) or None
        Between which offsets above the line it fits wherever one looks, where one of the two stands in a hall.
    doubt_s : float
        Standard error of which of many arrivals in a hall is the first, seconds.
    leaps : int
        How often the path that found it leaps: it is the longest stay of it. 0 for a line.
    """

    at_middle_s: float
    slope: float
    middle_s: float
    strength: float
    windows: float
    log10_false_alarm: float
    repeat_s: float
    repeat_ratio: float
    polarity: int
    clarity: float
    at_s: NDArray[np.float64]
    surprise: NDArray[np.float64]
    echoes_s: tuple[float, ...] = ()
    hall_s: tuple[float, float] | None = None
    doubt_s: float = 0.0
    leaps: int = 0

    @property
    def guess(self) -> Candidate:
        """The place as a candidate, sharper than the one it came from."""
        rate = -self.slope
        offset = (self.at_middle_s + rate * self.middle_s) / (1 + rate)
        return Candidate(offset, rate * 1e6, self.strength)

    def is_echo(self, above_s: float) -> bool:
        """Say whether what fits so far above the line is an echo of what lies on it.

        Parameters
        ----------
        above_s : float
            Seconds.
        """
        return any(low < above_s < high for low, high in self.no_places_s)

    @property
    def hall(self) -> float:
        """`doubt_s`, positive where the picture is in the hall, negative where the sound is."""
        return self.doubt_s if self.hall_s is None or self.hall_s[1] > -self.hall_s[0] else -self.doubt_s

    @property
    def no_places_s(self) -> tuple[tuple[float, float], ...]:
        """Between which offsets above the line (seconds) nothing is a place of its own."""
        spans = [(one - _ECHO_S, one + _ECHO_S) for echo in self.echoes_s for one in (-echo, echo)]
        return (*spans, (self.hall_s[0] - _ECHO_S, self.hall_s[1] + _ECHO_S)) if self.hall_s else tuple(spans)

    def offset_at(self, picture_s: NDArray[np.float64] | float) -> NDArray[np.float64] | float:
        """Return the rough offset at picture times, seconds.

        Parameters
        ----------
        picture_s : ndarray of float64 or float
            Seconds, any shape.
        """
        return self.at_middle_s + self.slope * (picture_s - self.middle_s)


@dataclass(frozen=True, slots=True)
class Curves:
    """What every window says of every lag around a guess.

    Attributes
    ----------
    heights : ndarray of float32, shape (windows, lags)
        Signed whitened correlation over its own local root mean square.
    surprise : ndarray of float32, shape (windows, lags)
        Minus the logarithm of the share of lags in that window that stand as high: of unit
        exponential distribution under chance.
    first : ndarray of float64, shape (windows,)
        Offset (samples) of column 0 in each window.
    at_s : ndarray of float64, shape (windows,)
        Picture time of each window's middle.
    step : float
        Offset (samples) from column to column: the sound's own samples in a picture sample. A sound laid
        later by a picture sample has its own moments move by so many.
    """

    heights: NDArray[np.float32]
    surprise: NDArray[np.float32]
    first: NDArray[np.float64]
    at_s: NDArray[np.float64]
    step: float = 1.0

    def columns(self, offsets_s: NDArray[np.float64]) -> NDArray[np.int64]:
        """Return the columns nearest to offsets (..., windows), which may lie outside.

        Parameters
        ----------
        offsets_s : ndarray of float64
            Seconds; the last axis is the windows.
        """
        return np.rint((offsets_s * WORK_RATE - self.first) / self.step).astype(np.int64)

    def along(self, offsets_s: NDArray[np.float64]) -> NDArray[np.float32]:
        """Return each window's surprise at an offset (..., windows); 0 outside what was searched.

        Parameters
        ----------
        offsets_s : ndarray of float64
            Seconds; the last axis is the windows.
        """
        column = self.columns(offsets_s)
        inside = (column >= 0) & (column < self.surprise.shape[1])
        rows = np.arange(self.first.size)
        return np.where(inside, self.surprise[rows, np.clip(column, 0, self.surprise.shape[1] - 1)], 0.0)

    def with_others(self, others: Curves) -> Curves:
        """Return these windows with others of the same search, in the order of their times."""
        order = np.argsort(np.concatenate([self.at_s, others.at_s]), kind="stable")

        def both(own: NDArray[Any], other: NDArray[Any]) -> NDArray[Any]:
            return np.asarray(np.concatenate([own, other])[order])

        heights, surprise = both(self.heights, others.heights), both(self.surprise, others.surprise)
        return Curves(heights, surprise, both(self.first, others.first), both(self.at_s, others.at_s), self.step)

    def beside(self, offsets_s: NDArray[np.float64], asked: NDArray[np.bool_]) -> NDArray[np.float64]:
        """Return how far beside offsets, seconds, some windows stand highest: within twice the tolerance.

        Parameters
        ----------
        offsets_s : ndarray of float64, shape (windows,)
        asked : ndarray of bool, shape (windows,)
            Which windows.
        """
        rows = np.flatnonzero(asked)
        reach = 2 * TOLERANCE
        column = np.clip(self.columns(offsets_s)[rows], reach, self.heights.shape[1] - reach - 1)
        near = np.abs(self.heights[rows[:, None], column[:, None] + np.arange(-reach, reach + 1)])
        highest = column - reach + np.argmax(near, axis=1)
        return np.asarray((self.first[rows] + self.step * highest) / WORK_RATE - offsets_s[rows])


def correlate_windows(picture: Hearing, sound: Hearing, cells: Stretch, guess: Candidate, reach: int) -> Curves:
    """Correlate every window within `reach` samples around a guess.

    Heights are divided by the root mean square of what lies around them, so that a blob of
    energy at one lag (two different claps, say) does not look like agreement, and ranked within
    their window, so that no assumption about their distribution is needed.

    Parameters
    ----------
    picture : Hearing
        The camera's scratch.
    sound : Hearing
        The recorder's.
    cells : Stretch
        The windows.
    guess : Candidate
        Offset and rate about which to look.
    reach : int
        How far to either side, samples at the work rate.
    """
    expected = guess.offset_s - guess.ppm * 1e-6 * (cells.centres_s - guess.offset_s)
    return correlate_around(picture, sound, cells, expected, guess.ppm, reach)


def correlate_around(
    picture: Hearing, sound: Hearing, cells: Stretch, expected_s: NDArray[np.float64], ppm: float, reach: int
) -> Curves:
    """Correlate every window within `reach` samples around an offset of its own: see `correlate_windows`.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
        The windows.
    expected_s : ndarray of float64
        Offset at each window's middle, seconds (windows,).
    ppm : float
        How much faster than the picture's the sound's time runs within a window.
    reach : int
        Samples at the work rate.
    """
    length = cells.length
    size = fft.next_fast_len(length + 2 * reach, real=True)
    at = cells.centres_s
    lag0 = np.rint(expected_s * WORK_RATE).astype(np.int64)
    x = fft.rfft(cut(picture, cells.starts, length), size, axis=1)
    # A sound window sits at picture time minus offset; a longer one leaves room for the search.
    ratio = 1 / (1 + ppm * 1e-6)
    if abs(ratio - 1) * length < 0.5:
        ratio = 1.0
    middle = cells.starts + length / 2 - lag0
    first = np.asarray(middle - (length / 2 + reach) / ratio, np.float64)
    wide, _ = cut_at_rate(sound, first, length + 2 * reach, ratio)
    spectra = whitened(x, fft.rfft(wide, size, axis=1), WORK_RATE / size)
    spectra[:, ~in_band(size)] = 0
    curve = fft.irfft(spectra, size, axis=1)[:, : 2 * reach + 1]
    # Lag k of the wide window is `reach - k` samples of offset: turned round, columns grow with offset.
    heights = np.ascontiguousarray(curve[:, ::-1], np.float32)
    local = np.sqrt(np.maximum(ndimage.uniform_filter1d(heights**2, 2 * _LOCAL + 1, axis=1, mode="reflect"), 0))
    silent = local.max(axis=1, keepdims=True) <= 0
    heights /= np.where(silent, 1.0, local + 1e-3 * local.mean(axis=1, keepdims=True) + 1e-20)
    best = ndimage.maximum_filter1d(np.abs(heights), 2 * TOLERANCE + 1, axis=1)
    order = np.argsort(-best, axis=1)
    surprise = np.empty_like(best)
    # A plateau of the filter is one height: its members share the rank of its last.
    share = -np.log((np.arange(best.shape[1]) + 1) / best.shape[1]).astype(np.float32)
    np.put_along_axis(surprise, order, np.broadcast_to(share, best.shape), axis=1)
    surprise = ndimage.minimum_filter1d(surprise, TOLERANCE, axis=1)
    surprise[silent[:, 0]] = 0.0
    step = 1 / ratio
    return Curves(heights, surprise, np.asarray(lag0 - reach * step, np.float64), at, step)


def log10_tail(total: float, windows: int) -> float:
    """Return log10 of the chance that `windows` unit exponentials sum to `total` or more (Erlang's tail)."""
    k = np.arange(max(windows, 1))
    return float(special.logsumexp(k * np.log(max(total, 1e-9)) - special.gammaln(k + 1) - total) / np.log(10))


def _lines(curves: Curves, guess: Candidate, span: float) -> NDArray[np.float64]:
    """Propose lines as rows (offset at the middle, slope): through pairs of peaks, and along the guess."""
    rng = np.random.default_rng(20270318)
    middle = float(curves.at_s.mean())
    at = curves.at_s - middle
    high = np.abs(curves.heights)
    peak = (ndimage.maximum_filter1d(high, 17, axis=1) == high) & (curves.surprise > 1.0)
    value = np.where(peak, curves.surprise + 0.01 * high, -1.0)
    top = np.argsort(-value, axis=1)[:, :PEAKS]
    good = np.take_along_axis(value, top, axis=1).ravel()
    offsets = ((curves.first[:, None] + curves.step * top) / WORK_RATE).ravel()
    times = np.repeat(at, top.shape[1])
    base = -guess.ppm * 1e-6
    lines = [np.stack([offsets - base * times, np.full(offsets.size, base)], axis=1)]
    usable = np.flatnonzero(good > 0)
    if usable.size > 1:
        chance = np.exp(np.minimum(good[usable], 8.0) / 2)
        pairs = rng.choice(usable, size=(_PAIRS, 2), p=chance / chance.sum())
        gap = times[pairs[:, 1]] - times[pairs[:, 0]]
        far = np.abs(gap) > 0.2 * span
        slope = (offsets[pairs[far, 1]] - offsets[pairs[far, 0]]) / gap[far]
        near = np.abs(slope - base) < MAX_PPM * 1e-6
        start = offsets[pairs[far, 0]] - slope * times[pairs[far, 0]]
        lines.append(np.stack([start[near], slope[near]], axis=1))
    return np.concatenate(lines)


def best_line(curves: Curves, guess: Candidate, span: float) -> tuple[float, float, float]:
    """Find the line along which windows surprise most: (offset at the windows' mean time, slope, total).

    Parameters
    ----------
    curves : Curves
        Of every window.
    guess : Candidate
        Offset and rate to begin with.
    span : float
        How far the offset may lie from it, seconds.
    """
    at = curves.at_s - float(curves.at_s.mean())
    lines = _lines(curves, guess, span)
    totals = curves.along(lines[:, :1] + lines[:, 1:] * at).sum(axis=1)
    best = lines[int(np.argmax(totals))]
    # Refined on a small grid: half a tolerance at the middle and at the ends.
    for scale in (1.0, 0.5):
        step = scale * TOLERANCE / WORK_RATE
        levels = best[0] + step * np.arange(-2, 3)
        slopes = best[1] + 2 * step / max(span, 0.5) * np.arange(-3, 4)
        grid = np.array([(level, slope) for level in levels for slope in slopes])
        totals = curves.along(grid[:, :1] + grid[:, 1:] * at).sum(axis=1)
        best = grid[int(np.argmax(totals))]
    return float(best[0]), float(best[1]), float(totals.max())


@dataclass(frozen=True, slots=True)
class _Found:
    """The line along which windows surprise most, how many spoke at all, and log10 of its chance at one guess."""

    level: float
    slope: float
    total: float
    spoke: int
    log10_chance: float


def _find(curves: Curves, guess: Candidate, span: float) -> _Found | None:
    """Find the best line of some windows; None where one of the two is silent in all of them."""
    spoke = int((curves.surprise.max(axis=1) > 0).sum())
    if not spoke:
        return None
    level, slope, total = best_line(curves, guess, span)
    lags = curves.surprise.shape[1] / (2 * TOLERANCE + 1)
    slopes = max(1.0, 2 * MAX_PPM * 1e-6 * span * WORK_RATE / (2 * TOLERANCE + 1))
    return _Found(level, slope, total, spoke, log10_tail(total, spoke) + float(np.log10(lags * slopes)))


def verify(
    picture: Hearing, sound: Hearing, guess: Candidate, *, tried: int, glance: Glance | None = None
) -> Verified | None:
    """Look at one coarse candidate window by window.

    Parameters
    ----------
    picture, sound : Hearing
    guess : Candidate
        Where to look: offset good to about 50 ms at the middle, drift to about 90 ppm.
    tried : int
        Candidates, channels and rates tried altogether; the false-alarm figure pays for them.
    glance : Glance, optional
        Look at the liveliest of many windows first, and no further where chance explains these.

    Returns
    -------
    Verified or None
        None when the two share less than a second there, or a glance showed nothing.

    Notes
    -----
    Each window's surprise at the line is exponential under chance, whatever its sound; their sum
    has Erlang's distribution (Fisher's method [1]_). Windows overlap by half at most: tapered, their
    correlations then share a thirty-sixth of their variance, so they count in full.

    References
    ----------
    .. [1] R. A. Fisher, "Statistical Methods for Research Workers", 4th ed., 1932, section 21.1.
    .. [2] M. A. Fischler and R. C. Bolles, "Random sample consensus", Commun. ACM 24(6), 1981.
    """
    cells = lay_windows(picture.seconds, sound.seconds, guess, most=WIDE_WINDOWS, overlap=0.5)
    if cells is None:
        return None
    span = cells.tail_s - cells.head_s
    reach = int((REACH_S + DRIFT_PPM * 1e-6 * span / 2) * WORK_RATE)
    if glance and cells.starts.size >= _GLANCED * glance.windows:
        first = liveliest(picture, sound, cells, guess, glance.windows)
        few = correlate_windows(picture, sound, replace(cells, starts=cells.starts[first]), guess, reach)
        shown = _find(few, guess, span)
        if shown is None or shown.log10_chance > glance.log10_chance:
            return None
        rest = correlate_windows(picture, sound, replace(cells, starts=cells.starts[~first]), guess, reach)
        curves = few.with_others(rest)
    else:
        curves = correlate_windows(picture, sound, cells, guess, reach)
    found = _find(curves, guess, span)
    if found is None:
        return None
    middle = float(curves.at_s.mean())
    alarm = found.log10_chance + float(np.log10(max(1, tried)))
    line = found.level + found.slope * (curves.at_s - middle)
    column = np.clip(curves.columns(line), TOLERANCE, curves.heights.shape[1] - TOLERANCE - 1)
    near = curves.heights[np.arange(column.size)[:, None], column[:, None] + np.arange(-TOLERANCE, TOLERANCE + 1)]
    strongest = np.take_along_axis(near, np.argmax(np.abs(near), axis=1)[:, None], axis=1)[:, 0]
    sign = float((strongest * curves.along(line)).sum())
    repeat_s, ratio = repeats(curves, line, -1 if sign < 0 else 1)
    along = curves.along(line)
    told = np.abs(strongest[along > SPOKE])
    return Verified(
        found.level, found.slope, middle, found.total - found.spoke, float(found.spoke), min(alarm, 0.0), repeat_s,
        ratio, -1 if sign < 0 else 1, float(told.mean()) if told.size else 0.0, curves.at_s, along.astype(np.float64),
    )  # fmt: skip


def repeats(curves: Curves, line: NDArray[np.float64], polarity: int) -> tuple[float, float]:
    """Find the lag beside the line at which its own windows fit next best: (seconds, share of the strength).

    Parameters
    ----------
    curves : Curves
    line : ndarray of float64
        Offset at each window, seconds (windows,).
    polarity : int
        -1 when one of the two is turned over.

    Notes
    -----
    Only windows that spoke for the line are asked: those that lie elsewhere, after a jump, are no repetition. Heights
    are stacked, with their sign: a voice's pitch stands high in rank beside its line, and low in height.
    """
    centre = curves.columns(line)
    along = curves.along(line)
    rows = np.flatnonzero(along > SPOKE)
    if not rows.size or float(along[rows].sum()) <= rows.size:
        return 0.0, 0.0
    below, above = int(centre[rows].min()), int(curves.surprise.shape[1] - 1 - centre[rows].max())
    if below < 0 or above < 0 or below + above < 2 * _BESIDE:
        return 0.0, 0.0
    shifts = np.arange(-below, above + 1)
    stacked = np.zeros(shifts.size)
    for row in rows:
        # Each window's own peak is within the tolerance of the line: it and what lies beside it count alike.
        own = polarity * curves.heights[row, centre[row] - below : centre[row] + above + 1]
        stacked += ndimage.maximum_filter1d(own, 2 * TOLERANCE + 1)
    stacked /= rows.size
    top = float(stacked[np.abs(shifts) <= TOLERANCE].max())
    # What chance alone gives to the greatest of seven heights is no part of either.
    usual = float(np.median(stacked))
    stacked[np.abs(shifts) <= _BESIDE] = -np.inf
    other = int(np.argmax(stacked))
    ratio = (float(stacked[other]) - usual) / max(top - usual, 1e-9)
    return float(shifts[other] * curves.step / WORK_RATE), max(0.0, ratio)
