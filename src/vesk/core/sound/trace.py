"""The trace: offset along a pairing, window by window, and the robust line through it.

Windows are first searched widely with a whitened cross-spectrum; a line through
their peaks is found by random pairs; the windows are then laid onto that line,
the coherence of all of them weights the spectrum, and each is timed to a part
of a sample.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage, signal, special

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measurement import Line, TracePoint
from vesk.core.sound.resample import stretch

WINDOW_S = 1.5
MAX_WINDOWS = 240
WIDE_WINDOWS = 96  # enough to decide; the chosen place is then traced in full
PEAKS = 3
REACH_S = 0.06  # coarse search is good to about 10 ms; its drift to a few tens of ppm
MAX_PPM = 1500.0
CLOSE_S = 0.0005  # a peak this near the line lies on it
_FINE_REACH_S = 0.003
_BAND_HZ = (90.0, 7600.0)
_UPSAMPLE = 8
_BESIDE = 48  # samples: nearer than 3 ms is the line's own peak
_CAP = 8.0  # no single window may carry the decision
_BLOCK_SNR_FLOOR = 4.0


@dataclass(frozen=True, slots=True)
class Stretch:
    """The windows laid over a shared stretch: starts in picture samples at WORK_RATE, and their length."""

    starts: NDArray[np.int64]
    length: int
    head_s: float
    tail_s: float

    @property
    def centres_s(self) -> NDArray[np.float64]:
        """Picture time of each window's middle, seconds."""
        return np.asarray((self.starts + self.length / 2) / WORK_RATE)

    @property
    def independent(self) -> float:
        """Windows that would fit without overlapping: what counts as independent evidence."""
        span = (self.starts[-1] - self.starts[0]) / self.length + 1
        return float(min(self.starts.size, span))


@dataclass(frozen=True, slots=True)
class Place:
    """A candidate looked at window by window: its rough line and how strongly it speaks.

    Attributes
    ----------
    at_middle_s, slope, middle_s : float
        Offset ``at_middle_s + slope * (t - middle_s)``, seconds.
    strength : float
        Stacked correlation, in standard deviations.
    log10_false_alarm : float
        That chance alone gives as much somewhere among what was tried.
    repeat_s, repeat_ratio : float
        The lag beside the line at which all windows together fit next best, and how well against
        the line itself: near 1 for hum and other sound that repeats.
    """

    at_middle_s: float
    slope: float
    middle_s: float
    strength: float
    log10_false_alarm: float
    repeat_s: float
    repeat_ratio: float

    @property
    def guess(self) -> Candidate:
        """The place as a candidate, sharper than the one it came from."""
        rate = -self.slope
        offset = (self.at_middle_s + rate * self.middle_s) / (1 + rate)
        return Candidate(offset, rate * 1e6, self.strength)


def lay_windows(picture_size: int, sound_size: int, candidate: Candidate, *, most: int) -> Stretch | None:
    """Lay windows over what picture and sound share if `candidate` is right; None when too short."""
    duration = sound_size / WORK_RATE / (1 + candidate.ppm * 1e-6)
    head = max(0.0, candidate.offset_s)
    tail = min(picture_size / WORK_RATE, candidate.offset_s + duration)
    shared = tail - head
    if shared < 1.0:
        return None
    length_s = min(WINDOW_S, shared / 3)
    count = int(min(most, max(6, shared / (length_s * 0.5))))
    starts = np.linspace(head, tail - length_s, count) * WORK_RATE
    length = int(length_s * WORK_RATE)
    starts = np.clip(starts, 0, picture_size - length)
    return Stretch(starts.astype(np.int64), length, head, tail)


def _window(sound: NDArray[np.float32], start: int, length: int) -> NDArray[np.float32]:
    """Cut a window, zero outside the recording."""
    out = np.zeros(length, np.float32)
    low, high = max(0, start), min(sound.size, start + length)
    if high > low:
        out[low - start : high - start] = sound[low:high]
    return out


def _band(size: int) -> NDArray[np.bool_]:
    bins = fft.rfftfreq(size, 1 / WORK_RATE)
    return np.asarray((bins >= _BAND_HZ[0]) & (bins <= _BAND_HZ[1]))


def _whitened(a: NDArray[np.float32], b: NDArray[np.float32], size: int) -> NDArray[np.float64]:
    """Correlate with smoothed-coherence whitening; index *l* is the lag of `b` behind `a`."""
    x, y = fft.rfft(a, size), fft.rfft(b, size)
    cross = y * np.conj(x)
    smooth = np.sqrt(ndimage.uniform_filter1d(np.abs(x) ** 2, 9) * ndimage.uniform_filter1d(np.abs(y) ** 2, 9))
    cross /= smooth + 1e-3 * smooth.mean() + 1e-20
    return np.asarray(fft.irfft(np.where(_band(size), cross, 0), size))


def _wide_peaks(
    picture: NDArray[np.float32], sound: NDArray[np.float32], cells: Stretch, guess: Candidate
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], NDArray[np.int64]]:
    """Search each window widely around the coarse guess.

    Returns offsets (windows, PEAKS) in seconds, their heights in standard deviations, every
    window's whole searched correlation, and the lag (samples of offset) of its last entry.
    """
    span = cells.tail_s - cells.head_s
    reach = int((REACH_S + 60e-6 * span) * WORK_RATE)
    size = fft.next_fast_len(cells.length + 2 * reach, real=True)
    taper = np.hanning(cells.length).astype(np.float32)
    offsets = np.full((cells.starts.size, PEAKS), np.nan)
    heights = np.zeros((cells.starts.size, PEAKS))
    curves, lasts = [], []
    for i, start in enumerate(cells.starts):
        at = (start + cells.length / 2) / WORK_RATE
        expected = guess.offset_s - guess.ppm * 1e-6 * (at - guess.offset_s)
        lag0 = round(expected * WORK_RATE)
        # A sound window sits at picture time minus offset; a longer one leaves room for the search.
        a = _window(picture, int(start), cells.length) * taper
        b = _window(sound, int(start) - lag0 - reach, cells.length + 2 * reach)
        curve = _whitened(a, b, size)[: 2 * reach + 1]  # lag 0 of b = reach early
        spread = float(np.sqrt(np.mean(curve**2))) or 1.0
        curve = curve / spread
        curves.append(curve)
        lasts.append(lag0 - reach)
        top = signal.find_peaks(curve, distance=8)[0]
        top = top[np.argsort(curve[top])[::-1][:PEAKS]]
        # The sound window holding the same event `k` samples later than expected sits earlier on picture.
        offsets[i, : top.size] = (lag0 + reach - top) / WORK_RATE
        heights[i, : top.size] = curve[top]
    return offsets, heights, np.array(curves), np.array(lasts, dtype=np.int64)


def _random_line(
    at: NDArray[np.float64], offsets: NDArray[np.float64], heights: NDArray[np.float64]
) -> tuple[float, float]:
    """Find the line through most peaks; returns (offset at t = 0, slope), both for `at` centred."""
    rng = np.random.default_rng(20270318)
    weight = np.minimum(heights, _CAP)
    flat_at = np.repeat(at, PEAKS)
    flat_offset, flat_weight = offsets.ravel(), np.nan_to_num(weight.ravel())
    usable = np.flatnonzero(np.isfinite(flat_offset) & (flat_weight > 0))
    best, line = -1.0, (float(np.nanmedian(offsets)), 0.0)
    if usable.size == 0:
        return line
    chance = flat_weight[usable] ** 2
    chance /= chance.sum()
    for pair in rng.choice(usable, size=(600, 2), p=chance):
        i, j = int(pair[0]), int(pair[1])
        gap = flat_at[j] - flat_at[i]
        slope = (flat_offset[j] - flat_offset[i]) / gap if gap else 0.0
        if abs(slope) > MAX_PPM * 1e-6:
            slope = 0.0
        start = flat_offset[i] - slope * flat_at[i]
        near = np.abs(offsets - (start + slope * at[:, None])) < CLOSE_S
        score = float(np.sum(np.max(np.where(near, weight, 0.0), axis=1)))
        if score > best:
            best, line = score, (float(start), float(slope))
    return line


def _log10_tail(z: float) -> float:
    """Return log10 of the upper tail of the normal distribution."""
    return float(special.log_ndtr(-z) / np.log(10))


def _coherence_weight(xs: NDArray[np.complex128], ys: NDArray[np.complex128]) -> NDArray[np.float64]:
    """Weigh the cross-spectrum by the coherence of all windows (Hannan and Thomson, 1973)."""

    def smooth(values: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.asarray(ndimage.uniform_filter1d(values, 9))

    # The running sum of the filter may leave a rounding error below zero.
    pxx = np.maximum(smooth(np.mean(np.abs(xs) ** 2, axis=0)), 0.0)
    pyy = np.maximum(smooth(np.mean(np.abs(ys) ** 2, axis=0)), 0.0)
    cross = np.mean(ys * np.conj(xs), axis=0)
    pxy = smooth(cross.real) + 1j * smooth(cross.imag)
    coherence = np.clip(np.abs(pxy) ** 2 / (pxx * pyy + 1e-30), 0.0, 0.98)
    # Coherence estimated from few windows is biased upwards by about one over their number.
    coherence = np.maximum(coherence - 1.0 / (9 * xs.shape[0]), 0.0)
    return np.asarray(coherence / (1 - coherence) / (np.sqrt(pxx * pyy) + 1e-30))


def _fine_offsets(
    picture: NDArray[np.float32], sound: NDArray[np.float32], cells: Stretch, lag0: NDArray[np.int64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Time each window to a part of a sample near its expected lag.

    Returns offsets in seconds and heights in standard deviations.
    """
    taper = np.hanning(cells.length).astype(np.float32)
    size = fft.next_fast_len(int(cells.length * 1.25), real=True)
    pairs = [
        (
            fft.rfft(_window(picture, int(start), cells.length) * taper, size),
            fft.rfft(_window(sound, int(start - lag), cells.length) * taper, size),
        )
        for start, lag in zip(cells.starts, lag0, strict=True)
    ]
    xs = np.array([x for x, _ in pairs], dtype=np.complex128)
    ys = np.array([y for _, y in pairs], dtype=np.complex128)
    weight = np.where(_band(size), _coherence_weight(xs, ys), 0.0)
    bins = np.flatnonzero(weight > 0)
    if bins.size == 0:
        return np.full(cells.starts.size, np.nan), np.zeros(cells.starts.size)
    reach = int(_FINE_REACH_S * WORK_RATE)
    turn = 2j * np.pi * bins / size
    # Between two samples the correlation is evaluated directly, on a grid an eighth of a sample fine.
    grid = np.arange(-_UPSAMPLE, _UPSAMPLE + 1) / _UPSAMPLE
    kernel = np.exp(np.outer(grid, turn))
    offsets = np.full(cells.starts.size, np.nan)
    heights = np.zeros(cells.starts.size)
    for i in range(cells.starts.size):
        cross = ys[i] * np.conj(xs[i]) * weight
        curve = fft.irfft(cross, size)
        spread = float(np.sqrt(np.mean(curve**2)))
        near = np.concatenate([curve[-reach:], curve[: reach + 1]])
        whole = int(np.argmax(near)) - reach
        if spread == 0.0 or abs(whole) == reach:
            continue
        fine = (kernel @ (cross[bins] * np.exp(turn * whole))).real * 2 / size
        k = int(np.clip(np.argmax(fine), 1, grid.size - 2))
        left, peak, right = fine[k - 1], fine[k], fine[k + 1]
        bend = left - 2 * peak + right
        part = 0.5 * (left - right) / bend if bend < 0 else 0.0
        lag = whole + grid[k] + part / _UPSAMPLE  # the sound's event lies `lag` samples later in its window
        offsets[i] = (lag0[i] - lag) / WORK_RATE
        heights[i] = peak / spread
    return offsets, heights


def _robust_line(
    at: NDArray[np.float64], offsets: NDArray[np.float64], weight: NDArray[np.float64], independent: float
) -> tuple[Line, NDArray[np.bool_]]:
    """Fit a line by iterated reweighting (Tukey's bisquare), with standard errors.

    Overlapping windows repeat each other, so errors are widened by windows over independent windows.
    """
    usable = np.isfinite(offsets) & (weight > 0)
    # A short take cannot tell drift from a room's changes: a prior of ±300 ppm steadies the slope.
    w = np.where(usable, weight, 0.0)
    y = np.where(usable, offsets, 0.0)
    scale = 1e-4
    for _ in range(30):
        total = w.sum()
        centre = float((w * at).sum() / total)
        x = at - centre
        level = float((w * y).sum() / total)
        xx = float((w * x * x).sum())
        ridge = total * (scale / 300e-6) ** 2 / max(1, usable.sum())
        slope = float((w * x * (y - level)).sum() / (xx + ridge)) if xx > 0 else 0.0
        residual = y - level - slope * x
        kept = usable & (np.abs(residual) < 6 * scale)
        spread = float(np.median(np.abs(residual[kept]))) * 1.4826 if kept.any() else scale
        scale = max(spread, 2e-7)
        u = np.clip(residual / (4.685 * scale), -1, 1)
        w = np.where(usable, weight * (1 - u**2) ** 2, 0.0)
        if w.sum() <= 0:
            w = np.where(usable, weight, 0.0)
            break
    agrees = usable & (np.abs(residual) < max(6 * scale, 1e-4))
    total = float(w.sum())
    variance = float((w * residual**2).sum() / total)
    effective = total**2 / float((w**2).sum()) * min(1.0, independent / max(1, usable.sum()))
    degrees = max(1.0, effective - 2)
    widen = effective / degrees
    se_level = (variance * widen / effective) ** 0.5
    spread_x = float((w * x * x).sum() / total) ** 0.5 or 1.0
    se_slope = se_level / spread_x
    line = Line(
        middle_s=centre,
        at_middle_s=level,
        ppm=-slope * 1e6,
        se_middle_s=max(se_level, 1e-8),
        se_ppm=max(se_slope * 1e6, 1e-6),
    )
    return line, agrees


def _repeat(
    curves: NDArray[np.float64], lasts: NDArray[np.int64], predicted: NDArray[np.float64]
) -> tuple[float, float]:
    """Find the lag beside the line at which all windows together fit next best: (seconds, ratio)."""
    size = curves.shape[1]
    # Entry k of a window's correlation stands for the offset last + (size - 1 - k).
    centre = np.rint(lasts + size - 1 - predicted * WORK_RATE).astype(int)
    # The line may lie at the edge of what was searched: look as far as the data go on either side.
    inside = (centre >= 0) & (centre < size)
    if inside.sum() < curves.shape[0] / 2:
        return 0.0, 0.0
    curves, centre = curves[inside], centre[inside]
    below, above = int(centre.min()), int(size - 1 - centre.max())
    if below + above < 2 * _BESIDE:
        return 0.0, 0.0
    clipped = [np.clip(c[k - below : k + above + 1], 0, _CAP) for c, k in zip(curves, centre, strict=True)]
    stacked = np.mean(clipped, axis=0)
    floor = float(np.median(stacked))
    best = float(stacked[max(0, below - 8) : below + 9].max()) - floor
    stacked[max(0, below - _BESIDE) : below + _BESIDE + 1] = floor
    other = int(np.argmax(stacked))
    return (other - below) / WORK_RATE, (float(stacked[other]) - floor) / best if best > 0 else 0.0


def look_at(picture: NDArray[np.float32], sound: NDArray[np.float32], guess: Candidate, *, tried: int) -> Place | None:
    """Look at one coarse candidate window by window.

    Parameters
    ----------
    picture, sound : ndarray of float32, shape (n,) and (m,)
        One channel each at `WORK_RATE`, full scale ±1.
    guess : Candidate
        Where to look: offset good to about 50 ms at the middle, drift to about 60 ppm.
    tried : int
        Candidates looked at; the false-alarm figure pays for them.

    Returns
    -------
    Place or None
        None when the two share less than a second there, or are silent.

    References
    ----------
    .. [1] C. H. Knapp and G. C. Carter, "The generalized correlation method for estimation of
       time delay", IEEE Trans. Acoust., Speech, Signal Process. 24(4), 1976.
    .. [2] M. A. Fischler and R. C. Bolles, "Random sample consensus", Commun. ACM 24(6), 1981.
    """
    cells = lay_windows(picture.size, sound.size, guess, most=WIDE_WINDOWS)
    if cells is None:
        return None
    at = cells.centres_s
    offsets, heights, curves, lasts = _wide_peaks(picture, sound, cells, guess)
    if not np.isfinite(offsets).any():
        return None
    middle = float(at.mean())
    start, slope = _random_line(at - middle, offsets, heights)
    predicted = start + slope * (at - middle)
    near = np.abs(offsets - predicted[:, None]) < CLOSE_S
    value = np.max(np.where(near, np.clip(heights, 0, _CAP), 0.0), axis=1)
    # Stacked evidence: overlapping windows count once.
    count = cells.independent
    strength = float(value.mean() * np.sqrt(count))
    span = max(cells.tail_s - cells.head_s, 1.0)
    lines = (curves.shape[1] / 3.0) * max(1.0, 2 * MAX_PPM * 1e-6 * span / CLOSE_S) * max(1, tried)
    # Each window also chose the best of the lags near the line: two a window, to be safe.
    alarm = float(np.log10(lines) + count * np.log10(2.0) + _log10_tail(strength))
    repeat_s, ratio = _repeat(curves, lasts, predicted)
    return Place(start, slope, middle, strength, min(alarm, 0.0), repeat_s, ratio)


@dataclass(frozen=True, slots=True)
class Traced:
    """A place traced in full: the line, every window, the share of them that agree, the stretch."""

    line: Line
    trace: tuple[TracePoint, ...]
    share: float
    stretch: Stretch


def trace(picture: NDArray[np.float32], sound: NDArray[np.float32], place: Place) -> Traced | None:
    """Trace a place: lay the windows onto its line, resample the sound to it, time them finely.

    Parameters
    ----------
    picture, sound : ndarray of float32, shape (n,) and (m,)
        One channel each at `WORK_RATE`, full scale ±1.
    place : Place
        From `look_at`, true to `CLOSE_S`.

    Returns
    -------
    Traced or None
        None when fewer than three windows speak.

    References
    ----------
    .. [1] E. J. Hannan and P. J. Thomson, "Estimating group delay", Biometrika 60(2), 1973.
    """
    cells = lay_windows(picture.size, sound.size, place.guess, most=MAX_WINDOWS)
    if cells is None:
        return None
    start, slope, middle = place.at_middle_s, place.slope, place.middle_s
    at = cells.centres_s
    rate = 1.0 / (1.0 - slope)  # picture seconds a sound second
    if abs(slope) > 1e-6:
        laid = stretch(sound[:, None], rate)[:, 0]
    else:
        laid, rate = sound, 1.0
    # On the stretched sound: offset' = t - n_laid/fs, constant along the take.
    constant = middle - (middle - start) * rate
    lag0 = np.full(cells.starts.size, round(constant * WORK_RATE), dtype=np.int64)
    fine, heights = _fine_offsets(picture, laid, cells, lag0)
    weight = np.clip((heights - _BLOCK_SNR_FLOOR) / 20.0, 0.0, 1.0) ** 2
    if (weight > 0).sum() < 3:
        return None
    # Back to the sound's own time: n/fs = (t - offset') / rate.
    own = at - (at - fine) / rate
    fitted, agrees = _robust_line(at, own, weight, cells.independent)
    points = tuple(
        TracePoint(float(t), float(o), float(w), bool(a))
        for t, o, w, a in zip(at, own, weight, agrees, strict=True)
        if np.isfinite(o) and w > 0
    )
    return Traced(fitted, points, float(agrees.sum() / at.size), cells)
