"""Cameras that hear late or early, and the claps they saw and heard: evidence alone, and its truth."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vesk.core.day.lateness import ClapBound

_LIKELY = 0.9
_SHORTEST, _LONGEST = 0.1, 0.5  # of a frame: exposures


@dataclass(frozen=True, slots=True)
class MadeEars:
    """How late a camera hears, seconds, and what its claps allow of that."""

    late_s: float
    claps: tuple[ClapBound, ...]


def five_claps(seed: int, *, whole: bool, frame_s: float = 0.04, count: int = 5) -> MadeEars:
    """Make a camera and its claps, each anywhere in a frame.

    Parameters
    ----------
    seed : int
    whole : bool
        Whether it delays by whole frames (to 2 ms), as cameras mostly do; else by anything from -1.5 to 2.5 frames.
    frame_s : float
    count : int
        How many claps.
    """
    rng = np.random.default_rng(seed)
    delay = rng.choice([-1, 0, 1, 2]) * frame_s + rng.normal(0, 0.002) if whole else rng.uniform(-1.5, 2.5) * frame_s
    # A frame shows sticks closed that met early in its exposure: how early, the shutter and who looks decide.
    turn = rng.uniform(_SHORTEST, _LONGEST) * rng.uniform(0, 0.5)
    contacts = rng.uniform(1, 2, count)
    closed = np.floor(contacts / frame_s - turn) + 1
    heard = contacts + delay
    claps = tuple(
        ClapBound(float(at - (frame + 0.5) * frame_s), float(at - (frame - 1) * frame_s), _LIKELY)
        for at, frame in zip(heard, closed, strict=True)
    )
    return MadeEars(float(delay), claps)
