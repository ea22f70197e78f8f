"""Edit lists: a device's track as events of reel, source and record timecode, in the form the trade reads everywhere.

Whole frames are all that the form can hold: what it cannot is said in comments, exact.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from fractions import Fraction
from math import floor

from vesk.core.handover.timeline import Clip, Timeline, Track
from vesk.core.kinds import PICTURE
from vesk.core.timecode import FrameRate, Timecode

_UNFIT = re.compile(r"[^A-Z0-9_-]+")
_REEL = 32
_MOST_EVENTS = 999


def edit_lists(timeline: Timeline, track: Track) -> list[str]:
    """Return one track as edit lists: one, or more where it has more events than a list can number.

    Parameters
    ----------
    timeline : Timeline
    track : Track
        One of its tracks.
    """
    clips = track.clips
    return [
        _edit_list(timeline, track, clips[first : first + _MOST_EVENTS])
        for first in range(0, max(1, len(clips)), _MOST_EVENTS)
    ]


def _edit_list(timeline: Timeline, track: Track, clips: Sequence[Clip]) -> str:
    clock = FrameRate(timeline.fps, timeline.drop)
    lines = [f"TITLE: {_line(timeline.name)} {_line(track.name)}"]
    lines.append(f"FCM: {'DROP FRAME' if timeline.drop else 'NON-DROP FRAME'}")
    for number, clip in enumerate(clips, 1):
        lines += ["", *_event(number, clip, timeline, clock)]
    return "\n".join(lines) + "\n"


def _event(number: int, clip: Clip, timeline: Timeline, clock: FrameRate) -> list[str]:
    media = clip.media
    fps = timeline.fps
    begins = floor(clip.at * fps + Fraction(1, 2))
    length = max(1, round(clip.takes * fps))
    record = floor(timeline.start * fps + Fraction(1, 2)) + begins
    own = clock if media.kind != PICTURE else FrameRate(media.label_rate, media.drop)
    first = floor(((media.start or Fraction(0)) + clip.first) * own.fps)
    shown = length if media.kind != PICTURE else clip.count
    source = [_label(first, own), _label(first + shown, own)]
    lies = [_label(record, clock), _label(record + length, clock)]
    channel = "V" if media.kind == PICTURE else "AA" if media.channels == 2 else "A"
    event = f"{number:03}  {reel_of(clip)}  {channel:<4}  C        {' '.join((*source, *lies))}"
    said = [event, f"* FROM CLIP NAME: {_line(media.name)}", f"* SOURCE FILE: {_line(media.path)}"]
    if media.scene:
        said.append(f"* SCENE: {_line(media.scene)} TAKE: {_line(media.take)}")
    if media.start is None:
        said.append("* SOURCE HAS NO TIMECODE: COUNTED FROM ZERO")
    said += _exact(clip, first, begins, own, fps)
    return said


def _exact(clip: Clip, first: int, begins: int, own: FrameRate, fps: Fraction) -> list[str]:
    """Return in comments what whole frames cannot hold."""
    said = []
    media = clip.media
    within = ((media.start or Fraction(0)) + clip.first) * own.fps - first
    late = clip.at * fps - begins
    if media.kind != PICTURE:
        said.append(f"* SOURCE SAMPLE: {round(clip.first * media.rate)} OF {media.rate} HZ")
    if within:
        said.append(f"* SOURCE BEGINS {float(within):+.4f} FRAMES AFTER ITS LABEL")
    if late or clip.off_s:
        said.append(f"* RECORD BEGINS {float(late) - clip.off_s * float(fps):+.4f} FRAMES AFTER ITS LABEL")
    if clip.speed != 1:
        said.append(f"* RATE: {clip.speed.numerator}/{clip.speed.denominator}")
    return said


def _label(frame: int, clock: FrameRate) -> str:
    return str(Timecode(frame % clock.frames_per_day, clock))


def reel_of(clip: Clip) -> str:
    """Return the reel that an event names: the file's, else its name, in the letters that reels may have."""
    named = clip.media.reel or clip.media.name.rsplit(".", 1)[0]
    return _UNFIT.sub("_", named.upper()).strip("_")[:_REEL] or "AX"


def _line(text: str) -> str:
    """Return a text as one line that no reader takes for an event."""
    return " ".join(text.split())
