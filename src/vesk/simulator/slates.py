"""Slates that are clapped in view, as frames: popped up, carried in, among hands, in the dark, at the edge, blurred.

And moments in which nothing is clapped though something stops: what a search for claps may take for one.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

KINDS = ("popped in", "moved in", "hands", "dark", "edge", "blurred")
HARDER = ("far", "shaken", "faint", "tilted", "falls flat", "by hands", "somebody stops", "leaves at once")
WITHOUT = ("shown only", "sits down", "reaches", "waves", "pan stops", "door", "talks", "walks out", "nothing")
HIGH, WIDE = 96, 160


def slate(kind: str, seed: int, *, count: int = 40) -> tuple[NDArray[np.uint8], int]:
    """Return frames of a slate that comes into view and is clapped, and the first frame that shows it closed.

    Parameters
    ----------
    kind : str
        One of `KINDS` or `HARDER`: how it comes into view, or what makes it hard to see.
    seed : int
    count : int
        Frames, shape (count, 96, 160), grey.
    """
    rng = np.random.default_rng(seed)
    closed, shown = int(rng.integers(16, 34)), int(rng.integers(3, 9))
    dim = {"dark": 0.18, "faint": 0.1}.get(kind, 1.0)
    small = rng.uniform(0.25, 0.5) if kind == "far" else 1.0
    tilt = float(rng.uniform(-0.6, 0.6)) if kind == "tilted" else float(rng.normal(0, 0.05))
    swing, side = float(rng.uniform(0.09, 0.22)), int(rng.choice([-1, 1]))
    leaves = closed + int(rng.integers(2, 5)) if kind == "leaves at once" else count
    stops = closed + int(rng.integers(-6, 7))
    back = rng.normal(90, 25, (12, 20)).repeat(8, axis=0).repeat(8, axis=1)
    x = int(rng.integers(20, 70)) if kind != "edge" else 118
    y = int(rng.integers(40, 60))
    broad, deep, thick = round(62 * small), round(32 * small), max(1.0, 4 * small)
    rows, columns = np.mgrid[:HIGH, :WIDE]
    out: list[NDArray[np.float64]] = []
    for k in range(count):
        frame = back.copy()
        # It is held up within a frame, or moves in and comes to rest, as what is carried does.
        if shown <= k < leaves and kind == "by hands":
            apart = 0.0 if k >= closed else min(26.0, 3.5 * (closed - k) * swing / 0.16)
            for way in (-1, 1):
                at = round(x + 20 + way * (5 + apart))
                frame[y - 12 : y + 8, max(0, at - 5) : max(0, at + 5)] = 170
        elif shown <= k < leaves:
            left = x + (round(60 * 0.45 ** (k - shown)) if kind == "moved in" else 0)
            # Along the board from its hinge, and down from its upper edge.
            middle = left + broad / 2
            along = side * ((columns - middle) * np.cos(tilt) + (rows - y) * np.sin(tilt)) + broad / 2
            down = (rows - y) * np.cos(tilt) - (columns - middle) * np.sin(tilt)
            within = (along >= 0) & (along < broad)
            frame[within & (down >= 0) & (down < deep)] = 40
            steps = 3 if kind == "blurred" else 1
            bar = np.zeros((HIGH, WIDE))
            for part in range(steps):
                moment = k + part / (2 * steps)
                angle = 0.0 if moment >= closed else min(0.7, swing * (closed - moment))
                above = 50 * angle if kind == "falls flat" else along * np.tan(angle)
                bar += within & (np.abs(down + thick + above) < thick)
            frame = frame * (1 - bar / steps) + 225 * bar / steps
        if kind == "hands" and k >= shown:
            at = int(rng.integers(0, 6)) + x - 12
            frame[y + 10 : y + 40, max(0, at) : max(0, at) + 12] = 150
        if kind == "somebody stops":
            at = 100 - 4 * min(k, stops)
            frame[4:40, max(0, at) : max(0, at) + 14] = 170
        _passing(frame, k, seed)
        if kind == "shaken":
            frame = np.roll(frame, [int(n) for n in rng.integers(-1, 2, 2)], axis=(0, 1))
        out.append(frame * dim + rng.normal(0, 1.5, frame.shape))
    return np.clip(np.array(out), 0, 255).astype(np.uint8), closed


def moment(kind: str, seed: int, *, count: int = 40) -> NDArray[np.uint8]:
    """Return frames in which nothing is clapped.

    Parameters
    ----------
    kind : str
        One of `WITHOUT`.
    seed : int
    count : int
        Frames, shape (count, 96, 160), grey.
    """
    rng = np.random.default_rng(seed)
    begins = int(rng.integers(3, 9))
    stops = begins + int(rng.integers(9, 26))
    x, y = int(rng.integers(20, 98)), int(rng.integers(20, 50))
    far = float(rng.uniform(20, 60))
    back = rng.normal(90, 25, (12, 40)).repeat(8, axis=0).repeat(8, axis=1)
    turns = float(rng.uniform(7, 12))
    out = []
    for k in range(count):
        # What has weight comes to rest: only what hits something stops within a frame.
        part = min(1.0, max(0.0, (k - begins) / (stops - begins)))
        eased = 0.5 - 0.5 * np.cos(np.pi * part)
        panned = round(2 * far * eased) if kind == "pan stops" else 0
        frame = back[:, panned : panned + WIDE].copy()
        if kind == "shown only" and begins <= k < stops + 4:
            left = x + round(60 * 0.45 ** (k - begins)) if seed % 2 else x
            frame[y : y + 32, left : left + 62] = 40
            frame[y - 8 : y, left : left + 62] = 225
        if kind == "sits down":
            top = round(4 + far * eased * 0.8)
            frame[top : top + 50, x : x + 24] = 160
        if kind == "reaches":  # an arm is stretched out along a table, or put down
            wide, tall = (round(10 + far * eased), 8) if seed % 3 else (8, round(10 + far * eased))
            frame[y : y + tall, x : x + wide] = 200
        if kind == "walks out":
            at = round(x + (k - begins) * far / 8) if k > begins else x
            frame[10:90, max(0, at) : max(0, at) + 26] = 60
        if kind == "waves":
            wide = 14 * (1 - part)
            at = x + round(wide * np.sin(2 * np.pi * k / turns))
            frame[y : y + 14, max(0, at) : max(0, at) + 10] = 190
        if kind == "door":
            frame[10:80, x : x + round(far * (1 - part**2))] = 30  # it falls shut, and that is an end within a frame
        if kind == "talks":
            frame[y : y + 30, x : x + 22] = 150
            deep = int(rng.integers(1, 6)) if (k // 9 + seed) % 2 else 1
            frame[y + 18 : y + 18 + deep, x + 6 : x + 16] = 60
        _passing(frame, k, seed)
        out.append(frame + rng.normal(0, 1.5, frame.shape))
    return np.clip(np.array(out), 0, 255).astype(np.uint8)


def _passing(frame: NDArray[np.float64], k: int, seed: int) -> None:
    """Let somebody pass behind and before the board, never before the sticks."""
    walker = (k * 5 + seed * 11) % WIDE
    frame[74:92, walker : walker + 8] = 130
