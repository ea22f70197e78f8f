"""The packets of a movie's picture: which there are, which part can be decoded by itself, whether two have the same."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import zip_longest
from pathlib import Path
from typing import Any

import numpy as np

from vesk.core.errors import MediaError
from vesk.media.movie import numbering, opened, picture_of, shown_frames

_SAME_S = Fraction(1, 1000)  # a coarse container counts milliseconds


def packets_of(container: Any, picture: Any, streams: Sequence[Any] = ()) -> Iterator[Any]:
    """Yield the packets of streams, of the picture alone without any, each with when it is decoded.

    Some containers leave that out for the first of a picture whose frames are shown in another order: it is counted
    back from the first that has it.
    """
    waiting: list[Any] = []
    for packet in container.demux(streams or [picture]):
        if not packet.size:
            continue  # the last, without data
        if packet.stream.index != picture.index:
            yield packet
        elif packet.dts is None:
            waiting.append(packet)
        else:
            step = packet.duration or 1
            for before, one in enumerate(reversed(waiting), 1):
                one.dts = packet.dts - before * step
            yield from waiting
            waiting.clear()
            yield packet
    shown = sorted(one.pts for one in waiting if one.pts is not None)
    late = max((at - one.pts for at, one in zip(shown, waiting, strict=False) if one.pts is not None), default=0)
    for at, one in zip(shown, waiting, strict=False):  # none had it: in the order they are shown, early enough for all
        one.dts = at - late
        yield one


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a picture that can be decoded by itself, in its own ticks.

    Attributes
    ----------
    lead : int
        When the packet is shown from which on it can be decoded.
    begin, end : int
        When its first frame begins, and before when all are shown.
    frames : int
        How many it shows: a few more than were asked for where the last depend on later ones.
    held : int
        How its first packet is stamped: before `begin` where that frame was lost, and the one before is shown longer.
    """

    lead: int
    begin: int
    end: int
    frames: int
    held: int

    def at(self, stamp: int) -> int:
        """Return when a packet is shown that is stamped so, counted from where the part begins.

        Players leave out what begins before an edit does: one that is held into the part begins with it.
        """
        return 0 if stamp == self.held else stamp - self.begin


def leans(part: Part) -> bool:
    """Say whether a part's first frame is decoded from one before it."""
    return part.lead != part.held


def trimmed(source: Path) -> bool:
    """Say whether a movie's edit list leaves out some of its frames.

    Raises
    ------
    MediaError
        If it cannot be read.
    """
    with opened(source) as container:
        video = picture_of(container)
        return shown_frames(video) != int(video.frames)


def part_of(source: Path, kept: tuple[int, int] | None) -> Part:
    """Return the part of a movie's picture that holds some frames and can be decoded by itself.

    Parameters
    ----------
    source : Path
    kept : (int, int) or None
        From which frame, from 0, to before which; None: all that it shows.

    Raises
    ------
    MediaError
        If it cannot be read, or has no such frames.
    """
    with opened(source) as container:
        video = picture_of(container)
        base, scale = numbering(video)
        packets = [
            (one.dts if one.pts is None else one.pts, bool(one.is_keyframe), one.duration or 1, bool(one.is_discard))
            for one in packets_of(container, video)
        ]
    shown = sorted(at for at, _, _, _ in packets)
    # Counted by their stamps, as everywhere: a picture that lost frames has fewer packets than numbers.
    numbers = np.rint((np.array(shown, np.float64) - base) * scale).astype(int)
    if kept is None:
        kept = 0, round((max(at for at, _, _, hidden in packets if not hidden) - base) * scale) + 1
    if not 0 <= kept[0] < kept[1] <= numbers[-1] + 1:
        raise MediaError(source, f"it has no frames {kept[0]} to {kept[1]}", "Take the folder in again.")
    first = max(0, int(np.searchsorted(numbers, kept[0], "right")) - 1)
    until = int(np.searchsorted(numbers, kept[1]))
    begin = shown[first] if numbers[first] == kept[0] else base + round(kept[0] / scale)
    lead = max((at for at, key, _, _ in packets if key and at <= shown[first]), default=shown[0])
    # In the order they lie in: what is shown by then is whole once nothing later was needed for it.
    last, seen = until, 0
    latest = lead
    for at, _, _, _ in packets[next(n for n, one in enumerate(packets) if one[0] == lead) :]:
        if at < lead:
            continue  # it leans on what lies before
        seen, latest = seen + 1, max(latest, at)
        whole = shown.index(lead) + seen
        if whole >= until and latest == shown[whole - 1]:
            last = whole
            break
    else:
        last = len(shown)
    after = shown[last] if last < len(shown) else shown[-1] + max(one[2] for one in packets)
    if last == until:
        end = min(after, max(shown[last - 1] + 1, base + round(kept[1] / scale)))
        return Part(lead, begin, end, kept[1] - kept[0], shown[first])
    more = int(numbers[last] if last < len(shown) else numbers[-1] + 1)
    return Part(lead, begin, after, more - kept[0], shown[first])


def picture_packets(path: Path) -> Iterator[tuple[Fraction, bytes]]:
    """Return a movie's picture packets: when each is shown, seconds, and its bytes.

    Raises
    ------
    MediaError
        If it cannot be read.
    """
    with opened(path) as container:
        for packet in packets_of(container, picture_of(container)):
            at = packet.dts if packet.pts is None else packet.pts
            yield at * packet.time_base, bytes(packet)


def same_part(original: Path, made: Path, kept: tuple[int, int] | None, stretch: Fraction = Fraction(1)) -> bool:
    """Say whether a movie holds the packets of a part of another, its first frame kept shown at zero.

    Parameters
    ----------
    original, made : Path
    kept : (int, int) or None
        As it was asked for.
    stretch : Fraction
        As `copy_movie` has it.
    """
    part = part_of(original, kept)
    with opened(original) as container:
        base = picture_of(container).time_base
    wanted = [
        (part.at(round(at / base)) * base * stretch, content)
        for at, content in picture_packets(original)
        if part.lead * base <= at < part.end * base
    ]
    found = list(picture_packets(made))
    if len(wanted) != len(found):
        return False
    return all(
        mine[1] == theirs[1] and abs(mine[0] - theirs[0]) <= _SAME_S for mine, theirs in zip(wanted, found, strict=True)
    )


def same_picture(one: Path, other: Path, stretch: Fraction = Fraction(1)) -> bool:
    """Say whether two movies show the very same packets at the same times, the second stretched as `copy_movie` has it.

    Containers count in ticks of their own: times are the same within a fraction of a millisecond. Of one whose edit
    list leaves frames out, those that are shown are meant.
    """
    if trimmed(one):
        return same_part(one, other, None, stretch)
    begins: tuple[Fraction, Fraction] | None = None
    for mine, theirs in zip_longest(picture_packets(one), picture_packets(other)):
        if mine is None or theirs is None or mine[1] != theirs[1]:
            return False
        begins = begins or (mine[0], theirs[0])
        if abs((mine[0] - begins[0]) * stretch - (theirs[0] - begins[1])) > _SAME_S:
            return False
    return begins is not None
