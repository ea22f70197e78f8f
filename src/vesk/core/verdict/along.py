"""What a take holds beside a line and its jumps, in words: who moves, what may be either, wander, echoes."""

from __future__ import annotations

from collections.abc import Iterator

from vesk.core.sound.distance import SPEED_OF_SOUND
from vesk.core.sound.measurement import Jump, Line
from vesk.core.verdict.jumped import jumped

_TOLD_S = 0.0005
_WANDER_TOLD_S = 20e-6


def says_along(line: Line, picture: str, sound: str, sample_rate: int) -> str:
    """Return sentences on what moves, wanders and echoes along a take; empty where nothing does.

    Parameters
    ----------
    line : Line
        As measured.
    picture, sound : str
        Tags.
    sample_rate : int
        Of the sound, Hz.
    """
    parts = (_moves(line, picture), _unsure(line, sound, sample_rate), _wander(line), *_again(line, picture, sound))
    return " ".join(part for part in parts if part)


def _moves(line: Line, picture: str) -> str:
    later = [value for _, value in line.moves]
    if not later or max(later) - min(later) < _TOLD_S or line.unsure:
        return ""
    low, high = min(later), max(later)
    metres = (high - low) * SPEED_OF_SOUND
    moving = [
        (one, other) for one, other in zip(line.moves, line.moves[1:], strict=False) if abs(other[1] - one[1]) > _TOLD_S
    ]
    between = f" from {moving[0][0][0]:.0f} to {moving[-1][1][0]:.0f} s" if moving else ""
    return (
        f"Somebody moves{between}: {picture} hears them up to {(high - low) * 1000:.1f} ms later ({metres:.1f} m); "
        "the sound lies where the nearest is heard, and no clock is corrected for it."
    )


def _unsure(line: Line, sound: str, sample_rate: int) -> str:
    return " ".join(
        f"Between {one.low_s:.1f} and {one.high_s:.1f} s, in a pause, {either(one, sound, sample_rate)}: "
        "listen on both sides of it."
        for one in line.unsure
    )


def either(one: Jump, sound: str, sample_rate: int) -> str:
    """Return the two readings of a step in a pause.

    Parameters
    ----------
    one : Jump
    sound : str
        Tag.
    sample_rate : int
        Of the sound, Hz.
    """
    metres = abs(one.step_s) * SPEED_OF_SOUND
    return f"somebody moved by {metres:.1f} m, or {sound} {jumped([one], sample_rate)}"


def _again(line: Line, picture: str, sound: str) -> Iterator[str]:
    """Tell of a wall, a loudspeaker, a hall: what is heard louder later looks like an error and is none."""
    first = "sound lies on what arrives first"
    if line.echoes:
        late = max(line.echoes, key=abs)
        way = f"{abs(late) * 1000:.1f} ms later ({abs(late) * SPEED_OF_SOUND:.1f} m of way"
        if late > 0:
            yield f"{picture} hears everything once more {way}: a wall, or a loudspeaker); {first}."
        else:
            yield f"{sound} holds everything once more {way}: an echo, or two microphones in one mix); {first}."
    elif line.hall:
        who, known = (picture, line.hall) if line.hall > 0 else (sound, -line.hall)
        yield (
            f"{who} is so far off in a hall that echoes are louder than what comes straight; {first}, "
            f"which is known to ±{2000 * known:.0f} ms."
        )


def _wander(line: Line) -> str:
    if line.wander_s < _WANDER_TOLD_S:
        return ""
    return f"The clocks wander: up to {line.wander_s * 1000:.2f} ms off a straight line within the take."
