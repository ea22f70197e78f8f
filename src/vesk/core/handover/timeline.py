"""The day as a timeline: one track for each device, every recording at its place, exact.

Recorders run on, and pictures are laid on them: a picture begins on a whole frame of the timeline, its sound on a whole
sample of where that picture is. What that rounding, or two cameras of different phase, leave is kept with each clip.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from math import floor

from vesk.core.kinds import PICTURE, Kind
from vesk.core.timemap import AnyMap, pieces_of

_TOUCH_S = Fraction(1, 20)  # rounding to frames and samples lets clips reach over edges of others by less


@dataclass(frozen=True, slots=True)
class Media:
    """A file of the day that lies on a track.

    Attributes
    ----------
    key : str
    name, path : str
        The file's, and where it lies from the day's folder.
    tag : str
        Its device.
    kind : Kind
    start : Fraction or None
        Its own timecode, real seconds on its label clock; None without.
    duration : Fraction
        Seconds.
    rate : Fraction
        Frames, or samples, a second.
    label_rate, drop
        At which its labels count, and how.
    reel, scene, take : str
    channels : int
    apart : str
        Why it lies on a track of its own: off-speed, unpaired; empty for the others.
    kept : (int, int) or None
        Of a picture: which of its frames are shown, the second not any more; None: all.
    """

    key: str
    name: str
    path: str
    tag: str
    kind: Kind
    start: Fraction | None
    duration: Fraction
    rate: Fraction
    label_rate: Fraction
    drop: bool = False
    reel: str = ""
    scene: str = ""
    take: str = ""
    channels: int = 0
    apart: str = ""
    kept: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class Joined:
    """A picture and a sound that belong together: how the sound lies on the picture as it plays, seconds.

    `checked` says whether a person stated that it holds; `stretch` how many seconds the picture plays for one of its
    own, 1 unless it is the one that is retimed.
    """

    picture: str
    sound: str
    laid: AnyMap
    checked: bool
    stretch: Fraction = Fraction(1)


@dataclass(frozen=True, slots=True)
class Clip:
    """A part of a file on its track.

    Attributes
    ----------
    media : Media
    at : Fraction
        Where it begins, seconds from the timeline's start; a whole frame or sample.
    first : Fraction
        Where in the file it begins, seconds of the file; a whole frame or sample.
    count : int
        Frames or samples of the file that it shows.
    speed : Fraction
        Seconds of the file a second of the timeline: 1 unless its rate is corrected.
    off_s : float
        By how much it lies later than it should, for being whole: frames for pictures, samples for sounds.
    moment : int
        Which moment of the day it is of: clips that roll together have the same.
    """

    media: Media
    at: Fraction
    first: Fraction
    count: int
    speed: Fraction = Fraction(1)
    off_s: float = 0.0
    moment: int = 0

    @property
    def takes(self) -> Fraction:
        """Seconds that it takes on the timeline."""
        return self.count / self.media.rate / self.speed

    @property
    def ends(self) -> Fraction:
        """Where it ends, seconds from the timeline's start."""
        return self.at + self.takes


@dataclass(frozen=True, slots=True)
class Track:
    """The clips of one device in the order of time."""

    name: str
    kind: Kind
    clips: tuple[Clip, ...]


@dataclass(frozen=True, slots=True)
class Marker:
    """A sync point or a note: at which second of the timeline, its name, what is said."""

    at: Fraction
    name: str
    note: str = ""
    track: str = ""


@dataclass(frozen=True, slots=True)
class Timeline:
    """A day.

    Attributes
    ----------
    name : str
    fps : Fraction
    drop : bool
    start : Fraction
        Label of its first frame, real seconds on the label clock.
    tracks : tuple of Track
        Cameras first.
    markers : tuple of Marker
    """

    name: str
    fps: Fraction
    drop: bool
    start: Fraction
    tracks: tuple[Track, ...]
    markers: tuple[Marker, ...] = ()


def lay_day(media: Sequence[Media], joined: Sequence[Joined], placed: Mapping[str, Fraction]) -> dict[str, Fraction]:
    """Return where every recording begins on the day: recorders by their own clock, pictures as their sound wants.

    Parameters
    ----------
    media : sequence of Media
    joined : sequence of Joined
    placed : mapping of str to Fraction
        Where each would lie by itself, seconds; recordings that are not there and that nothing joins are left out.

    Returns
    -------
    dict of str to Fraction
        Seconds on the day's label clock, by key.
    """
    by_key = {one.key: one for one in media}
    links: dict[str, list[Joined]] = {}
    for link in joined:
        if link.picture in by_key and link.sound in by_key:
            links.setdefault(link.picture, []).append(link)
            links.setdefault(link.sound, []).append(link)
    ranks: dict[str, int] = {}
    for one in media:
        if one.kind != PICTURE:
            ranks[one.tag] = ranks.get(one.tag, 0) - len(links.get(one.key, ()))
    order = sorted(
        (one for one in media if one.key in placed),
        key=lambda one: (one.kind == PICTURE, ranks.get(one.tag, 0), one.tag, placed[one.key], one.path),
    )
    found: dict[str, Fraction] = {}
    for one in order:
        if one.key in found:
            continue
        found[one.key] = placed[one.key]
        queue = [one.key]
        for key in queue:
            for link in sorted(links.get(key, ()), key=lambda link: (not link.checked, link.picture, link.sound)):
                other = link.sound if key == link.picture else link.picture
                if other in found:
                    continue
                apart = _apart(link)
                found[other] = found[key] + (apart if key == link.picture else -apart)
                queue.append(other)
    return found


def _apart(link: Joined) -> Fraction:
    """Return how much later than the picture its sound begins, seconds, where both agree at the head."""
    head = max(Fraction(0), Fraction(link.laid.offset))
    return head - _sound_at(link.laid, head)


def _sound_at(laid: AnyMap, picture: Fraction) -> Fraction:
    """Return which second of the sound sounds at a picture time; before a jump where it is lost."""
    for low, _, piece in reversed(pieces_of(laid)):
        if low is None or piece(low) <= picture:
            return piece.inverse()(picture)
    return pieces_of(laid)[0][2].inverse()(picture)


def build(
    name: str,
    media: Sequence[Media],
    joined: Sequence[Joined],
    at: Mapping[str, Fraction],
    *,
    fps: Fraction,
    drop: bool,
    start: Fraction,
    order: Sequence[str] = (),
) -> Timeline:
    """Build the day's timeline.

    Parameters
    ----------
    name : str
    media, joined
    at : mapping of str to Fraction
        As `lay_day` returns it.
    fps, drop
        Of the timeline.
    start : Fraction
        Day's label of its first frame, seconds, a whole frame.
    order : sequence of str
        Tags, as their tracks shall lie.

    Returns
    -------
    Timeline
    """
    there = [one for one in media if one.key in at]
    pictures = {one.key: _picture_clip(one, at[one.key] - start, joined, fps) for one in there if one.kind == PICTURE}
    sounds: list[Clip] = []
    for one in there:
        if one.kind != PICTURE:
            own = [link for link in joined if link.sound == one.key and link.picture in pictures]
            sounds += _sound_clips(one, at[one.key] - start, own, pictures)
    clips = _with_moments([clip for clip in (*pictures.values(), *sounds) if clip.count])
    names: dict[str, None] = dict.fromkeys(order)
    tracks = []
    for one in there:
        names.setdefault(one.tag, None)
    for kind in (Kind.PICTURE, Kind.SOUND):
        for apart in ("", *sorted({one.apart for one in there if one.apart})):
            for tag in names:
                here = [c for c in clips if (c.media.tag, c.media.kind, c.media.apart) == (tag, kind, apart)]
                for number, lane in enumerate(_lanes(here)):
                    label = f"{tag} {apart}".strip() + (f" {number + 1}" if number else "")
                    tracks.append(Track(label, kind, tuple(lane)))
    return Timeline(name, fps, drop, start, tuple(tracks))


def _picture_clip(one: Media, at: Fraction, joined: Sequence[Joined], fps: Fraction) -> Clip:
    first, last = one.kept or (0, round(one.duration * one.rate))
    stretch = next((link.stretch for link in joined if link.picture == one.key and link.stretch != 1), Fraction(1))
    begins = Fraction(first) / one.rate
    at += begins * stretch
    whole = Fraction(floor(at * fps + Fraction(1, 2))) / fps
    return Clip(one, whole, begins, last - first, 1 / stretch, float(whole - at))


def _sound_clips(one: Media, at: Fraction, own: Sequence[Joined], pictures: Mapping[str, Clip]) -> list[Clip]:
    """Return a sound file as clips: under each picture as that wants it, and as recorded where no picture rolled."""
    total = round(one.duration * one.rate)
    free = [(0, total)]
    made: list[Clip] = []
    ordered = sorted(own, key=lambda link: (not link.checked, pictures[link.picture].at, link.picture))
    for link in ordered:
        picture = pictures[link.picture]
        shown = picture.count / picture.media.rate
        for low, high, piece in pieces_of(link.laid):
            back = piece.inverse()
            begin, end = back(picture.first * link.stretch), back((picture.first + shown) * link.stretch)
            begin = begin if low is None else max(begin, low)
            end = end if high is None else min(end, high)
            wanted = max(0, -floor(-begin * one.rate)), min(total, floor(end * one.rate))
            pieces, free = _cut(free, wanted)
            for first, stop in pieces:
                exact = picture.at + piece(Fraction(first) / one.rate) - picture.first * link.stretch
                whole = Fraction(floor(exact * one.rate + Fraction(1, 2))) / one.rate
                speed = Fraction(1) if link.stretch != 1 else 1 / piece.rate
                made.append(Clip(one, whole, first / one.rate, stop - first, speed, float(whole - exact)))
    for first, stop in free:
        exact = at + first / one.rate
        whole = Fraction(floor(exact * one.rate + Fraction(1, 2))) / one.rate
        made.append(Clip(one, whole, first / one.rate, stop - first, Fraction(1), float(whole - exact)))
    return _without_overlaps(sorted(made, key=lambda clip: clip.first))


def _cut(free: list[tuple[int, int]], wanted: tuple[int, int]) -> tuple[list[tuple[int, int]], list[tuple[int, int]]]:
    """Return what of a range is free, and what stays free when it is taken."""
    taken, left = [], []
    for low, high in free:
        begin, end = max(low, wanted[0]), min(high, wanted[1])
        if end <= begin:
            left.append((low, high))
            continue
        taken.append((begin, end))
        left += [(a, b) for a, b in ((low, begin), (end, high)) if b > a]
    return taken, left


def _without_overlaps(clips: list[Clip]) -> list[Clip]:
    """Shorten what is laid as recorded where it would run into what a picture wants: a device has one sound at once."""
    made: list[Clip] = []
    for clip in clips:
        if made and made[-1].ends > clip.at:
            last = made[-1]
            count = floor((clip.at - last.at) * last.speed * last.media.rate)
            made[-1] = Clip(last.media, last.at, last.first, max(0, count), last.speed, last.off_s)
        made.append(clip)
    return [clip for clip in made if clip.count > 0]


def _lanes(clips: list[Clip]) -> list[list[Clip]]:
    """Put clips that overlap onto further tracks: nothing is left out."""
    lanes: list[list[Clip]] = []
    for clip in sorted(clips, key=lambda one: (one.at, one.media.path)):
        lane = next((one for one in lanes if one[-1].ends <= clip.at), None)
        if lane is None:
            lanes.append([clip])
        else:
            lane.append(clip)
    return lanes


def _with_moments(clips: list[Clip]) -> list[Clip]:
    """Return clips with the moment of the day that each is of: pictures that roll together, and their sounds."""
    spans: list[tuple[Fraction, Fraction]] = []
    ordered = sorted(clips, key=lambda one: (one.at, one.media.path))
    for clip in ordered:
        if clip.media.kind == PICTURE:
            if spans and clip.at < spans[-1][1]:
                spans[-1] = spans[-1][0], max(spans[-1][1], clip.ends)
            else:
                spans.append((clip.at, clip.ends))

    begins, ends = [begin for begin, _ in spans], [end for _, end in spans]

    def number(clip: Clip) -> int:
        # A sound is cut where its picture ends before that is laid on a whole frame.
        at, until = clip.at, clip.ends
        met = range(bisect_right(ends, at), bisect_left(begins, until))
        most, which = max(((min(until, ends[n]) - max(at, begins[n]), -n) for n in met), default=(Fraction(0), 0))
        return 1 - which if most > min(_TOUCH_S, clip.takes / 2) else 0

    return [replace(clip, moment=number(clip)) for clip in ordered]
