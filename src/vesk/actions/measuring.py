"""Measure one recording against another by sound."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from vesk.actions.located import Located
from vesk.core.sound.measure import measure
from vesk.core.sound.measurement import MATCHED, Line, Measurement, TracePoint, refused
from vesk.media import cache


def measure_by_sound(picture: Located, sound: Located, *, proposal_s: float | None = None) -> Measurement:
    """Measure a recorder's sound against a camera's scratch.

    Each pair of channels is tried until one matches; the last refusal is returned otherwise.
    """
    for one in (picture, sound):
        if not one.facts.channels:
            what = "the camera recorded no scratch sound" if one is picture else "the file has no sound"
            return refused(what)
        one.ensure_heard()
    result: Measurement | None = None
    for scratch in cache.matching_channels(picture.facts):
        heard = cache.hearing(picture.kept, scratch)
        for channel in cache.matching_channels(sound.facts):
            found = measure(heard, cache.hearing(sound.kept, channel), proposal_s=proposal_s, channel=channel)
            if found.decision == MATCHED:
                return found
            result = result if result is not None and result.line is not None else found
    return result if result is not None else refused("there is no channel to compare")


def to_json(found: Measurement) -> dict[str, Any]:
    """Return plain JSON values; the trace as rows of ``[at_s, offset_s, weight, agrees]``."""
    values = asdict(found)
    values["trace"] = [
        [round(point.at_s, 4), round(point.offset_s, 9), round(point.weight, 3), point.agrees] for point in found.trace
    ]
    return values


def from_json(values: Mapping[str, Any]) -> Measurement:
    """Rebuild from `to_json`."""
    kept = dict(values)
    kept["line"] = Line(**kept["line"]) if kept.get("line") else None
    kept["trace"] = tuple(TracePoint(*row) for row in kept.get("trace", ()))
    kept["windows"] = tuple(kept.get("windows", ()))
    return Measurement(**kept)
