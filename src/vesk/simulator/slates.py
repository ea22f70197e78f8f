"""Small grey pictures of a slate that is clapped: popped into view, among hands, in the dark, at the edge, blurred."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

KINDS = ("popped in", "moved in", "hands", "dark", "edge", "blurred")


def slate(kind: str, seed: int, *, count: int = 40) -> tuple[NDArray[np.uint8], int]:
    """Return frames of a slate that comes into view and is clapped, and the first frame that shows it closed.

    Parameters
    ----------
    kind : str
        One of `KINDS`: how it comes into view, or what makes it hard to see.
    seed : int
    count : int
        Frames, shape (count, 96, 160), grey.
    """
    rng = np.random.default_rng(seed)
    closed, shown = int(rng.integers(16, 34)), int(rng.integers(3, 9))
    dim = 0.18 if kind == "dark" else 1.0
    high, wide = 96, 160
    back = rng.normal(90, 25, (12, 20)).repeat(8, axis=0).repeat(8, axis=1)
    x = int(rng.integers(20, 70)) if kind != "edge" else 118
    y = int(rng.integers(40, 60))
    out: list[NDArray[np.float64]] = []
    for k in range(count):
        rows, columns = np.mgrid[:high, :wide]
        frame = back.copy()
        # It is held up within a frame, or moves in and comes to rest, as what is carried does.
        if k >= shown:
            left = x + (round(60 * 0.45 ** (k - shown)) if kind == "moved in" else 0)
            board = (rows >= y) & (rows < y + 32) & (columns >= left) & (columns < left + 62)
            frame[board] = 40
            steps = 3 if kind == "blurred" else 1
            bar = np.zeros((high, wide))
            for part in range(steps):
                moment = k + part / (2 * steps)
                angle = 0.0 if moment >= closed else min(0.7, 0.16 * (closed - moment))
                tip = np.tan(angle)
                along = columns - left
                bar += (along >= 0) & (along < 62) & (np.abs(rows - (y - 4 - along * tip)) < 4)
            frame = frame * (1 - bar / steps) + 225 * bar / steps
        if kind == "hands" and k >= shown:
            at = int(rng.integers(0, 6)) + x - 12
            frame[y + 10 : y + 40, max(0, at) : max(0, at) + 12] = 150
        walker = (k * 5 + seed * 11) % wide
        frame[74:92, walker : walker + 8] = 130  # somebody passes behind and before the board, never before the sticks
        out.append(frame * dim + rng.normal(0, 1.5, frame.shape))
    return np.clip(np.array(out), 0, 255).astype(np.uint8), closed
