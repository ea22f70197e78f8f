"""A folder's files as the evidence that its solution rests on."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from fractions import Fraction

from vesk.core.day.day import Day, Device, HeardClap, Match, Named, Recorded, SeenClap
from vesk.core.day.evidence import has_ears, likely_seen, slate_of
from vesk.core.day.recording import Known, stem_of
from vesk.core.intake.devices import look_of
from vesk.core.kinds import PICTURE, Clock
from vesk.core.pairing.judgement import Claps
from vesk.core.timecode import FrameRate
from vesk.core.tolerance import Tolerance
from vesk.dailies.sync_points import CLEAR, LIKELY, SyncPoints


def day_of(
    known: Mapping[str, Known],
    heard: Mapping[str, SyncPoints],
    matches: Collection[Match],
    rate: FrameRate,
    late: Mapping[str, float],
    across: Collection[Match] = (),
) -> Day:
    """Return the evidence of a folder.

    Parameters
    ----------
    known : mapping of str to Known
    heard : mapping of str to SyncPoints
        Claps of recordings.
    matches : collection of Match
    rate : FrameRate
        The day's.
    late : mapping of str to float
        How late devices hear, seconds, by tag, as a person says.
    across : collection of Match
        Recordings of one kind, measured against each other.
    """
    own = [one for one in known.values() if not one.aside]
    kinds = {one.item.source: one.item.facts.kind for one in own}
    recorded = tuple(
        Recorded(
            one.item.key, one.item.source, one.item.facts.kind, *_clock(one),
            float(one.item.facts.duration), float(1 / (one.item.facts.fps or rate.fps)),
            look_of(stem_of(one.item.path), one.item.facts),
            slate_of(one.values["scene"].value, one.values["take"].value), has_ears(one.item.facts, one.item.heard),
        )
        for one in own
    )  # fmt: skip
    seen = [
        SeenClap(one.item.key, clap.low_s, clap.high_s, likely_seen(clap.likely, confirmed=False),
                 None if clap.heard_s is None else round(clap.heard_s * 1e6) / 1e6)
        for one in own
        for clap in heard.get(one.item.key, SyncPoints((), (), None)).seen
    ]  # fmt: skip
    claps = [
        HeardClap(one.item.key, round(clap.at_s * 1e6) / 1e6, clap.score)
        for one in own
        if one.item.facts.kind != PICTURE
        for clap in heard.get(one.item.key, SyncPoints((), (), None)).heard
        if clap.score >= LIKELY
    ]
    named = tuple(
        Named(one.item.key, marker.label, float(marker.at), float(marker.at), heard=True)
        for one in own
        for marker in one.item.facts.markers
        if marker.label
    )
    devices = tuple(
        Device(tag, kind, late.get(tag, 0.0), "somebody" if tag in late else "") for tag, kind in sorted(kinds.items())
    )
    return Day(
        devices, recorded, tuple(matches), tuple(seen), tuple(claps), named,
        across=tuple(across), tolerance_frames=float(Tolerance().frames), length=rate.day,
    )  # fmt: skip


def claps_of(picture: SyncPoints | None, sound: SyncPoints | None) -> Claps:
    """Return the claps of two recordings as their judgement takes them: seen in the one, heard by the other.

    Parameters
    ----------
    picture, sound : SyncPoints or None
    """
    seen = picture.seen if picture else ()
    sure = [one for one in seen if one.likely >= CLEAR]
    heard = [one for one in (sound.heard if sound else ()) if one.score >= LIKELY]
    return Claps(
        tuple((one.low_s, one.high_s, False) for one in sure),
        tuple(Fraction(round(one.at_s * 1e6), 1_000_000) for one in heard),
        unclear=max((one.likely for one in seen if one not in sure), default=0.0),
    )


def _clock(one: Known) -> tuple[Fraction | None, Clock | None]:
    """Return where a recording starts, and by which clock: the label of another day names no moment of this."""
    return (None, None) if one.start is None or one.other_day else (one.start, one.clock)
