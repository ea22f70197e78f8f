"""Pairing by timecode: which recordings' labels overlap, exactly.

The timecode label of a camera is true to one frame; a time reference to one sample of the
recorder's own clock. Both are laid on the day's label clock, so that machines
jammed together meet whatever rate each of them counts at.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from vesk.core.kinds import PICTURE, SOUND, Kind
from vesk.core.timecode import FrameRate, Timecode, relabel, wrap_day

MIN_OVERLAP = Fraction(1, 2)  # seconds: less than this is a brush at the edge, not a pairing


@dataclass(frozen=True, slots=True)
class Span:
    """A recording on the label clock.

    Attributes
    ----------
    key : str
        Names the recording to the caller.
    name, source : str
        For sentences: the file's name and its source's tag.
    kind : str
        `PICTURE` or `SOUND`.
    start : Fraction or None
        Real seconds after label midnight, counted at `rate`; None without timecode.
    rate : FrameRate
        The rate `start` was counted at.
    duration : Fraction
        Seconds.
    mute : bool
        Whether no sound can say that a partner is none.
    other_day : str
        When it was made, where that is another day than this; empty else.
    """

    key: str
    name: str
    source: str
    kind: Kind
    start: Fraction | None
    rate: FrameRate
    duration: Fraction
    mute: bool = False
    other_day: str = ""

    def start_on(self, day: FrameRate) -> Fraction | None:
        """Return the start on the day's label clock, seconds."""
        return None if self.start is None else relabel(self.start, self.rate, day)


@dataclass(frozen=True, slots=True)
class Proposal:
    """A pairing that timecode proposes.

    Attributes
    ----------
    picture, sound : str
        Keys of the two spans.
    offset : Fraction
        Picture time of sound sample 0, seconds, exact.
    overlap : Fraction
        Seconds in common.
    """

    picture: str
    sound: str
    offset: Fraction
    overlap: Fraction


@dataclass(frozen=True, slots=True)
class Unpaired:
    """A recording without a partner, and why."""

    key: str
    reason: str


def overlap_of(offset: Fraction, picture: Fraction, sound: Fraction) -> Fraction:
    """Return the seconds that a picture and a sound lying at `offset` share; not above 0 when none."""
    return min(picture, offset + sound) - max(Fraction(0), offset)


def pair_by_timecode(spans: Sequence[Span], day: FrameRate) -> tuple[list[Proposal], list[Unpaired]]:
    """Propose every pairing whose labels overlap; say of every other recording why it has none.

    Parameters
    ----------
    spans : sequence of Span
        The recordings of one day; keys unique.
    day : FrameRate
        The day's label clock.

    Returns
    -------
    proposals : list of Proposal
        By picture, then by offset. A recording may appear in several.
    unpaired : list of Unpaired
        In the order of `spans`.
    """
    pictures = [span for span in spans if span.kind == PICTURE]
    sounds = [span for span in spans if span.kind == SOUND]
    starts = {span.key: span.start_on(day) for span in spans}
    rough = {key: None if start is None else float(start) for key, start in starts.items()}
    whole = float(day.day)
    proposals: list[Proposal] = []
    for picture in pictures:
        p = starts[picture.key]
        if p is None:
            continue
        own = []
        for sound in sounds:
            s = starts[sound.key]
            if s is None or _far_off(rough[picture.key], rough[sound.key], picture, sound, whole):
                continue
            if picture.other_day != sound.other_day and (picture.mute or sound.mute):
                continue
            offset = wrap_day(s - p, day.day)
            overlap = overlap_of(offset, picture.duration, sound.duration)
            if overlap >= MIN_OVERLAP:
                own.append(Proposal(picture.key, sound.key, offset, overlap))
        proposals += sorted(own, key=lambda proposal: proposal.offset)
    paired = {p.picture for p in proposals} | {p.sound for p in proposals}
    unpaired = [
        Unpaired(span.key, _why(span, sounds if span.kind == PICTURE else pictures, starts, day))
        for span in spans
        if span.key not in paired
    ]
    return proposals, unpaired


def _far_off(p: float | None, s: float | None, picture: Span, sound: Span, whole: float) -> bool:
    """Say whether two spans are seconds apart: told in floats, so that only what is near is reckoned exactly."""
    if p is None or s is None:
        return True
    away = (s - p + whole / 2) % whole - whole / 2
    return away > float(picture.duration) + 1 or away < -float(sound.duration) - 1


def _clock(seconds: Fraction, rate: FrameRate) -> str:
    return str(Timecode.at(seconds, rate))


def _why(span: Span, others: Sequence[Span], starts: dict[str, Fraction | None], day: FrameRate) -> str:
    start = starts[span.key]
    partners = "recorder" if span.kind == PICTURE else "camera"
    if start is None:
        return "it carries no timecode, so timecode cannot place it"
    reach = f"{_clock(start, day)} to {_clock(start + span.duration, day)}"
    timed = [(other, starts[other.key]) for other in others]
    whole, own_start = float(day.day), float(start)
    nearest, least = None, float("inf")
    for other, other_start in timed:
        if other_start is not None:
            away = (float(other_start) - own_start + whole / 2) % whole - whole / 2
            apart = max(0.0, away) - min(float(span.duration), away + float(other.duration))
            if apart < least:
                nearest, least = other, apart
    if nearest is None:
        return f"no {partners} has timecode to compare with"
    offset = wrap_day((starts[nearest.key] or Fraction(0)) - start, day.day)
    gap = -overlap_of(offset, span.duration, nearest.duration)
    if gap < 0:
        return f"{nearest.source} · {nearest.name} touches it for only {float(-gap):.2f} s"
    side = "after" if offset > 0 else "before"
    wild = " (wild track?)" if span.kind == SOUND else ""
    return (
        f"no {partners} was rolling {reach}; the nearest, {nearest.source} · {nearest.name}, "
        f"lies {_long(gap)} {side}{wild}"
    )


def _long(seconds: Fraction) -> str:
    value = float(seconds)
    if value < 90:
        return f"{value:.1f} s"
    if value < 5400:
        return f"{value / 60:.0f} min"
    return f"{value / 3600:.1f} h"
