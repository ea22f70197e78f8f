"""Measure one recording against another by sound."""

from __future__ import annotations

from dataclasses import replace

from vesk.core.day.day import Match
from vesk.core.day.evidence import match_of
from vesk.core.kinds import MATCHED
from vesk.core.progress import OnProgress, unwatched
from vesk.core.sound.measure import measure_channels
from vesk.core.sound.measurement import Measurement, refused
from vesk.dailies.located import Located
from vesk.media import cache


def measure_by_sound(
    picture: Located,
    sound: Located,
    *,
    proposal_s: float | None = None,
    channels: tuple[int, int] | None = None,
    near_only: bool = False,
    on_progress: OnProgress = unwatched,
) -> Measurement:
    """Measure a recorder's sound against a camera's scratch: any channels of either, the best pair decides.

    `channels` (of picture and sound) asks for one pair alone, as when a delivery is measured again:
    another microphone stands elsewhere and would tell another distance. With `near_only` only whether they match at
    the proposal is asked.
    """
    for one in (picture, sound):
        if not one.facts.channels:
            what = "the camera recorded no scratch sound" if one is picture else "the file has no sound"
            return refused(what, unheard=True)
        one.ensure_heard()
    wanted = channels or (None, None)
    own = [
        cache.matching_channels(one.facts, one.entry) if only is None else (only,)
        for one, only in zip((picture, sound), wanted, strict=True)
    ]
    for one, listed in zip((picture, sound), own, strict=True):
        if not listed:
            return refused(f"the only sound in {one.path.name} is timecode", unheard=True)
    lists = [
        [cache.hearing(one.entry, channel) for channel in listed]
        for one, listed in zip((picture, sound), own, strict=True)
    ]
    found = measure_channels(*lists, proposal_s=proposal_s, near_only=near_only, on_progress=on_progress)
    # The engine counts what it was given; timecode's channel was not.
    return replace(
        found,
        picture_channel=own[0][found.picture_channel],
        channel=own[1][found.channel],
        others=tuple(replace(other, channel=own[1][other.channel]) for other in found.others),
    )


_SAME_S = 0.1  # microphones thirty metres apart
_ASTRAY_S = 5.0  # a loop that does not close by more is another place


def same_moment(one: Located, other: Located, offset_s: float) -> bool:
    """Say whether two recordings of one kind heard the same moments: they match each other, and just there."""
    found = measure_by_sound(one, other, proposal_s=offset_s, near_only=True)
    return found.decision == MATCHED and found.line is not None and abs(found.line.at_middle_s - offset_s) < _SAME_S


def measure_across(one: Located, other: Located, keys: tuple[str, str], offset_s: float) -> Match | None:
    """Measure two recordings of one kind against each other, the first in the place of the picture.

    Parameters
    ----------
    one, other : Located
    keys : tuple of str
        Of both.
    offset_s : float
        Where a third recording lays the other on the one, seconds.

    Returns
    -------
    Match or None
        None where their sounds do not match, or match elsewhere: that closes no loop.
    """
    found = measure_by_sound(one, other, proposal_s=offset_s, near_only=True)
    match = match_of(*keys, found)
    if match is None or not match.sure or abs(match.at_head_s - offset_s) >= _ASTRAY_S:
        return None
    return match
