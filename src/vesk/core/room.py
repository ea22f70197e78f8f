"""How long the room on a disk lasts at the present pace."""

from __future__ import annotations

from collections.abc import Sequence

_LEAST_S = 600.0  # two looks closer together tell nothing


def lasts_s(samples: Sequence[tuple[float, int]]) -> float | None:
    """Return in how many seconds the disk is full if it goes on as it did; None where it does not fill up.

    Parameters
    ----------
    samples : sequence of (float, int)
        When it was looked at, seconds, and bytes that were free; in order.

    Examples
    --------
    >>> lasts_s([(0.0, 1000), (3600.0, 900)])
    32400.0
    >>> lasts_s([(0.0, 1000), (3600.0, 1000)]), lasts_s([(0.0, 1000), (60.0, 10)]), lasts_s([])
    (None, None, None)
    """
    if len(samples) < 2 or samples[-1][0] - samples[0][0] < _LEAST_S:
        return None
    (begun, at_first), (now, left) = samples[0], samples[-1]
    used = (at_first - left) / (now - begun)
    return left / used if used > 0 else None
