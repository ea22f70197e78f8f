"""One question for one cause: a device that is off by the same against several others is asked of once."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import cached_property
from statistics import median

import numpy as np

from vesk.core.day.solution import Question
from vesk.core.kinds import Asked

_FAR, _ALIKE = 2.0, 1.0  # frames: where frames begin is each camera's own, and within one
_GROWTH, _LEAST_GROWTH = 0.25, 0.2  # of the growth, and frames: by which two drift apart that have one cause


@dataclass(frozen=True)
class Off:
    """Pairings of one camera with one recorder, in one stretch of both clocks, whose labels lay them wrong.

    Attributes
    ----------
    camera, recorder : str
        Devices.
    pairings : tuple of (str, str)
        By picture and sound.
    course : tuple of (float, float)
        Of each pairing the camera's label time, and where labels lay the sound minus where it belongs: seconds.
    frame_s : float
        Of the picture.
    """

    camera: str
    recorder: str
    pairings: tuple[tuple[str, str], ...]
    course: tuple[tuple[float, float], ...]
    frame_s: float

    @cached_property
    def off_s(self) -> float:
        """How far off the middle one of them is, seconds."""
        return median(off_s for _, off_s in self.course)

    @cached_property
    def most_s(self) -> float:
        """How far off the furthest of them is, either way, seconds."""
        return max(abs(off_s) for _, off_s in self.course)

    def span_s(self, device: str) -> tuple[float, float]:
        """Return label times between which they lie, by a clock of theirs, seconds."""
        times = [at_s + (off_s if device == self.recorder else 0.0) for at_s, off_s in self.course]
        return min(times), max(times)

    def at(self, device: str, label_s: float) -> float:
        """Return how far off they are at a label time of a clock of theirs, by a straight line, seconds."""
        since, until = self.span_s(device)
        if len(self.course) == 1 or until <= since:
            return self.off_s
        times = np.array([at_s + (off_s if device == self.recorder else 0.0) for at_s, off_s in self.course])
        off = np.array([off_s for _, off_s in self.course])
        slope, level = np.polyfit(times - since, off, 1)
        return float(level + slope * (label_s - since))


def ask_of_clocks(offs: Sequence[Off], agree: Collection[tuple[str, str]] = ()) -> list[Question]:
    """Return what is asked of devices' clocks, those first that answer most at once.

    A recorder an hour off is an hour off against every camera, and a camera against every recorder, morning and
    afternoon; one that drifts gets as far off against all of them: that is one cause. What is less than two frames may
    be where each camera's frames begin. Of two that are alone with each other it is the camera's, but where another
    recorder says that it is not.

    Parameters
    ----------
    offs : sequence of Off
    agree : collection of (str, str)
        Cameras and recorders whose clocks agree.
    """
    asked: list[Question] = []
    left = list(offs)
    agree = {*agree, *((one.camera, one.recorder) for one in offs if one.most_s < _FAR * one.frame_s)}
    while True:
        groups = _alike([one for one in left if one.most_s >= _FAR * one.frame_s], agree)
        if not groups:
            break
        device, own = max(groups, key=lambda item: len(item[1]))
        asked.append(Question(Asked.CLOCK, device, tuple(one.pairings for one in own)))
        left = [one for one in left if one not in own]
    return asked + [
        Question(Asked.CLOCK, one.recorder if _is_recorders(one, agree) else one.camera, (one.pairings,))
        for one in left
    ]


def _is_recorders(one: Off, agree: Collection[tuple[str, str]]) -> bool:
    """Say whether others tell whose clock it is: the camera agrees with another recorder, the recorder with nobody."""
    others = any(camera == one.camera and recorder != one.recorder for camera, recorder in agree)
    return others and all(recorder != one.recorder for _, recorder in agree)


def _alike(offs: Sequence[Off], agree: Collection[tuple[str, str]]) -> list[tuple[str, list[Off]]]:
    """Return, by device, two and more that are off by the same; a recorder's only where several cameras share it."""
    groups: dict[tuple[str, float], list[Off]] = {}
    for one in sorted(offs, key=lambda one: one.off_s):
        groups.setdefault((one.recorder, one.frame_s), []).append(one)
    for one in sorted(offs, key=lambda one: one.off_s):
        groups.setdefault((one.camera, one.frame_s), []).append(one)
    found = []
    for (device, _), own in groups.items():
        left = own
        while left:
            here = [left[0], *(one for one in left[1:] if _is_alike(left[0], one, device))]
            left = [one for one in left if one not in here]
            whose = {one.recorder if _is_recorders(one, agree) else one.camera for one in here}
            if len({one.camera for one in here}) > 1 or (len(here) > 1 and whose == {device}):
                found.append((device, sorted(here, key=lambda one: one.pairings)))
    return found


def _is_alike(one: Off, other: Off, device: str) -> bool:
    """Say whether two are off by the same: all along where they lie beside each other, else in their middles."""
    spans = one.span_s(device), other.span_s(device)
    since, until = max(span[0] for span in spans), min(span[1] for span in spans)
    alike = _ALIKE * one.frame_s
    if until <= since:  # what drifts comes by any figure once
        steady = all(abs(pair.at(device, span[1]) - pair.at(device, span[0])) <= alike
                     for pair, span in zip((one, other), spans, strict=True))  # fmt: skip
        return steady and abs(one.off_s - other.off_s) <= alike
    begins, ends = ([pair.at(device, at) for pair in (one, other)] for at in (since, until))
    growths = [end - begin for begin, end in zip(begins, ends, strict=True)]
    apart = max(_GROWTH * max(map(abs, growths)), _LEAST_GROWTH * one.frame_s)
    near = all(abs(pair[0] - pair[1]) <= alike for pair in (begins, ends))
    return near and abs(growths[0] - growths[1]) <= apart
