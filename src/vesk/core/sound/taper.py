"""The window with which sound fades in and out before it is transformed."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray


@lru_cache(maxsize=64)
def hann(length: int) -> NDArray[np.float32]:
    """Return Hann's window, float32 (length,), 0 at either end; kept, so not to be written to.

    Parameters
    ----------
    length : int
        Samples.
    """
    window = np.hanning(length).astype(np.float32)
    window.flags.writeable = False
    return window
