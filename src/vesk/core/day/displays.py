"""What pictures show of clocks: displays filmed on purpose, and lights, against the files and the rest of the day.

A display is a witness like any other. People trust the box or the telephone that they filmed; where it disagrees with
everything else, it is the display that is off.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vesk.core.wording import duration, signed

_READ_SD = 0.5  # frames: a label holds for a frame, and so does the picture that shows it
_SAME_FRAMES = 1.0
_GROWS_FRAMES = 1.5
_SURE_SD = 3.0


@dataclass(frozen=True, slots=True)
class Reading:
    """A label read off a display in one frame.

    Attributes
    ----------
    display : str
        Which one, by name.
    device : str
        The camera that filmed it.
    at_s : float
        What the camera's own timecode says of that frame, seconds.
    off_s : float
        What was read, less that, seconds; positive: the display is ahead of the file.
    ahead_s : float or None
        How far the camera's clock is ahead of the day's reference then, its ears taken out, seconds; None if unknown.
    frame_s : float
        Length of a frame, seconds.
    """

    display: str
    device: str
    at_s: float
    off_s: float
    ahead_s: float | None
    frame_s: float


@dataclass(frozen=True, slots=True)
class Display:
    """What readings of one display say together.

    Attributes
    ----------
    name : str
    count : int
    off_frames : tuple of (float, float)
        The least and the most that it is ahead of the files, frames.
    day_frames : tuple of (float, float) or None
        The same against the day as a whole.
    hourly : float or None
        By how many frames an hour it goes ahead, where it does; None where it keeps step or one reading says nothing.
    by_day : bool
        Whether that is against the day as a whole, rather than one camera's file.
    says : str
        In a sentence.
    """

    name: str
    count: int
    off_frames: tuple[float, float]
    day_frames: tuple[float, float] | None
    hourly: float | None
    by_day: bool
    says: str


def tell(readings: Sequence[Reading]) -> list[Display]:
    """Return what every display says, by name.

    Parameters
    ----------
    readings : sequence of Reading
    """
    names = sorted({one.display for one in readings})
    return [_tell_one(name, [one for one in readings if one.display == name]) for name in names]


def _tell_one(name: str, own: list[Reading]) -> Display:
    own = sorted(own, key=lambda one: one.at_s)
    off = np.array([one.off_s / one.frame_s for one in own])
    known = [one for one in own if one.ahead_s is not None]
    by_day = len(known) == len(own)
    day = np.array([(one.off_s + (one.ahead_s or 0.0)) / one.frame_s for one in known])
    asked = day if by_day else off
    hourly = _hourly(own, asked)
    cameras = sorted({one.device for one in own})
    files = np.array([(one.ahead_s or 0.0) / one.frame_s for one in known])
    together = files.size < 2 or bool(np.ptp(files) < _SAME_FRAMES)
    ends = float(off.min()), float(off.max())
    day_ends = (float(day.min()), float(day.max())) if day.size else None
    what = _says(own, off, asked, hourly, by_day=by_day, together=together)
    says = f"{name}, read {_times(len(own))} in {' and '.join(cameras)}: {what}"
    return Display(name, len(own), ends, day_ends, hourly, by_day, says)


def _hourly(own: list[Reading], frames: np.ndarray) -> float | None:
    """Return by how many frames an hour it goes ahead; None unless it grows beyond what reading labels can do."""
    at = np.array([one.at_s for one in own]) / 3600
    if len(own) < 2 or np.ptp(at) <= 0:
        return None
    slope = float(np.polyfit(at, frames, 1)[0])
    error = _READ_SD / float(np.sqrt(((at - at.mean()) ** 2).sum()))
    grown = abs(slope) * float(np.ptp(at))
    return slope if grown > _GROWS_FRAMES and abs(slope) > _SURE_SD * error else None


def _says(
    own: list[Reading], off: np.ndarray, asked: np.ndarray, hourly: float | None, *, by_day: bool, together: bool
) -> str:
    low, high = float(asked.min()), float(asked.max())
    if not by_day:
        alone = f"{_range(float(off.min()), float(off.max()))} the file's timecode{_growing(own, hourly)}"
        return f"{alone}; nothing else tells which of the two is right"
    if hourly is None and max(abs(low), abs(high)) <= _SAME_FRAMES:
        if together:
            return "it agrees with the files and with everything else"
        return (
            f"it agrees with the day as a whole; the files do not agree with each other "
            f"({_range(float(off.min()), float(off.max()))} their timecodes), and their clocks are what is off"
        )
    wrong = f"the display is {_range(low, high, off=True)}{_growing(own, hourly)}"
    return f"{wrong}; " + (
        "the files agree with each other" if together else "what sound tells of the files' clocks is taken out of that"
    )


def _growing(own: list[Reading], hourly: float | None) -> str:
    if hourly is None:
        return ", and keeps step" if len(own) > 1 and own[-1].at_s > own[0].at_s else ""
    over = duration(own[-1].at_s - own[0].at_s)
    return f", and {'hurries' if hourly > 0 else 'lags'} by {abs(hourly):.2f} frames an hour over {over}"


def _range(low: float, high: float, *, off: bool = False) -> str:
    ends = sorted((low, high), key=abs)
    same = abs(high - low) < _SAME_FRAMES
    frames = f"{abs(sum(ends) / 2):.0f}" if same else f"{abs(ends[0]):.0f} to {abs(ends[1]):.0f}"
    if low < -_SAME_FRAMES / 2 and high > _SAME_FRAMES / 2:
        return f"off by {signed(low, 0)} to {signed(high, 0)} frames" + ("" if off else " against")
    ahead = low + high > 0
    if off:
        return f"off by {frames} {'frame' if frames == '1' else 'frames'}, {'ahead' if ahead else 'behind'}"
    return f"{frames} {'frame' if frames == '1' else 'frames'} {'ahead of' if ahead else 'behind'}"


def _times(count: int) -> str:
    return {1: "once", 2: "twice"}.get(count, f"{count} times")


@dataclass(frozen=True, slots=True)
class Light:
    """A flash or a blink in one camera's picture.

    Attributes
    ----------
    name : str
        By which it is known on several cameras.
    device : str
    at_s, half_s : float
        What the camera's timecode says of it, and within what, seconds.
    ahead_s : float or None
        As of `Reading`.
    frame_s : float
    """

    name: str
    device: str
    at_s: float
    half_s: float
    ahead_s: float | None
    frame_s: float


def tell_lights(lights: Sequence[Light]) -> list[str]:
    """Return what the same light in two cameras' pictures says of their timecodes, a sentence for each two.

    Parameters
    ----------
    lights : sequence of Light
        A name that one camera has twice tells no moment.
    """
    said = []
    for name in sorted({one.name for one in lights}):
        own = sorted((one for one in lights if one.name == name), key=lambda one: one.device)
        devices = [one.device for one in own]
        own = [one for one in own if devices.count(one.device) == 1]
        said += [_tell_light(own[0], other) for other in own[1:]]
    return said


def _tell_light(one: Light, other: Light) -> str:
    frame = one.frame_s
    ahead, band = (other.at_s - one.at_s) / frame, (one.half_s + other.half_s) / frame
    figure = f"{one.name}, seen by {one.device} and {other.device}: {other.device}'s timecode is {signed(ahead, 2)} f "
    figure += f"(± {band:.2f}) ahead of {one.device}'s"
    if one.ahead_s is None or other.ahead_s is None:
        return f"{figure}; nothing else tells"
    known = (other.ahead_s - one.ahead_s) / frame
    agrees = abs(known - ahead) <= band + _READ_SD
    return f"{figure}; the day as a whole says {signed(known, 2)} f: " + (
        "they agree"
        if agrees
        else f"they differ by {abs(known - ahead):.1f} f, so it was not the same light, or a camera shows it late"
    )
