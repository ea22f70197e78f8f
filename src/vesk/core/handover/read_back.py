"""Timelines and edit lists that were written, read back: whether every clip lies where it was laid."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from vesk.core.handover.elsewhere import There
from vesk.core.handover.timeline import Clip, Timeline
from vesk.core.kinds import PICTURE
from vesk.core.timecode import FrameRate, wrap_day

_SAMPLE_S = Fraction(1, 44_100)
_SEVERAL_DIGITS_S = Fraction(1, 100_000)  # an edit list says what is beyond frames to the ten-thousandth of a frame


@dataclass(frozen=True, slots=True)
class ReadClip:
    """A clip of a timeline that was made anywhere: its track, name, file, where it lies and what of the file it shows.

    `at` and `takes` are seconds from the timeline's start, `label` seconds of the file's own timecode.
    """

    track: str
    name: str
    file: str
    at: Fraction
    takes: Fraction
    label: Fraction
    picture: bool


def unlike(meant: Sequence[Timeline], found: Sequence[Sequence[ReadClip]], name: str) -> str:
    """Return what of timelines lies elsewhere as it was read back, in words; empty where all of it holds.

    Parameters
    ----------
    meant : sequence of Timeline
    found : sequence of sequence of ReadClip
        The clips of each, in the order of its tracks.
    name : str
        Of the file.
    """
    if len(found) != len(meant):
        return f"{name} reads back as {len(found)} moments, not {len(meant)}"
    for read, timeline in zip(found, meant, strict=True):
        own = [(track.name, clip) for track in timeline.tracks for clip in track.clips]
        if len(read) != len(own):
            return f"{name} reads back as {len(read)} clips, not {len(own)}"
        for one, (track, clip) in zip(read, own, strict=True):
            # What lies before it in another rate is rounded: never by a whole sample.
            if (one.track, one.name) != (track, clip.media.name) or abs(one.at - clip.at) >= _SAMPLE_S:
                return f"{clip.media.name} reads back from {name} elsewhere than it was laid"
            if abs(one.label - _label(clip)) > _unit(clip, timeline):
                return f"{clip.media.name} reads back from {name} with another part of it than was laid"
    return ""


def unlike_list(timeline: Timeline, clips: Sequence[Clip], found: Sequence[There], name: str) -> str:
    """Return what of a timeline's clips lies elsewhere in edit lists as these were read back; empty where all holds."""
    clock = FrameRate(timeline.fps, timeline.drop)
    if len(found) != len(clips):
        return f"{name} reads back as {len(found)} events, not {len(clips)}"
    for one, clip in zip(found, clips, strict=True):
        meant = timeline.start + clip.at - Fraction(clip.off_s)
        off = wrap_day(one.at - meant, clock.day)
        # A list is read as one that any system made: what stands before a backslash is a folder there.
        named = " ".join(clip.media.name.split()).rpartition("\\")[2]
        if one.name != named or abs(off) > _SEVERAL_DIGITS_S:
            return f"{clip.media.name} reads back from {name} elsewhere than it was laid"
        # An edit list counts its sources as it counts itself: what counts otherwise cannot be told from it.
        as_here = clip.media.kind != PICTURE or (clip.media.label_rate, clip.media.drop) == (clock.fps, clock.drop)
        if as_here and abs(wrap_day(one.label - _label(clip), clock.day)) > 1 / clock.fps:
            return f"{clip.media.name} reads back from {name} with another part of it than was laid"
    return ""


def _label(clip: Clip) -> Fraction:
    """Return the file's own timecode where a clip begins, seconds; counted from zero where it has none."""
    return (clip.media.start or Fraction(0)) + clip.first


def _unit(clip: Clip, timeline: Timeline) -> Fraction:
    """Return the coarsest unit that a clip's begin can be written in, seconds."""
    return max(1 / clip.media.rate, 1 / timeline.fps) if clip.media.kind == PICTURE else 2 * _SAMPLE_S
