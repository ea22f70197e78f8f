"""Time what the windows hear to a part of a sample: all of them together, along a line with steps."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage, special

from vesk.core.sound.blocks import Blocks
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.taper import hann
from vesk.core.sound.windows import BAND_HZ, Stretch, cut, cut_at_rate, whitened

REACH = 32  # samples: a window's own peak is looked for this near the line, 2 ms
_REACH_S = REACH / WORK_RATE
_STEPS = 3
_FINE_BINS = 128
_FURTHEST_S = 2e-4
_GAIN_HZ = 200.0
_NOISE_HZ = 400.0
_TURN = 4  # windows in a row that are told by the others together: only those at their edges overlap
_ROOM = 0.5  # variance of a room's echoes over the direct sound, as rooms go
_WIDER, _WIDER_RATE = 1.1, 1.18  # what a sandwich leaves out, so that 95 % bands hold 95 %; from the benchmark
STANDING_S = 0.2e-6  # what a room that stands still shifts all windows by; calibrated on simulated rooms
_PRIOR_PPM = 300.0


@dataclass(frozen=True, slots=True)
class Path:
    """A rough or fitted offset along the take.

    Attributes
    ----------
    middle_s, level_s, slope : float
        Offset ``level_s + slope * (t - middle_s)`` before the first jump, seconds.
    jumps : tuple of (float, float)
        Picture time and step of the offset, seconds.
    polarity : int
        -1 where the sound is turned over against the picture's.
    """

    middle_s: float
    level_s: float
    slope: float
    jumps: tuple[tuple[float, float], ...] = ()
    polarity: int = 1

    def offset_at(self, at_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the offset at picture times, seconds.

        Parameters
        ----------
        at_s : ndarray of float64
            Picture times, seconds, any shape.
        """
        out = self.level_s + self.slope * (at_s - self.middle_s)
        for when, step in self.jumps:
            out = out + np.where(at_s > when, step, 0.0)
        return np.asarray(out)


def laid_on(
    sound: Hearing, starts: NDArray[np.int64], length: int, offsets_s: NDArray[np.float64], slope: float
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """Cut the sound that belongs to picture windows, at the picture's rate.

    Parameters
    ----------
    sound : Hearing
    starts, length : ndarray of int64, int
        The windows, picture samples at `WORK_RATE`.
    offsets_s : ndarray of float64
        Offset expected at each window's middle.
    slope : float
        Of the offset, seconds per second.

    Returns
    -------
    windows : ndarray of float32, shape (windows, length)
    late : ndarray of float64, shape (windows,)
        Samples by which each cut lags the picture if the expectation is right.
    """
    own = starts - (offsets_s - slope * length / 2 / WORK_RATE) * WORK_RATE
    return cut_at_rate(sound, own, length, 1.0 / (1.0 - slope))


@dataclass(frozen=True, slots=True)
class Crossed:
    """The spectra of all windows, aligned to a path; only bins in the band.

    Attributes
    ----------
    cells : Stretch
    path : Path
        What they are aligned to.
    x, y : ndarray of complex64, shape (windows, bins)
        Picture and sound; an offset of d seconds beyond the path turns ``y * conj(x)`` by ``exp(+2j pi f d)``.
    hertz : ndarray of float64, shape (bins,)
    heard : ndarray of bool, shape (windows,)
        Whether both sound there.
    above_s : ndarray of float64, shape (windows,)
        By how much the place that each window hears lies above the path: they are aligned to that.
    """

    cells: Stretch
    path: Path
    x: NDArray[np.complex64]
    y: NDArray[np.complex64]
    hertz: NDArray[np.float64]
    heard: NDArray[np.bool_]
    above_s: NDArray[np.float64]

    @property
    def step_hz(self) -> float:
        """Hertz from bin to bin."""
        return float(self.hertz[1] - self.hertz[0])

    def moved(self, path: Path, above_s: NDArray[np.float64] | None = None) -> Crossed:
        """Return them aligned to another path close by, or each to another place above it.

        Parameters
        ----------
        path : Path
            Another path, within `REACH` of theirs.
        above_s : ndarray of float64 or None
            By how much each window lies above it, seconds (windows,).
        """
        above = self.above_s if above_s is None else above_s
        away = path.offset_at(self.cells.centres_s) - self.path.offset_at(self.cells.centres_s) + above - self.above_s
        turn = turned_by(-away, self.hertz)
        return replace(self, path=path, y=self.y * turn, above_s=above)

    def blocks(self, spectra: NDArray[np.complex64]) -> Blocks:
        """Return cross-spectra of some of them, summed in blocks of bins.

        Parameters
        ----------
        spectra : ndarray of complex64, shape (some windows, bins)
        """
        return Blocks.of(spectra, float(self.hertz[0]), self.step_hz)

    def whitened(self) -> NDArray[np.complex64]:
        """Return the cross-spectra, every window divided by its own smoothed magnitudes."""
        return whitened(self.x, self.y, self.step_hz)


def cross(
    picture: Hearing, sound: Hearing, cells: Stretch, path: Path, above_s: NDArray[np.float64] | None = None
) -> Crossed:
    """Compute the windows' spectra along a path; where it is turned over, the sound is turned back.

    Parameters
    ----------
    picture : Hearing
        The camera's scratch.
    sound : Hearing
        The recorder's.
    cells : Stretch
        The windows.
    path : Path
        Rough offset along them, good to `REACH`.
    above_s : ndarray of float64 or None
        By how much each window lies above it, seconds (windows,).
    """
    above = np.zeros(cells.starts.size) if above_s is None else above_s
    length = cells.length
    taper = hann(length)
    # Tapered, and aligned to a fraction of a millisecond: what would wrap round is nothing.
    size = fft.next_fast_len(length, real=True)
    offsets = path.offset_at(cells.centres_s) + above
    x = fft.rfft(cut(picture, cells.starts, length), size, axis=1)
    laid, late_samples = laid_on(sound, cells.starts, length, offsets, path.slope)
    y = fft.rfft(laid * taper, size, axis=1)
    heard = (np.abs(x).max(axis=1) > 0) & (np.abs(y).max(axis=1) > 0)
    hertz = fft.rfftfreq(size, 1 / WORK_RATE)
    band = slice(*np.searchsorted(hertz, (BAND_HZ[0], BAND_HZ[1] + 1e-9)))  # a mask would lay bins out window by window
    late = late_samples / WORK_RATE
    # The cut lags by `late`: turned back, only what the path does not explain remains.
    turn = path.polarity * turned_by(late, hertz[band])
    return Crossed(cells, path, np.ascontiguousarray(x[:, band]), y[:, band] * turn, hertz[band], heard, above)


def turned_by(seconds: NDArray[np.float64], hertz: NDArray[np.float64]) -> NDArray[np.complex64]:
    """Return the turns ``exp(2j pi f d)`` of several delays, (delays, bins).

    Parameters
    ----------
    seconds : ndarray of float64, shape (delays,)
    hertz : ndarray of float64, shape (bins,)
        Evenly apart: a turn is then the product of a coarse and a fine one, and few need a sine.
    """
    step = hertz[1] - hertz[0] if hertz.size > 1 else 0.0
    coarse = hertz[::_FINE_BINS]
    fine = step * np.arange(_FINE_BINS)
    first = np.exp(2j * np.pi * np.outer(seconds, coarse)).astype(np.complex64)
    second = np.exp(2j * np.pi * np.outer(seconds, fine)).astype(np.complex64)
    whole = (first[:, :, None] * second[:, None, :]).reshape(seconds.size, -1)
    return np.asarray(whole[:, : hertz.size], np.complex64)


def shift_of(crossed: Crossed, spectra: NDArray[np.complex64], chosen: NDArray[np.bool_]) -> float:
    """Return by how much the chosen windows, taken together, lie off the path, seconds: within `REACH`.

    Parameters
    ----------
    crossed : Crossed
        The windows.
    spectra : ndarray of complex64
        Their weighed cross-spectra (windows, bins).
    chosen : ndarray of bool
        Which windows count (windows,).
    """
    curve = crossed.blocks(spectra[chosen].sum(axis=0, keepdims=True)).correlations(_REACH_S, 8 * REACH + 1)[0]
    return (int(np.argmax(curve)) - 4 * REACH) / 4 / WORK_RATE


def peaks(crossed: Crossed, spectra: NDArray[np.complex64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Time each window by its own peak within `REACH` of the path.

    Parameters
    ----------
    crossed : Crossed
    spectra : ndarray of complex64, shape (windows, bins)
        Its cross-spectra, whitened or weighted.

    Returns
    -------
    away_s, heights : ndarray of float64, shape (windows,)
        Offset beyond the path's, seconds (NaN at the edge of the reach), and the peak over the
        root mean square of the whole correlation.
    """
    # Only lags near the path are wanted, on a grid of half a sample.
    near = crossed.blocks(spectra).correlations(_REACH_S, 4 * REACH + 1)
    # The root mean square of the whole correlation, by Parseval's theorem.
    parts = spectra.view(np.float32)
    spread = np.sqrt(0.5 * np.einsum("ij,ij->i", parts, parts))
    k = np.argmax(near, axis=1)
    inner = np.clip(k, 1, near.shape[1] - 2)
    rows = np.arange(k.size)
    left, top, right = near[rows, inner - 1], near[rows, inner], near[rows, inner + 1]
    bend = left - 2 * top + right
    part = np.where(bend < 0, 0.5 * (left - right) / np.where(bend < 0, bend, -1.0), 0.0)
    lag = (inner - 2 * REACH + np.clip(part, -1, 1)) / 2
    edge = (k == 0) | (k == near.shape[1] - 1) | (spread <= 0) | ~crossed.heard
    heights = np.where(spread > 0, near[rows, k] / np.where(spread > 0, spread, 1.0), 0.0)
    return np.where(edge, np.nan, lag / WORK_RATE), np.where(edge, 0.0, heights)


def weighted(crossed: Crossed, chosen: NDArray[np.bool_]) -> NDArray[np.complex64]:
    """Weigh every window's cross-spectrum, bin by bin, by how well it can be known.

    The scratch is taken as the sound through a gain g(f), plus what does not belong to it: noise,
    other voices, echoes. The gain comes from the `chosen` windows together; what is left of a
    window once the sound is taken away, smoothed over `_NOISE_HZ`, is its own noise there, and
    the cross-spectrum times g over that noise the score of a Gaussian likelihood [1]_. Where all
    windows together know a bin well (much information I), it is its room that limits it: divided
    by 1 + I/2, such bins count alike. Flat in frequency, echoes then stay at their own lags
    instead of leaning on the direct sound's peak. A window's gain is told by others: its own noise
    would weigh what it happens to agree on, and hiss look sure of itself.

    Parameters
    ----------
    crossed : Crossed
        The windows.
    chosen : ndarray of bool
        Those that tell how noisy each bin is (windows,).

    Returns
    -------
    ndarray of complex64, shape (windows, bins)

    References
    ----------
    .. [1] E. J. Hannan and P. J. Thomson, "Estimating group delay", Biometrika 60(2), 1973.
    """
    cross_spectra = np.conj(crossed.x)
    cross_spectra *= crossed.y
    power = _power(crossed.y)
    wide = max(3, round(_GAIN_HZ / crossed.step_hz))
    side = np.arange(chosen.size) // _TURN % 2
    gains = np.stack([_gain(cross_spectra, power, _told(chosen, side != told), wide) for told in (0, 1)])
    smooth = max(3, round(_NOISE_HZ / crossed.step_hz))
    noise, loud = np.empty_like(power), 0.0
    for row, (own, other) in enumerate(zip(crossed.x, crossed.y, strict=True)):  # a window stays in a core's cache
        left = own - gains[side[row]] * other
        ndimage.uniform_filter1d(_power(left), smooth, output=noise[row])
        loud += float(np.vdot(own, own).real) * bool(crossed.heard[row])
    loud /= max(1, int(crossed.heard.sum())) * crossed.hertz.size
    np.maximum(noise, 0.0, out=noise)
    noise += 1e-3 * float(noise[crossed.heard].mean()) + 1e-7 * loud + 1e-20
    information = gains**2 * (power[chosen] / noise[chosen]).sum(axis=0)
    # The band ends softly, for the same reason.
    edge = np.clip((crossed.hertz - BAND_HZ[0]) / 400, 0, 1) * np.clip((BAND_HZ[1] - crossed.hertz) / 800, 0, 1)
    shapes = (gains / (1 + _ROOM * information) * np.sin(np.pi / 2 * edge) ** 2).astype(np.float32)
    for row, own in enumerate(noise):
        cross_spectra[row] *= np.divide(shapes[side[row]], own, out=own)
    cross_spectra[~crossed.heard] = 0
    return cross_spectra


def _told(chosen: NDArray[np.bool_], others: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Return which windows tell the gain: those of the others that are chosen, where these are enough."""
    return chosen & others if (chosen & others).sum() >= _TURN else chosen


def _gain(
    cross_spectra: NDArray[np.complex64], power: NDArray[np.float32], of: NDArray[np.bool_], wide: int
) -> NDArray[np.float32]:
    """Return g(f): what the sound explains of the scratch in these windows, smoothed over so many bins."""
    agreed = ndimage.uniform_filter1d(cross_spectra[of].real.sum(axis=0, dtype=np.float64), wide)
    own = power[of].sum(axis=0, dtype=np.float64)
    # Where the sound has nothing (above its band, once it is slowed), the filter's running sum leaves only rounding.
    gain = agreed / np.maximum(ndimage.uniform_filter1d(own, wide), 1e-7 * float(own.mean()) + 1e-30)
    return np.asarray(np.maximum(gain, 0.0), np.float32)


def _power(spectra: NDArray[np.complex64]) -> NDArray[np.float32]:
    power = spectra.real**2
    power += spectra.imag**2
    return np.asarray(power)


@dataclass(frozen=True, slots=True)
class Fit:
    """A fitted path with its errors.

    Attributes
    ----------
    path : Path
    covariance : ndarray of float64, shape (2 + jumps, 2 + jumps)
        Of level (s), slope (s per s) and steps (s).
    above_s : tuple of float
        By how much each place lies above the first, whose level the path's is.
    """

    path: Path
    covariance: NDArray[np.float64]
    above_s: tuple[float, ...] = (0.0,)


def fit_together(
    crossed: Crossed,
    spectra: NDArray[np.complex64],
    trust: NDArray[np.float64],
    of: NDArray[np.int64],
    above_s: tuple[float, ...],
) -> Fit:
    """Fit level, slope and steps to all windows at once: the greatest sum of their weighted correlations.

    Parameters
    ----------
    crossed : Crossed
        Aligned to within a fraction of a period.
    spectra : ndarray of complex64, shape (windows, bins)
        Its weighted cross-spectra.
    trust : ndarray, shape (windows,)
        Of each window; 0 leaves it out.
    of : ndarray of int64, shape (windows,)
        Which place each hears.
    above_s : tuple of float
        By how much each place lies above the first: each has a level of its own, slope and steps are common.

    Returns
    -------
    Fit
        Its covariance is a sandwich over windows [1]_ whose neighbours overlap [2]_, with a floor
        for what a standing room shifts in all of them alike.

    References
    ----------
    .. [1] H. White, "Maximum likelihood estimation of misspecified models", Econometrica 50(1), 1982.
    .. [2] W. K. Newey and K. D. West, "A simple, positive semi-definite, heteroskedasticity and
       autocorrelation consistent covariance matrix", Econometrica 55(3), 1987.
    """
    used = np.flatnonzero(trust > 0)
    at = crossed.cells.centres_s[used]
    path = crossed.path
    blocks, trusted = crossed.blocks(spectra[used]), trust[used]
    # Turned about the windows' own centre of weight: level and slope come out uncorrelated.
    know = np.maximum(blocks.slopes(np.zeros(used.size))[1], 0.0) * trusted + 1e-30
    centre = float((at * know).sum() / know.sum())
    path = replace(path, middle_s=centre, level_s=path.level_s + path.slope * (centre - path.middle_s))
    places = [of[used] == number for number in range(1, len(above_s))]
    design = np.stack([np.ones(at.size), at - centre, *(at > when for when, _ in path.jumps), *places], axis=1)
    step = np.zeros(design.shape[1])
    prior = np.zeros((step.size, step.size))
    score, hessian, bent = np.zeros((used.size, step.size)), np.eye(step.size), np.zeros(used.size)
    for _ in range(_STEPS):
        slope, bent = blocks.slopes(design @ step)
        bend = np.maximum(bent, 0.0) * trusted + 1e-30
        hessian = (design * bend[:, None]).T @ design
        hessian += 1e-9 * np.diag(np.diag(hessian)) + 1e-30 * np.eye(step.size)
        score = design * (slope * trusted)[:, None]
        # A short take cannot tell drift from a room's changes: a prior of ±300 ppm steadies the slope.
        noise = float(_meat(score[:, :1], crossed, used)[0, 0]) / max(float(hessian[0, 0]), 1e-30)
        prior[1, 1] = noise / (_PRIOR_PPM * 1e-6) ** 2
        change = np.linalg.solve(hessian + prior, score.sum(axis=0) - prior @ step)
        # Beyond half a period the likelihood is no parabola: no further at once.
        furthest = float(np.abs(design @ change).max())
        step = step + change * min(1.0, _FURTHEST_S / max(furthest, 1e-12))
    kept = 2 + len(path.jumps)
    path = replace(
        path,
        level_s=path.level_s + float(step[0]),
        slope=path.slope + float(step[1]),
        jumps=tuple((when, old + float(new)) for (when, old), new in zip(path.jumps, step[2:kept], strict=True)),
    )
    above = (0.0, *(old + float(new) for old, new in zip(above_s[1:], step[kept:], strict=True)))
    inverse = np.linalg.inv(_curvature(design, bent * trusted, hessian) + prior)
    degrees = max(1.0, used.size - step.size)
    # Few windows: Student's quantile over the normal one, so that 1.96 errors hold 95 % all the same.
    widen = (float(special.stdtrit(degrees, 0.975)) / 1.96) ** 2 * used.size / degrees
    covariance = inverse @ _meat(score, crossed, used) @ inverse * widen
    wider = np.array([_WIDER, _WIDER_RATE, *[_WIDER] * (step.size - 2)])
    covariance *= np.outer(wider, wider)
    covariance[0, 0] += STANDING_S**2
    return Fit(path, covariance[:kept, :kept], above)


def _curvature(
    design: NDArray[np.float64], bent: NDArray[np.float64], clipped: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return how bent the sum of all windows is: a window of noise bends either way, and says nothing only so."""
    whole = (design * bent[:, None]).T @ design
    return whole if np.linalg.eigvalsh(whole - 0.1 * clipped)[0] > 0 else clipped


def _meat(score: NDArray[np.float64], crossed: Crossed, used: NDArray[np.int64]) -> NDArray[np.float64]:
    """Return the variance of the scores' sum: neighbours that overlap are not independent."""
    centred = score - score.mean(axis=0)
    total = centred.T @ centred
    starts = crossed.cells.starts[used]
    beside = np.diff(starts) < crossed.cells.length
    if beside.any():
        lagged = centred[:-1][beside].T @ centred[1:][beside]
        total = total + 0.5 * (lagged + lagged.T)
    return np.asarray(total)
