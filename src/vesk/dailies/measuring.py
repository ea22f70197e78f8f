"""Measure one recording against another by sound."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, replace
from typing import Any

from vesk.core.sound.measure import measure_channels
from vesk.core.sound.measurement import MATCHED, Heard, Jump, Line, Measurement, Rival, TracePoint, refused
from vesk.dailies.located import Located
from vesk.media import cache


def measure_by_sound(
    picture: Located, sound: Located, *, proposal_s: float | None = None, channels: tuple[int, int] | None = None
) -> Measurement:
    """Measure a recorder's sound against a camera's scratch: any channels of either, the best pair decides.

    `channels` (of picture and sound) asks for one pair alone, as when a delivery is measured again:
    another microphone stands elsewhere and would tell another distance.
    """
    for one in (picture, sound):
        if not one.facts.channels:
            what = "the camera recorded no scratch sound" if one is picture else "the file has no sound"
            return refused(what)
        one.ensure_heard()
    wanted = channels or (None, None)
    own = [
        cache.matching_channels(one.facts, one.kept) if only is None else (only,)
        for one, only in zip((picture, sound), wanted, strict=True)
    ]
    for one, listed in zip((picture, sound), own, strict=True):
        if not listed:
            return refused(f"the only sound in {one.path.name} is timecode")
    lists = [
        [cache.hearing(one.kept, channel) for channel in listed]
        for one, listed in zip((picture, sound), own, strict=True)
    ]
    found = measure_channels(*lists, proposal_s=proposal_s)
    # The engine counts what it was given; timecode's channel was not.
    return replace(
        found, picture_channel=own[0][found.picture_channel], channel=own[1][found.channel],
        others=tuple(replace(other, channel=own[1][other.channel]) for other in found.others),
    )  # fmt: skip


_SAME_S = 0.1  # microphones thirty metres apart


def same_moment(one: Located, other: Located, offset_s: float) -> bool:
    """Say whether two recordings of one kind heard the same moments: they match each other, and just there."""
    found = measure_by_sound(one, other, proposal_s=offset_s)
    return found.decision == MATCHED and found.line is not None and abs(found.line.at_middle_s - offset_s) < _SAME_S


def to_json(found: Measurement) -> dict[str, Any]:
    """Return plain JSON values; the trace as rows of ``[at_s, offset_s, weight, agrees]``."""
    values = asdict(found)
    values["trace"] = [
        [round(point.at_s, 4), round(point.offset_s, 9), round(point.weight, 3), point.agrees] for point in found.trace
    ]
    return values


def from_json(values: Mapping[str, Any]) -> Measurement:
    """Rebuild from `to_json`; what an older version did not write is left at its default."""
    kept = dict(values)
    if kept.get("line"):
        line = dict(kept["line"])
        line["jumps"] = tuple(Jump(**jump) for jump in line.get("jumps", ()))
        line["covariance"] = tuple(tuple(row) for row in line.get("covariance", ()))
        line["places"] = tuple(tuple(row) for row in line.get("places", ()))
        kept["line"] = Line(**line)
    else:
        kept["line"] = None
    kept["trace"] = tuple(TracePoint(*row) for row in kept.get("trace", ()))
    kept["windows"] = tuple(kept.get("windows", ()))
    kept["candidates"] = tuple(Rival(**one) for one in kept.get("candidates", ()))
    kept["others"] = tuple(Heard(**one) for one in kept.get("others", ()))
    return Measurement(**kept)
