"""What the page of a moment draws and plays from: plain values, every figure computed here."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from fractions import Fraction
from math import ceil
from typing import Any

from vesk.actions import light_copies
from vesk.actions.facts import facts_of
from vesk.actions.moments import Moment, Off, Strip, channels_of, chosen_first, scratch_channel
from vesk.core.kinds import PICTURE, SOUND, Decided, WorkState
from vesk.core.timecode import FrameRate
from vesk.core.timemap import AnyMap, pieces_of
from vesk.settings import Settings
from vesk.store import sync_points
from vesk.store.tables import Progress, RoughCutRow, SyncPointRow, WatchNote


def moment_state(
    moment: Moment,
    settings: Settings,
    marked: Mapping[int, Sequence[SyncPointRow]],
    works: Mapping[int, Progress],
) -> dict[str, Any]:
    """Return the state of a moment's page.

    Parameters
    ----------
    moment : Moment
    settings : Settings
        Where light copies lie.
    marked : mapping of int to SyncPointRow
        Sync points by recording.
    works : mapping of int to Progress
        The making of light copies, by recording.
    """
    tag, channel = chosen_first(moment)
    about = moment.strips[0]
    return {
        "day": moment.day.id,
        "about": moment.about.id,
        "seconds": float(about.row.duration),
        "start": None if moment.start is None else float(moment.start),
        "clock": _rate(moment.clock),
        "fps": float(facts_of(about.row).fps or moment.clock.fps),
        "first": {"tag": tag, "channel": channel},
        "pictures": [_picture(one, moment, settings, works) for one in moment.of(PICTURE)],
        "sounds": [_sound(one) for one in moment.of(SOUND)],
        "points": [point for strip in moment.strips for point in _points(strip, marked.get(strip.row.id, ()))],
    }


def noted_at(moment: Moment, row: WatchNote) -> Fraction | None:
    """Return where a note lies on a moment's axis; None where that is past its ends."""
    strip = next(one for one in moment.strips if one.row.id == row.recording_id)
    at = strip.laid.to_axis(Fraction(row.at_us, 1_000_000))
    return at if 0 <= at <= moment.about.duration else None


def cuts_state(row: RoughCutRow | None) -> dict[str, Any]:
    """Return a rough cut as the page lists it."""
    cut = row.cut if row is not None else None
    return {
        "version": row.id if row is not None else 0,
        "sound": cut.sound if cut else "",
        "list": [asdict(one) for one in cut.cuts] if cut else [],
    }


def _rate(clock: FrameRate) -> dict[str, Any]:
    return {"fps": float(clock.fps), "nominal": clock.nominal, "drop": clock.drop}


def _map(laid: AnyMap) -> list[list[float | None]]:
    """Return a map as the page reads it: from which own second on, offset, rate."""
    return [[None if low is None else float(low), float(one.offset), float(one.rate)] for low, _, one in
            pieces_of(laid)]  # fmt: skip


def _strip(strip: Strip) -> dict[str, Any]:
    return {
        "id": strip.row.id, "tag": strip.source.tag, "device": strip.source.name, "name": strip.row.name,
        "seconds": float(strip.row.duration), "map": _map(strip.laid.to_axis),
        "begins": float(strip.laid.begins), "ends": float(strip.laid.ends),
    }  # fmt: skip


def _picture(strip: Strip, moment: Moment, settings: Settings, works: Mapping[int, Progress]) -> dict[str, Any]:
    facts = facts_of(strip.row)
    start, rate = facts.start(moment.clock)
    fps = facts.fps or moment.clock.fps
    work = works.get(strip.row.id)
    light = (
        "ready" if light_copies.is_made(settings, strip.row)
        else "none" if not light_copies.can_be_made(strip.row)
        else "failed" if work is not None and work.state in {WorkState.FAILED, WorkState.STOPPED}
        else "making"
    )  # fmt: skip
    return {
        **_strip(strip),
        "fps": float(fps), "frames": facts.frames or 0, "rate": facts.sample_rate or 48_000,
        "off_speed": strip.row.off_speed,
        "label": None if start is None else {**_rate(rate), "frame": ceil(start * rate.fps - Fraction(1, 1000)),
                                             "each": float(rate.fps / fps)},
        "laid_by": "" if strip.laid.through or strip.row.id == moment.about.id else "its clock",
        "light": light, "problem": (work.problem or "it was stopped") if work is not None and light == "failed" else "",
        "percent": round(100 * work.done / work.total) if work is not None and work.total else 0,
        "scratch": scratch_channel(strip),
        "off": {str(off.now.sound.id): _off(off) for off in strip.off},
    }  # fmt: skip


def _off(off: Off) -> dict[str, Any]:
    now = off.now
    holds = bool(now.verdict and now.verdict.holds)
    return {
        "pairing": now.pairing.id, "version": now.pairing.version, "state": now.state, "at": off.at, "holds": holds,
        "verdict": now.verdict.text if now.verdict else "not measured yet",
        "slip": float(now.as_corrected.slip),
    }  # fmt: skip


def _sound(strip: Strip) -> dict[str, Any]:
    facts = facts_of(strip.row)
    return {
        **_strip(strip),
        "rate": facts.sample_rate,
        "channels": [{"number": number, "name": name} for number, name in channels_of(strip.row)],
    }


def _points(strip: Strip, rows: Sequence[SyncPointRow]) -> list[dict[str, Any]]:
    fps = facts_of(strip.row).fps
    made = []
    for row in rows:
        if row.state == Decided.REFUSED:
            continue
        seen = row.how == sync_points.SEEN and row.frame is not None and fps is not None
        own = float(row.frame / fps) if seen and row.frame and fps else (row.heard_us or 0) / 1e6
        made.append({
            "id": row.id, "version": row.version, "recording": strip.row.id, "tag": strip.source.tag,
            "kind": row.kind, "how": row.how, "name": row.name, "own": own, "frame": row.frame,
            "sure": row.state == Decided.CONFIRMED,
        })  # fmt: skip
    return made
