"""How long work tells how far it is, and learns whether to go on."""

from __future__ import annotations

from collections.abc import Callable

OnProgress = Callable[[int, int], bool]
"""Called with (pieces done, pieces in all); returns whether to go on."""


WHOLE = 100
"""What work that counts no pieces calls all of it: its progress is told in hundredths."""


def part_of(on_progress: OnProgress, low: int, high: int) -> OnProgress:
    """Return what a part of some work tells its pieces to: together they are `low` to `high` hundredths of it all."""
    return lambda done, total: on_progress(low + round((high - low) * min(1.0, done / max(1, total))), WHOLE)


def unwatched(_done: int, _total: int) -> bool:
    """Go on, whatever is done: nobody watches."""
    return True
