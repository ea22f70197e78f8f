"""What claps seen in a picture, and heard by a recorder, say of where the sound is laid."""

from __future__ import annotations

from collections.abc import Sequence

from vesk.core.clocks.sound_delay import ClapPair, SoundDelay, sound_delay

_NEAR_S = 0.2  # a camera's internal delay is some frames at most
_FAR_S = 2.0  # without sound to say which clap is meant, only one that is alone this near counts


def error_by_claps(
    seen: Sequence[tuple[float, float]], laid: Sequence[float], *, error_s: float | None
) -> SoundDelay | None:
    """Bound the error of a pairing as it is laid, by claps.

    Parameters
    ----------
    seen : sequence of (float, float)
        Picture times between which contact was seen, one pair for each clap.
    laid : sequence of float
        Picture times at which the recorder's claps lie now, its microphone's distance taken out.
    error_s : float or None
        The error that sound found, seconds: says which heard clap is which seen one.

    Returns
    -------
    SoundDelay or None
        The interval that the error lies in (positive: the sound is late); None where no clap is both seen and heard.

    Examples
    --------
    >>> found = error_by_claps([(1.96, 2.00)], [2.03, 7.5], error_s=None)
    >>> round(found.low_s, 2), round(found.high_s, 2)
    (0.03, 0.07)
    """
    pairs = []
    for low, high in seen:
        middle = (low + high) / 2
        expected = middle + (error_s or 0.0)
        reach = _FAR_S if error_s is None else _NEAR_S
        near = sorted((abs(at - expected), at) for at in laid if abs(at - expected) < reach)
        if near and (error_s is not None or len(near) == 1):
            pairs.append(ClapPair(near[0][1], low, high))
    return sound_delay(pairs)
