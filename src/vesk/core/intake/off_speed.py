"""Off-speed pictures and files of one source that overlap: what one device cannot have done."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise

from vesk.core.intake.filed import Filed
from vesk.core.timecode import FrameRate

_ALIKE = 2  # off-speed pictures that make a silent neighbour one
_BRUSH_S = Fraction(1, 10)  # labels are true to a frame or two
_FACTORS = (2, 3, 4, 5, 6, 8, 10, 20, 40)


@dataclass(frozen=True, slots=True)
class OffSpeed:
    """A picture that plays longer, or shorter, than it took.

    Attributes
    ----------
    key : str
    reason : str
        For a person.
    real : Fraction
        Seconds it took, as far as is known: exact where the file says its speed, at most this where only the next
        file does.
    sure : bool
        Whether the file says so itself.
    """

    key: str
    reason: str
    real: Fraction
    sure: bool


@dataclass(frozen=True, slots=True)
class Conflict:
    """Two files of one source that overlap in real time: seconds shared, what is likely, whether they are copies."""

    first: str
    second: str
    shared: Fraction
    likely: str
    copies: bool = False


def find_off_speed(recordings: Sequence[Filed]) -> dict[str, OffSpeed]:
    """Find the pictures whose playback is not the time they took.

    A header that names another recorded rate is believed. Else a picture without sound that runs on
    past the start of its source's next file is: a device makes one file at a time, and
    high-speed recording is silent.

    Parameters
    ----------
    recordings : sequence of Filed
        One day's.
    """
    found: dict[str, OffSpeed] = {}
    for one in recordings:
        if one.kind == "picture" and one.fps and one.capture_fps and one.capture_fps != one.fps:
            speed = one.capture_fps / one.fps
            reason = f"recorded at {FrameRate(one.capture_fps)} fps, plays at {FrameRate(one.fps)}: {_times(speed)}"
            found[one.key] = OffSpeed(one.key, reason, one.duration / speed, sure=True)
    for one, after in _neighbours([one for one in recordings if one.kind == "picture"]):
        if one.key in found or one.channels or one.start is None or after.start is None:
            continue
        real = after.start - one.start
        if real > 0 and one.duration > real + _BRUSH_S:
            least = float(one.duration / real)
            factor = next((n for n in _FACTORS if n >= least), None)
            guess = f", so it was recorded at {factor} times the speed or more" if factor else ""
            reason = f"silent, and it plays on {float(one.duration - real):.1f} s past the start of {after.name}{guess}"
            found[one.key] = OffSpeed(one.key, reason, real, sure=False)
    for one in recordings:
        if one.kind != "picture" or one.key in found or one.channels:
            continue
        # The last of a card has no next one to run into: it is taken as its neighbours are.
        own = [other for other in recordings if other.source == one.source and other.key != one.key]
        alike = len(own) >= _ALIKE and all(other.key in found for other in own)
        if alike:
            reason = f"silent, as the {len(own)} other off-speed pictures of {one.source} are"
            found[one.key] = OffSpeed(one.key, reason, one.duration, sure=False)
    return found


def _neighbours(recordings: Sequence[Filed]) -> list[tuple[Filed, Filed]]:
    """Return each recording with its source's next, by start."""
    by_source: dict[str, list[Filed]] = {}
    for one in recordings:
        if one.start is not None:
            by_source.setdefault(one.source, []).append(one)
    pairs = []
    for own in by_source.values():
        own.sort(key=lambda one: (one.start or 0, one.path))
        pairs += list(pairwise(own))
    return pairs


def find_conflicts(recordings: Sequence[Filed], off_speed: dict[str, OffSpeed]) -> list[Conflict]:
    """Find files of one source that overlap in real time, off-speed pictures by the time they took.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's.
    off_speed : dict of str to OffSpeed
        Pictures whose playback is no real time, by key.
    """
    found = []
    by_source: dict[str, list[Filed]] = {}
    for one in recordings:
        if one.start is not None and one.clock != "none":
            by_source.setdefault(one.source, []).append(one)
    for one, after in (pair for own in by_source.values() for pair in _overlapping(own, off_speed)):
        shared = _shared(one, after, off_speed)
        copies = bool(one.content) and one.content == after.content
        if copies:
            likely = "the same file under two names"
        elif one.kind != after.kind or (one.sample_rate, one.channels, one.fps) != (
            after.sample_rate,
            after.channels,
            after.fps,
        ):
            likely = "two devices filed as one source: their formats differ"
        elif not one.channels and one.kind == "picture":
            likely = "an off-speed picture"
        else:
            likely = "two devices filed as one source, or a clock set anew between them"
        found.append(Conflict(one.key, after.key, shared, likely, copies))
    return found


def _took(one: Filed, off_speed: dict[str, OffSpeed]) -> Fraction:
    return off_speed[one.key].real if one.key in off_speed else one.duration


def _shared(one: Filed, after: Filed, off_speed: dict[str, OffSpeed]) -> Fraction:
    if one.start is None or after.start is None:
        return Fraction(0)
    ends = min(one.start + _took(one, off_speed), after.start + _took(after, off_speed))
    return ends - max(one.start, after.start)


def _overlapping(own: list[Filed], off_speed: dict[str, OffSpeed]) -> Iterator[tuple[Filed, Filed]]:
    ordered = sorted(own, key=lambda one: (one.start or 0, one.path))
    for at, one in enumerate(ordered):
        for after in ordered[at + 1 :]:
            if (after.start or 0) >= (one.start or 0) + _took(one, off_speed):
                break
            if _shared(one, after, off_speed) > _BRUSH_S:
                yield one, after


def _times(speed: Fraction) -> str:
    return f"{float(speed):.3g} times slowed" if speed > 1 else f"{float(1 / speed):.3g} times as fast as life"
