"""Rules of signing in: what a password is, how long who guesses has to wait, how long somebody stays signed in."""

from __future__ import annotations

from datetime import timedelta

SHORTEST, LONGEST = 10, 200  # letters of a password
IDLE = timedelta(hours=12)  # without a page asked for, one has to sign in again
LASTS = timedelta(days=7)  # and in any case after this
FORGOTTEN = timedelta(hours=1)  # failures that long ago count no more
FREE = 5  # failures that cost nothing
LONGEST_WAIT_S = 900.0  # of an address
OF_NAME_S = 30.0  # of a name: whoever guesses it must not keep its owner out for long


def wait_s(failed: int, since_s: float, most_s: float = LONGEST_WAIT_S) -> float:
    """Return how long signing in is refused yet.

    Parameters
    ----------
    failed : int
        Failures of late, of one name or from one address.
    since_s : float
        Seconds since the last of them.
    most_s : float
        The longest wait.

    Examples
    --------
    >>> wait_s(5, 0.0), wait_s(6, 0.5), wait_s(9, 10.0), wait_s(40, 0.0)
    (0.0, 1.5, 6.0, 900.0)
    """
    if failed <= FREE or since_s > FORGOTTEN.total_seconds():
        return 0.0
    return max(0.0, min(most_s, 2.0 ** min(failed - FREE, 16)) - since_s)
