"""One question for one cause: a device that is off by the same against several others is asked of once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vesk.core.day.solution import Question
from vesk.core.kinds import Asked

_FAR, _ALIKE = 2.0, 1.0  # frames: where frames begin is each camera's own, and within one


@dataclass(frozen=True, slots=True)
class Off:
    """Pairings of one camera with one recorder, in one stretch of both clocks, whose labels lay them wrong.

    Attributes
    ----------
    camera, recorder : str
        Devices.
    pairings : tuple of (str, str)
        By picture and sound.
    off_s : float
        Where labels lay the sound minus where it belongs, seconds: of the middle one of them.
    frame_s : float
        Of the picture.
    """

    camera: str
    recorder: str
    pairings: tuple[tuple[str, str], ...]
    off_s: float
    frame_s: float


def ask_of_clocks(offs: Sequence[Off]) -> list[Question]:
    """Return what is asked of devices' clocks, those first that answer most at once.

    A recorder an hour off is an hour off against every camera, and a camera against every recorder, morning and
    afternoon: that is one cause. What is less than two frames may be where each camera's frames begin.

    Parameters
    ----------
    offs : sequence of Off
    """
    asked: list[Question] = []
    left = list(offs)
    while True:
        groups = _alike([one for one in left if abs(one.off_s) >= _FAR * one.frame_s])
        if not groups:
            break
        device, own = max(groups, key=lambda item: len(item[1]))
        asked.append(Question(Asked.CLOCK, device, tuple(one.pairings for one in own)))
        left = [one for one in left if one not in own]
    return asked + [Question(Asked.CLOCK, one.camera, (one.pairings,)) for one in left]


def _alike(offs: Sequence[Off]) -> list[tuple[str, list[Off]]]:
    """Return, by device, two and more that are off by the same; a recorder's only where several cameras share it."""
    groups: dict[tuple[str, float], list[Off]] = {}
    for one in sorted(offs, key=lambda one: one.off_s):
        groups.setdefault((one.recorder, one.frame_s), []).append(one)
    for one in sorted(offs, key=lambda one: one.off_s):
        groups.setdefault((one.camera, one.frame_s), []).append(one)
    found = []
    for (device, frame_s), own in groups.items():
        first = 0
        while first < len(own):
            here = [one for one in own[first:] if one.off_s - own[first].off_s <= _ALIKE * frame_s]
            first += len(here)
            if len({one.camera for one in here}) > 1 or (len(here) > 1 and here[0].camera == device):
                found.append((device, sorted(here, key=lambda one: one.pairings)))
    return found
