"""A rough cut of a moment: which camera from where to where, in frames of the day. Each act gives a new one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from fractions import Fraction
from math import ceil, floor

from vesk.core.errors import RefusedError
from vesk.core.handover.timeline import Clip, Media, Timeline, Track
from vesk.core.kinds import Kind
from vesk.core.plain import Plain
from vesk.core.timemap import AnyMap, inverted, pieces_of


class Takes(StrEnum):
    """What a cut takes of its camera; what it does not take goes on as it was."""

    PICTURE = "picture"
    SOUND = "sound"
    BOTH = "both"


class Edge(StrEnum):
    """Which end of a cut is trimmed."""

    FIRST = "first"
    LAST = "last"


@dataclass(frozen=True, slots=True)
class Cut:
    """A camera from a frame of the day to another, which is not shown any more."""

    camera: str
    first: int
    last: int
    takes: Takes = Takes.PICTURE


@dataclass(frozen=True, slots=True)
class RoughCut:
    """Cuts in the order of time, one after the other, and the sound that stays."""

    cuts: tuple[Cut, ...] = ()
    sound: str = ""

    def taken(self, camera: str, at: int, last: int) -> RoughCut:
        """Return it with a camera taken from a frame on: up to where the one before was to end.

        Parameters
        ----------
        camera : str
        at : int
            Frame of the day.
        last : int
            Where the moment ends: the first cut goes on to there.
        """
        before = [cut if cut.last <= at else replace(cut, last=at) for cut in self.cuts if cut.first < at]
        after = [cut for cut in self.cuts if cut.first > at]
        here = next((cut for cut in self.cuts if cut.first <= at < cut.last), None)
        ends = here.last if here else after[0].first if after else last
        if ends <= at:
            raise RefusedError("Nothing is left to show after here.")
        if before and before[-1].camera == camera and before[-1].last == at:
            before[-1] = replace(before[-1], last=ends)  # it is shown already: nothing is cut
            return replace(self, cuts=(*before, *after))
        return replace(self, cuts=(*before, Cut(camera, at, ends), *after))

    def trimmed(self, index: int, edge: Edge, frames: int) -> RoughCut:
        """Return it with one end of a cut later by frames; where it meets another, that one gives way.

        Raises
        ------
        RefusedError
            If there is no such cut, or nothing would be left of one of the two.
        """
        cuts = list(self.cuts)
        own = self._cut(index)
        there = getattr(own, edge) + frames
        cuts[index] = replace(own, **{str(edge): there})
        other = index + (1 if edge == Edge.LAST else -1)
        met = getattr(own, edge)
        if 0 <= other < len(cuts):
            meets = cuts[other].first if edge == Edge.LAST else cuts[other].last
            crossed = there > meets if edge == Edge.LAST else there < meets
            if meets == met or crossed:
                cuts[other] = replace(cuts[other], **{"first" if edge == Edge.LAST else "last": there})
        if any(cut.last <= cut.first for cut in cuts):
            raise RefusedError("Nothing would be left of that cut: undo it instead.")
        return replace(self, cuts=tuple(cuts))

    def taking(self, index: int, takes: Takes) -> RoughCut:
        """Return it with what a cut takes."""
        cuts = list(self.cuts)
        cuts[index] = replace(self._cut(index), takes=takes)
        return replace(self, cuts=tuple(cuts))

    def _cut(self, index: int) -> Cut:
        if not 0 <= index < len(self.cuts):
            raise RefusedError("That cut is not here any more.")
        return self.cuts[index]


ROUGH_CUT = Plain(RoughCut)


@dataclass(frozen=True, slots=True)
class Lying:
    """A file of a moment and where it lies: its own seconds to seconds of the day's label clock."""

    media: Media
    on_day: AnyMap


def as_timeline(name: str, cut: RoughCut, lying: Sequence[Lying], *, fps: Fraction, drop: bool) -> Timeline:
    """Return a rough cut as a timeline that begins with its first frame: one track of pictures, one of sound.

    Parameters
    ----------
    name : str
    cut : RoughCut
    lying : sequence of Lying
        Every file of the moment.
    fps, drop
        Of the day.

    Raises
    ------
    RefusedError
        If nothing was cut.
    """
    if not cut.cuts:
        raise RefusedError("Nothing is cut yet.")
    first = cut.cuts[0].first
    start = Fraction(first) / fps
    pictures: list[Clip] = []
    sounds: list[Clip] = []
    shown, heard = "", cut.sound
    for one in cut.cuts:
        shown = one.camera if one.takes != Takes.SOUND or not shown else shown
        heard = one.camera if one.takes != Takes.PICTURE else heard
        low, high = Fraction(one.first) / fps, Fraction(one.last) / fps
        pictures += _clips(lying, shown, Kind.PICTURE, low, high, start, fps)
        sounds += _clips(lying, heard, None, low, high, start, fps)
    tracks = (
        Track("rough cut", Kind.PICTURE, tuple(_joined(pictures))),
        Track("sound", Kind.SOUND, tuple(_joined(sounds))),
    )
    return Timeline(name, fps, drop, start, tracks)


def _clips(
    lying: Sequence[Lying], tag: str, kind: Kind | None, low: Fraction, high: Fraction, start: Fraction, fps: Fraction
) -> list[Clip]:
    """Return a device's files between two times of the day: whole frames of pictures, whole samples of sounds."""
    made = []
    for one in lying:
        if one.media.tag != tag or (kind is not None and one.media.kind != kind):
            continue
        rate = one.media.rate
        # Where a file begins or ends within a cut: the first whole frame of the day, or sample, that it covers.
        grid = rate if one.media.kind != Kind.PICTURE else fps
        begins = max(low, Fraction(ceil(one.on_day(Fraction(0)) * grid), 1) / grid)
        ends = min(high, one.on_day(one.media.duration))
        if ends <= begins:
            continue
        own = inverted(one.on_day)(begins)
        number = max(0, floor(own * rate + Fraction(1, 10_000)))
        speed = 1 / pieces_of(one.on_day)[0][2].rate
        count = min(round(one.media.duration * rate) - number, round((ends - begins) * rate))
        if count > 0:
            at = begins - start
            off = float(at - (one.on_day(Fraction(number) / rate) - start))
            same = abs(speed - 1) < Fraction(1, 1000)  # what drifts by ppm plays as it is, frame for frame
            made.append(Clip(one.media, at, Fraction(number) / rate, count, Fraction(1) if same else speed, off))
    return made


def _joined(clips: Sequence[Clip]) -> list[Clip]:
    """Return clips with those made one that go on in the same file without a break."""
    made: list[Clip] = []
    for clip in clips:
        last = made[-1] if made else None
        rate = clip.media.rate
        if (last is not None and last.media == clip.media and last.ends == clip.at
                and abs(last.first + last.count / rate - clip.first) * rate <= 1):  # fmt: skip
            made[-1] = replace(last, count=last.count + clip.count)
        else:
            made.append(clip)
    return made
