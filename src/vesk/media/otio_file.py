"""The day's timeline as OpenTimelineIO JSON (the library's own form), and clips read back from one.

The library's rates are floats: times are whole frames or samples, which they hold exactly; what is exact beyond that
stands in each clip's metadata as ``num/den``.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from fractions import Fraction
from math import floor
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote

import opentimelineio as otio

from vesk.core.errors import MediaError
from vesk.core.handover.read_back import ReadClip
from vesk.core.handover.timeline import Clip, Timeline
from vesk.core.kinds import PICTURE
from vesk.core.timecode import nearest_rate
from vesk.media.whole import written_whole

_MOST_BYTES = 64 << 20


def write_otio(timeline: Timeline, target: Path, *, originals: str, copied: Collection[str] = ()) -> None:
    """Write a timeline.

    Parameters
    ----------
    timeline : Timeline
    target : Path
        Written whole or not at all.
    originals : str
        Where the day's files lie as seen from the folder of `target`, ``/`` between folders; empty: beside it.
    copied : collection of str
        Paths of those that lie in a folder ``originals`` beside it.
    """
    _write(_made(timeline, originals, copied), target)


def write_angles(groups: Sequence[Timeline], target: Path, *, originals: str, copied: Collection[str] = ()) -> None:
    """Write timelines as one collection: a group of angles each. The same is said of files as for a timeline."""
    made = otio.schema.SerializableCollection("moments", [_made(one, originals, copied) for one in groups])
    _write(made, target)


def _write(made: Any, target: Path) -> None:
    with written_whole(target) as part:
        part.write_text(otio.adapters.write_to_string(made, "otio_json"), encoding="utf-8")


def _made(timeline: Timeline, originals: str, copied: Collection[str]) -> Any:
    made = otio.schema.Timeline(timeline.name)
    first = round(timeline.start * timeline.fps)
    made.global_start_time = otio.opentime.RationalTime(first, float(timeline.fps))
    made.metadata["vesk"] = {"rate": _ratio(timeline.fps), "drop": timeline.drop}
    for track in timeline.tracks:
        kind = otio.schema.TrackKind.Video if track.kind == PICTURE else otio.schema.TrackKind.Audio
        own = otio.schema.Track(track.name, kind=kind)
        rate = track.clips[0].media.rate if track.clips and track.kind != PICTURE else timeline.fps
        at = Fraction(0)
        for clip, after in zip(track.clips, [*track.clips[1:], None], strict=True):
            if clip.at > at:
                own.append(otio.schema.Gap(duration=_whole(clip.at - at, rate, clip.media.rate)))
            # A length that was rounded up moves nothing that follows.
            room = None if after is None else floor((after.at - clip.at) * clip.media.rate)
            made_clip, taken = _clip(clip, room, "originals" if clip.media.path in copied else originals)
            own.append(made_clip)
            at = clip.at + taken / clip.media.rate
        made.tracks.append(own)
    for marker in timeline.markers:
        at_frame = otio.opentime.RationalTime(float(marker.at * timeline.fps), float(timeline.fps))
        one = otio.opentime.RationalTime(1, float(timeline.fps))
        made.tracks.markers.append(
            otio.schema.Marker(
                marker.name, otio.opentime.TimeRange(at_frame, one), metadata={"vesk": {"note": marker.note}}
            )
        )
    return made


def _whole(time: Fraction, *rates: Fraction) -> Any:
    """Return a time in the first of several rates that counts it whole, else in one that counts it whole."""
    rate = next((one for one in rates if (time * one).denominator == 1), Fraction(time.denominator))
    return otio.opentime.RationalTime(float(time * rate), float(rate))


def _clip(clip: Clip, room: int | None, originals: str) -> tuple[Any, int]:
    """Return a clip, and how many of its own frames or samples it takes: no more than there is room for."""
    media = clip.media
    begins = round((media.start or Fraction(0)) * media.rate)
    available = otio.opentime.TimeRange(
        otio.opentime.RationalTime(begins, float(media.rate)),
        otio.opentime.RationalTime(round(media.duration * media.rate), float(media.rate)),
    )
    where = "/".join(part for part in (originals, media.path) if part)
    reference = otio.schema.ExternalReference(quote(where), available)
    taken = round(clip.takes * media.rate)
    if room is not None:
        taken = min(taken, room)
    shown = otio.opentime.TimeRange(
        otio.opentime.RationalTime(begins + round(clip.first * media.rate), float(media.rate)),
        otio.opentime.RationalTime(taken, float(media.rate)),
    )
    made = otio.schema.Clip(media.name, reference, shown)
    said = {
        "device": media.tag, "scene": media.scene, "take": media.take, "reel": media.reel, "moment": clip.moment,
        "at": _ratio(clip.at), "first": _ratio(clip.first), "rate": _ratio(media.rate), "off_s": clip.off_s,
    }  # fmt: skip
    if media.start is None:
        said["timecode"] = "none: counted from zero"
    if clip.speed != 1:
        made.effects.append(otio.schema.LinearTimeWarp("rate", time_scalar=float(clip.speed)))
        said["speed"] = _ratio(clip.speed)
    made.metadata["vesk"] = said
    return made, taken


def _ratio(value: Fraction) -> str:
    return f"{value.numerator}/{value.denominator}"


def read_otio(path: Path) -> list[ReadClip]:
    """Read the clips of a timeline.

    Raises
    ------
    MediaError
        If it is none.
    """
    found = _read(path)
    if not isinstance(found, otio.schema.Timeline):
        raise MediaError(path, "it holds no timeline", "Export the timeline itself.")
    return _all_clips(found)


def read_angles(path: Path) -> list[list[ReadClip]]:
    """Read the clips of each group of angles.

    Raises
    ------
    MediaError
        If there are none in it.
    """
    found = _read(path)
    if not isinstance(found, otio.schema.SerializableCollection):
        raise MediaError(path, "it holds no groups of angles", "Export the collection itself.")
    return [_all_clips(one) for one in found if isinstance(one, otio.schema.Timeline)]


def _all_clips(found: Any) -> list[ReadClip]:
    return [one for track in found.tracks if isinstance(track, otio.schema.Track) for one in _clips_of(track)]


def _read(path: Path) -> Any:
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise MediaError(path, "it is too large for a timeline", "Bring the timeline alone.")
        return otio.adapters.read_from_string(path.read_text(encoding="utf-8"), "otio_json")
    except (OSError, ValueError, KeyError, TypeError, otio.exceptions.OTIOError) as error:
        raise MediaError(path, "it is no timeline that can be read", "Export it again as OTIO.") from error


def _clips_of(track: Any) -> Sequence[ReadClip]:
    made, at = [], Fraction(0)
    for item in track:
        if isinstance(item, otio.schema.Transition):
            continue
        takes = _seconds(item.duration())
        if isinstance(item, otio.schema.Clip):
            shown = item.trimmed_range()
            reference = item.media_reference
            url = reference.target_url if isinstance(reference, otio.schema.ExternalReference) else ""
            file = unquote(url or "").replace("\\", "/").rsplit("/", 1)[-1]
            picture = track.kind == otio.schema.TrackKind.Video
            made.append(ReadClip(track.name, item.name, file, at, takes, _seconds(shown.start_time), picture))
        at += takes
    return made


def _seconds(time: Any) -> Fraction:
    """Return a time of the library exactly: its rate is the one in use that it is a float of."""
    rate = Fraction(time.rate).limit_denominator(10**6)
    rate = nearest_rate(rate) or rate
    return Fraction(time.value).limit_denominator(10**6) / rate
