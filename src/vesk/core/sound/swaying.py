"""A microphone that is carried stands nowhere: its turning points are no places, however often it passes them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.fitting import CLEAR, Fitted
from vesk.core.sound.measurement import Line, TracePoint

_SWAYS_S, _MANY, _ALONG = 4e-5, 12, 0.1  # who stands is timed to some microseconds, each window by itself
_SIDE_BY_SIDE, _GATHERED = 3, 0.6  # places, and the share of the windows that lie at them
_STANDS_S, _CLEAR_WEIGHT = 1.5e-5, 0.3


def sways(line: Line, points: Sequence[TracePoint]) -> bool:
    """Say whether what windows tell wanders about a line's places: a microphone that is carried stands nowhere.

    Parameters
    ----------
    line : Line
    points : sequence of TracePoint
        What windows that speak tell, in order of time.
    """
    above = np.array([later for later, _ in line.places] or [0.0])
    off = np.array([one.offset_s - line.offset_at(one.at_s) for one in points if one.weight > _CLEAR_WEIGHT])
    if not off.size:
        return False
    away = off[:, None] - above
    return _scatters(away[np.arange(off.size), np.argmin(np.abs(away), axis=1)])


def passed_by(fitted: Fitted, *, swaying: bool) -> bool:
    """Say whether windows that were taken for somebody's who stands are those of somebody who passes by.

    Parameters
    ----------
    fitted : Fitted
        To where people seem to stand.
    swaying : bool
        Whether all windows wander about a line through them: then little is needed.
    """
    clear = (fitted.places.of >= 0) & np.isfinite(fitted.away) & (fitted.heights > CLEAR)
    away = fitted.away[clear]
    return _scatters(away) or (swaying and away.size > 0 and float(np.median(np.abs(away))) > _STANDS_S)


def _scatters(away: NDArray[np.float64]) -> bool:
    """Say whether timings lie off their places, seconds, by more than noise, and neighbours to the same side."""
    if away.size < _MANY or float(np.median(np.abs(away))) < _SWAYS_S or _gathers(away):
        return False
    return float((away[1:] * away[:-1]).mean()) > _ALONG * float((away**2).mean())


def _gathers(away: NDArray[np.float64]) -> bool:
    """Say whether timings lie at a few levels all the same: people who sit side by side and speak in turn."""
    left = np.sort(away)
    for _ in range(_SIDE_BY_SIDE):
        reach = np.searchsorted(left, left + _SWAYS_S, side="right") - np.arange(left.size)
        first = int(np.argmax(reach))
        left = np.delete(left, slice(first, first + int(reach[first])))
        if left.size < (1 - _GATHERED) * away.size:
            return True
    return False
