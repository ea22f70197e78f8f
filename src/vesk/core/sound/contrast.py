"""Which of two places is right, told by what they do not share: takes of one playback, each with a slate of its own.

A song that is played in every take fits every take. What is said before and after it fits one: in the windows where
only one of two places speaks, it speaks by chance if the other is right, and what chance gives is known.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.verify import SPOKE, correlate_around, log10_tail
from vesk.core.sound.windows import Stretch

_WINDOW_S = 1.0  # of 0.5, 0.75, 1 and 1.5 s this told most takes of one playback apart
_MOST_WINDOWS = 600  # five minutes without a gap; of what is longer, every second one, or third
_REACH = 2400  # samples: how rare a height is, is told among so many to either side
_SILENT = 2.0  # nats: a window less surprised than this did not speak
CLEAR_LOG10 = -1.5  # log10: where the right one was left out, none of eleven others won, twelve times
_OF_ITS_OWN = -3.0  # log10: what speaks so clearly where the other is silent is not excluded, whatever speaks elsewhere
_MOSTLY = 0.5


@dataclass(frozen=True, slots=True)
class Laid:
    """Another recording, laid where it may belong on one's own time, and how each window of that speaks for it.

    Attributes
    ----------
    hearing : Hearing
        The other's.
    place : Candidate
        Own time of its first sample, seconds, and how much faster its time runs, ppm.
    speaks : ndarray of float64, shape (windows,)
        Nats, of unit exponential distribution by chance; not a number where the two do not share the window.
    """

    hearing: Hearing
    place: Candidate
    speaks: NDArray[np.float64]


def lay(own: Hearing, other: Hearing, place: Candidate) -> Laid:
    """Lay another recording on one's own, and ask each window.

    Parameters
    ----------
    own, other : Hearing
        The one that is searched for, and one that it may belong to; whichever of the two is the picture's.
    place : Candidate
        Where `other` lies on `own`: see `Laid`.
    """
    starts = _grid(own)
    begins, ends = _span(own, other, place)
    at = starts / WORK_RATE
    inside = (at >= begins) & (at + _WINDOW_S <= ends)
    speaks = np.full(starts.size, np.nan)
    if inside.any():
        speaks[inside] = _speak(own, other, place, starts[inside])
    return Laid(other, place, speaks)


def mirrored(place: Candidate) -> Candidate:
    """Return a place as seen from the other recording.

    Parameters
    ----------
    place : Candidate

    Examples
    --------
    >>> there = mirrored(Candidate(2.0, 0.0, 1.0))
    >>> there.offset_s, mirrored(there).offset_s
    (-2.0, 2.0)
    """
    rate = 1 + place.ppm * 1e-6
    return Candidate(-place.offset_s * rate, (1 / rate - 1) * 1e6, place.score)


def excludes(own: Hearing, one: Laid, other: Laid, clear: float = CLEAR_LOG10) -> bool:
    """Say whether what one place has beyond another shows that the other is wrong.

    Parameters
    ----------
    own : Hearing
        What both are laid on.
    one, other : Laid
        Two recordings of one device, of which one at most was made at that moment; or one recording at two places.
    clear : float
        log10 of how much likelier it must be than the reverse.

    Returns
    -------
    bool
        False also where the two heard the same there: then they are two devices', and both may be right.

    Notes
    -----
    Fisher's method on the windows in which the other did not speak, against the same for the one: that it holds for
    one and not for the other, so much more likely than the reverse. Where each has much that the other lacks
    (samples were lost in the middle of a song: what follows fits another take's) neither is wrong for sure.
    """
    more, asked = _beyond(one, other)
    less, _ = _beyond(other, one)
    if more - less > clear or less < _OF_ITS_OWN or not asked.any():
        return False
    rate = 1 + one.place.ppm * 1e-6
    between = Candidate(
        (other.place.offset_s - one.place.offset_s) * rate, ((1 + other.place.ppm * 1e-6) / rate - 1) * 1e6, 0.0
    )
    starts = np.rint((_grid(own)[asked] - one.place.offset_s * WORK_RATE) * rate).astype(np.int64)
    begins, ends = _span(one.hearing, other.hearing, between)
    starts = starts[(starts >= begins * WORK_RATE) & (starts <= (ends - _WINDOW_S) * WORK_RATE)]
    alike = _speak(one.hearing, other.hearing, between, starts) > SPOKE if starts.size else np.zeros(1)
    return float(np.mean(alike)) < _MOSTLY


def _beyond(one: Laid, other: Laid) -> tuple[float, NDArray[np.bool_]]:
    """Return log10 of the chance that one speaks as it does where the other is silent, and in which windows it does."""
    both = np.isfinite(one.speaks) & np.isfinite(other.speaks)
    quiet = both & (np.nan_to_num(other.speaks) < _SILENT)
    total, count = float(one.speaks[quiet].sum()), int(quiet.sum())
    return (log10_tail(total, count) if count else 0.0), quiet & (np.nan_to_num(one.speaks) > SPOKE)


def _grid(own: Hearing) -> NDArray[np.int64]:
    """Return the first samples of windows all over a recording, each half over the next where there is room."""
    count = max(1, int((own.seconds / _WINDOW_S - 1) * 2) + 1)
    return np.arange(0, count, -(-count // _MOST_WINDOWS), dtype=np.int64) * int(_WINDOW_S * WORK_RATE / 2)


def _span(own: Hearing, other: Hearing, place: Candidate) -> tuple[float, float]:
    lasts = other.seconds / (1 + place.ppm * 1e-6)
    return max(0.0, place.offset_s), min(own.seconds, place.offset_s + lasts)


def _speak(own: Hearing, other: Hearing, place: Candidate, starts: NDArray[np.int64]) -> NDArray[np.float64]:
    length = int(_WINDOW_S * WORK_RATE)
    cells = Stretch(starts, length, float(starts[0] / WORK_RATE), float((starts[-1] + length) / WORK_RATE))
    expected = place.offset_s - place.ppm * 1e-6 * (cells.centres_s - place.offset_s)
    return correlate_around(own, other, cells, expected, place.ppm, _REACH).along(expected).astype(np.float64)
