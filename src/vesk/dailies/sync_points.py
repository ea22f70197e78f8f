"""Claps and tones of a recording: heard on its sound, and claps seen in its picture around them."""

from __future__ import annotations

from dataclasses import dataclass

from vesk.core.clocks.sound_delay import ClapPair, SoundDelay, sound_delay
from vesk.core.errors import MediaError
from vesk.core.kinds import CLAP, PICTURE
from vesk.core.picture.closure import find_closure
from vesk.core.progress import OnProgress, unwatched
from vesk.core.sound.sync_points import SyncPoint, find_sync_points
from vesk.dailies.located import Located
from vesk.media import cache
from vesk.media.guarded import tell

LIKELY = 0.3  # a clap heard this like one is worth a line
CLEAR = 0.8  # how likely a clap seen must be to be believed before a person looked
_WORTH = 0.1  # and to be proposed where none was heard; beside one that was, a person chooses among its frames
AROUND_FRAMES = 14
_SCAN_S = 8.0


@dataclass(frozen=True, slots=True)
class Seen:
    """A clap seen: the first frame that shows it closed, between which picture times contact was, how likely."""

    frame: int
    low_s: float
    high_s: float
    likely: float
    heard_s: float | None


@dataclass(frozen=True, slots=True)
class SyncPoints:
    """What a recording holds of sync points."""

    heard: tuple[SyncPoint, ...]
    seen: tuple[Seen, ...]
    delay: SoundDelay | None


def sync_points_of(
    one: Located, *, most: int = 8, looked_at: int = 3, on_progress: OnProgress = unwatched
) -> SyncPoints:
    """Find the claps of a recording; pictures are looked at around the likeliest that were heard.

    A camera without sound is scanned at its head and tail instead.
    """
    heard: list[SyncPoint] = []
    channels: tuple[int, ...] = ()
    if one.facts.channels:
        one.ensure_heard()
        channels = cache.matching_channels(one.facts, one.entry)
        for number, channel in enumerate(channels):
            on_progress(number, len(channels) + 1)
            hearing = cache.hearing(one.entry, channel)
            heard += find_sync_points(hearing.window(0, hearing.size), most=most)
        heard = sorted(heard, key=lambda sync_point: -sync_point.score)
        heard = [s for n, s in enumerate(heard) if all(abs(s.at_s - o.at_s) > 0.05 for o in heard[:n])][:most]
    on_progress(len(channels), len(channels) + 1)
    seen = tuple(_seen(one, heard, looked_at)) if one.facts.kind == PICTURE else ()
    pairs = [
        ClapPair(found.heard_s, found.low_s, found.high_s)
        for found in seen
        if found.heard_s is not None and found.likely >= CLEAR
    ]
    return SyncPoints(tuple(heard), seen, sound_delay(pairs))


def look_for_sync_points(one: Located) -> SyncPoints:
    """Find a recording's claps, as a process of its own is asked to."""
    return sync_points_of(one, on_progress=tell)


def _seen(one: Located, heard: list[SyncPoint], looked_at: int) -> list[Seen]:
    fps, frames = float(one.facts.fps or 25), one.facts.frames or 0
    places: list[tuple[int, int, float | None]]
    claps = [sync_point for sync_point in heard if sync_point.kind == CLAP and sync_point.score >= LIKELY][:looked_at]
    if claps:
        places = [(max(0, round(c.at_s * fps) - AROUND_FRAMES), 2 * AROUND_FRAMES + 1, c.at_s) for c in claps]
    else:
        scan = int(_SCAN_S * fps)
        # Head and tail; where they meet it is one stretch, or a clap between them would be found twice.
        places = [(0, scan, None), (frames - scan, scan, None)] if frames > 2 * scan else [(0, frames, None)]
    found: list[Seen] = []
    for first, count, at in places:
        try:
            closure = find_closure(one.grey_frames(first, count))
        except MediaError:
            break  # it has no picture that can be looked at; what was heard stands
        if closure is None or (at is None and closure.likely < _WORTH):
            continue
        if all(abs(first + closure.frame - seen.frame) > 1 for seen in found):
            low, high = closure.contact_s(fps, first)
            found.append(Seen(first + closure.frame, low, high, closure.likely, at))
    return found
