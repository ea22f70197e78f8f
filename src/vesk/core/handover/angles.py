"""The angles of each moment as a group: what rolled together, laid on each other as the day's timeline lays it."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from math import floor, gcd, lcm

from vesk.core.handover.timeline import Clip, Timeline, Track
from vesk.core.kinds import PICTURE


def angles_of(timeline: Timeline) -> tuple[Timeline, ...]:
    """Return a timeline for each moment of the day at which a camera rolled, in order.

    Each begins at or shortly before its first clip, where frames and samples of all that lies in it begin together, so
    that nothing in it is rounded a second time. Its label counts on from the day's.

    Parameters
    ----------
    timeline : Timeline
        As `build` returns it.
    """
    numbers = sorted({clip.moment for track in timeline.tracks for clip in track.clips if clip.moment})
    return tuple(_moment(timeline, number) for number in numbers)


def _moment(timeline: Timeline, number: int) -> Timeline:
    tracks = [
        replace(track, clips=own)
        for track in timeline.tracks
        if (own := tuple(clip for clip in track.clips if clip.moment == number))
    ]
    clips = [clip for track in tracks for clip in track.clips]
    step = _together([1 / timeline.fps, *(1 / clip.media.rate for clip in clips if clip.media.kind != PICTURE)])
    begins = floor(min(clip.at for clip in clips) / step) * step
    ends = max(clip.ends for clip in clips)
    return Timeline(
        f"{timeline.name}, moment {number}{_called(clips)}", timeline.fps, timeline.drop, timeline.start + begins,
        tuple(Track(one.name, one.kind, tuple(replace(c, at=c.at - begins) for c in one.clips)) for one in tracks),
        tuple(replace(mark, at=mark.at - begins) for mark in timeline.markers if begins <= mark.at < ends),
    )  # fmt: skip


def _called(clips: list[Clip]) -> str:
    """Return the slates of a moment, as its recordings tell them."""
    slates = dict.fromkeys(f"{one.media.scene}/{one.media.take}".strip("/") for one in clips if one.media.scene)
    return f": {', '.join(slates)}" if slates else ""


def _together(periods: list[Fraction]) -> Fraction:
    """Return the shortest time that is a whole number of every period."""
    return Fraction(lcm(*(one.numerator for one in periods)), gcd(*(one.denominator for one in periods)))
