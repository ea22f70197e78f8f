"""Whose a step of an offset is: a recorder's that lost samples, a camera's whose scratch did, or somebody's way.

One pairing alone cannot say: it hears how two recordings lie to each other. Another camera on the same sound says, and
another recorder beside the same picture.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from vesk.core.day.day import Match

Step = tuple[float, float, float]
"""Between which picture times, and by how much the offset grows, seconds."""

_SAME_STEP_S = 1.5e-4  # five centimetres of way
_SLACK_S = 0.1  # a step moves what follows it
_BEYOND_S = 3.0  # so far beyond a moment windows must go on agreeing, to have heard that nothing stepped there


def another_heard(match: Match, step: Step, matches: Iterable[Match], tag: Callable[[str], str]) -> bool:
    """Say whether another camera heard a step as large at that moment of the sound: nobody walks so for both.

    Parameters
    ----------
    match : Match
    step : (float, float, float)
        Of it.
    matches : iterable of Match
        All of that sound.
    tag : callable
        From a recording's key to its device.
    """
    moment = _of_sound(match, step)
    return any(
        _has(other, moment, step[2], of_sound=True) for other in matches if tag(other.picture) != tag(match.picture)
    )


def steps_of_scratch(match: Match, matches: Iterable[Match], tag: Callable[[str], str]) -> tuple[Step, ...]:
    """Return the steps of a match that the sound did not make: its picture's scratch did, or somebody's way.

    Parameters
    ----------
    match : Match
    matches : iterable of Match
        All of that sound, and all of that picture.
    tag : callable
        From a recording's key to its device.

    Returns
    -------
    tuple of (float, float, float)
        Those that another camera, whose windows went on agreeing there, did not hear; or that another recorder
        has as well, at the same moment of the picture: the picture wants none of them. Those that may be somebody's way
        as well. None where anybody says otherwise.
    """
    found = []
    others = [other for other in matches if other is not match]
    for step in (*match.steps, *match.unsure):
        moment = _of_sound(match, step)
        beside = [one for one in others if one.sound == match.sound and tag(one.picture) != tag(match.picture)]
        says = [
            not stepped
            for one in beside
            if (stepped := _has(one, moment, step[2], of_sound=True)) or _covers(one, moment, of_sound=True)
        ]
        beside = [one for one in others if one.picture == match.picture and tag(one.sound) != tag(match.sound)]
        says += [
            stepped
            for one in beside
            if (stepped := _has(one, step[:2], step[2], of_sound=False)) or _covers(one, step[:2], of_sound=False)
        ]
        if says and all(says):
            found.append(step)
    return tuple(found)


def _sound_s(match: Match, picture_s: float) -> float:
    """Return the second of the sound that is heard at a picture time."""
    passed = sum(size for _, high, size in match.steps if high < picture_s)
    return picture_s - match.heard_s(picture_s) - passed


def _of_sound(match: Match, step: Step) -> tuple[float, float]:
    """Return between which seconds of the sound a step lies."""
    return _sound_s(match, step[0]), _sound_s(match, step[1])


def _has(match: Match, moment: tuple[float, float], size_s: float, *, of_sound: bool) -> bool:
    """Say whether a match has a step as large at a moment of its sound or picture; one that may be a way counts."""
    for step in (*match.steps, *match.unsure):
        since, until = _of_sound(match, step) if of_sound else step[:2]
        near = since < moment[1] + _SLACK_S and until > moment[0] - _SLACK_S
        if near and abs(step[2] - size_s) < _SAME_STEP_S:
            return True
    return False


def _covers(match: Match, moment: tuple[float, float], *, of_sound: bool) -> bool:
    """Say whether windows of a match went on agreeing well before and after a moment of its sound, or its picture."""
    for stretch in match.agreeing:
        low, high = (_sound_s(match, at) for at in stretch) if of_sound else stretch
        if low + _BEYOND_S < moment[0] and moment[1] + _BEYOND_S < high:
            return True
    return False
