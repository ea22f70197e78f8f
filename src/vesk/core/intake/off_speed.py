"""Off-speed pictures and files of one source that overlap: what one device cannot have done."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from fractions import Fraction
from itertools import pairwise

from vesk.core.intake.filed import Filed
from vesk.core.timecode import FrameRate

TAKES_OF_ANOTHER_DAY = "takes of another day"
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

    source: str
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
    all_of, slow_of = (
        Counter(one.source for one in recordings),
        Counter(one.source for one in recordings if one.key in found),
    )
    for one in recordings:
        if one.kind != "picture" or one.key in found or one.channels:
            continue
        # The last of a card has no next one to run into: it is taken as its neighbours are.
        others = all_of[one.source] - 1
        if others >= _ALIKE and slow_of[one.source] == others:
            reason = f"silent, as the {others} other off-speed pictures of {one.source} are"
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


def find_conflicts(
    recordings: Sequence[Filed], off_speed: Mapping[str, OffSpeed], other_days: Mapping[str, date] | None = None
) -> list[Conflict]:
    """Find files of one source that overlap in real time, off-speed pictures by the time they took.

    Each file is told with one before it that goes on for longest, a copy with what it copies: a thousand files that
    all overlap are a thousand conflicts, not half a million.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's.
    off_speed : dict of str to OffSpeed
        Pictures whose playback is no real time, by key.
    other_days : mapping of str to date, optional
        What was made on another day, and when, by key.
    """
    found = []
    made = other_days or {}
    by_source: dict[str, list[Filed]] = {}
    for one in recordings:
        if one.start is not None and one.clock != "none":
            by_source.setdefault(one.source, []).append(one)
    for one, after, shared in (each for own in by_source.values() for each in _overlapping(own, off_speed)):
        copies = bool(one.content) and one.content == after.content
        if copies:
            likely = "the same file under two names"
        elif made.get(one.key) != made.get(after.key):
            likely = TAKES_OF_ANOTHER_DAY
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
        found.append(Conflict(one.source, one.key, after.key, shared, likely, copies))
    return found


def _took(one: Filed, off_speed: Mapping[str, OffSpeed]) -> Fraction:
    return off_speed[one.key].real if one.key in off_speed else one.duration


def _overlapping(own: list[Filed], off_speed: Mapping[str, OffSpeed]) -> Iterator[tuple[Filed, Filed, Fraction]]:
    """Yield each file that begins before one before it ended, with that one, and the seconds they share."""
    longest: Filed | None = None
    until = Fraction(0)
    by_content: dict[str, Filed] = {}
    for one in sorted(own, key=lambda one: (one.start or 0, one.path)):
        start, took = one.start or Fraction(0), _took(one, off_speed)
        first = by_content.setdefault(one.content, one) if one.content else one
        if first is not one:
            if (shared := min((first.start or 0) + _took(first, off_speed), start + took) - start) > _BRUSH_S:
                yield first, one, shared
            continue
        if longest is not None and (shared := min(until, start + took) - start) > _BRUSH_S:
            yield longest, one, shared
        if longest is None or start + took > until:
            longest, until = one, start + took


def _times(speed: Fraction) -> str:
    return f"{float(speed):.3g} times slowed" if speed > 1 else f"{float(1 / speed):.3g} times as fast as life"
