"""What a recording's jumps are, in words: lost, doubled, silence put in, or only known to have gained."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from vesk.core.kinds import Gained
from vesk.core.sound.measurement import Jump
from vesk.core.wording import count, duration

_FEW, _LISTED = 2, 8  # told one by one; whose moments are listed
_WIDE_S = 0.05  # from here on it is said between which moments a jump lies


def jumped(jumps: Sequence[Jump], sample_rate: int) -> str:
    """Say what one jump is, or several together.

    Parameters
    ----------
    jumps : sequence of Jump
        All of one sign.
    sample_rate : int
        Of the sound, Hz.

    Returns
    -------
    str
        Such as "lost 255 samples"; of whoever's sound it is.
    """
    samples = sum(jump.samples(sample_rate) for jump in jumps)
    if samples <= 0:
        return f"lost {count(-samples)} samples"
    kinds = {jump.gained for jump in jumps}
    if kinds == {Gained.SILENCE}:
        return f"put in {count(samples)} samples of silence"
    return f"{'doubled' if kinds == {Gained.TWICE} else 'gained'} {count(samples)} samples"


def jumps_in_brief(jumps: Sequence[Jump], sound: str, sample_rate: int) -> str:
    """Say what a sound's jumps are, in the fewest words.

    Parameters
    ----------
    jumps : sequence of Jump
    sound : str
        Tag.
    sample_rate : int
        Of the sound, Hz.
    """
    if len(jumps) > _FEW:
        return f"{sound} {_often(jumps, sample_rate)}"
    return "; ".join(f"{sound} {jumped([jump], sample_rate)} at {duration(jump.at_s)}" for jump in jumps)


def jumps_told(jumps: Sequence[Jump], sample_rate: int) -> str:
    """Say what jumps are, and when each was; of many the first and the last.

    Parameters
    ----------
    jumps : sequence of Jump
    sample_rate : int
        Of the sound, Hz.
    """
    at = [f"{jump.at_s:.2f}" for jump in jumps]
    if len(jumps) > _LISTED:
        return f"{_often(jumps, sample_rate)}, first at {at[0]}, last at {at[-1]} s"
    if len(jumps) > _FEW:
        return f"{_often(jumps, sample_rate)}, at {', '.join(at[:-1])} and {at[-1]} s"
    places = [
        f"{jumped([jump], sample_rate)} at {jump.at_s:.2f} s"
        + (f" (between {jump.low_s:.2f} and {jump.high_s:.2f} s)" if jump.high_s - jump.low_s > _WIDE_S else "")
        for jump in jumps
    ]
    return ", and ".join(places)


def scratch_told(steps: Sequence[Jump], picture: str, sample_rate: int) -> str:
    """Say what a camera's scratch lost or gained by itself.

    Parameters
    ----------
    steps : sequence of Jump
        As they lie in the line: a scratch that lost samples looks like a sound that gained some.
    picture : str
        Tag of the camera.
    sample_rate : int
        In whose samples they are told, Hz.

    Returns
    -------
    str
        Empty where there are none.
    """
    own = [replace(one, step_s=-one.step_s) for one in steps]
    shown, said = ([one for one in own if (one.gained is not None) is seen] for seen in (True, False))
    told = [jumps_told(one, sample_rate) + by for one, by in ((shown, ""), (said, ", as others say")) if one]
    return f"{picture}'s own scratch {'; it '.join(told)}: the sound stays with the picture" if told else ""


def _often(jumps: Sequence[Jump], sample_rate: int) -> str:
    """Say in a few words what many jumps are: alike to a sample, one recorder lost a buffer again and again."""
    ordered = sorted(jumps, key=lambda jump: jump.samples(sample_rate))
    if ordered[-1].samples(sample_rate) - ordered[0].samples(sample_rate) <= 1:
        kinds = {jump.gained for jump in jumps}
        middle = ordered[len(ordered) // 2]
        told = jumped([middle if len(kinds) == 1 else replace(middle, gained=None)], sample_rate)
        return f"{told} {len(jumps)} times"
    signs = [[one for one in jumps if one.step_s * sign > 0] for sign in (1, -1)]
    return f"jumped {len(jumps)} times: {' and '.join(f'{jumped(one, sample_rate)} in all' for one in signs if one)}"
