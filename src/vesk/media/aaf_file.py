"""The day's timeline as AAF: clips that refer to the originals, linked and not embedded.

Source: the AAF object specification 1.1. Picture slots count at the frame rate, sound slots in samples, so that every
place is exact; rates of corrected sounds are said in a comment on the clip, since links play at their own.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote

import aaf2

from vesk.core.errors import MediaError
from vesk.core.handover.read_back import ReadClip
from vesk.core.handover.timeline import Clip, Media, Timeline, Track
from vesk.core.kinds import PICTURE
from vesk.core.timecode import FrameRate
from vesk.media.whole import written_whole

_HALF_DAY = 12 * 3600
_BYTES = 3
_FIRST_TRACK = 2  # the slot after the timecode's: markers are of the first track


def write_aaf(timeline: Timeline, target: Path, *, originals: Path) -> None:
    """Write a timeline.

    Parameters
    ----------
    timeline : Timeline
    target : Path
        Written whole or not at all.
    originals : Path
        The day's folder: links are absolute.
    """
    with written_whole(target) as part, aaf2.open(str(part), "w") as file:
        made = file.create.CompositionMob(timeline.name)
        made.usage = "Usage_TopLevel"
        file.content.mobs.append(made)
        clock = FrameRate(timeline.fps, timeline.drop)
        code = made.create_timeline_slot(_rational(timeline.fps))
        code["PhysicalTrackNumber"].value = 1
        code.name = "timecode"
        code.segment = _timecode(file, clock, round(timeline.start * timeline.fps))
        masters: dict[str, Any] = {}
        for number, track in enumerate(timeline.tracks, 1):
            _add_track(file, made, track, number, masters, originals, timeline.fps)
        if timeline.markers:
            _add_markers(file, made, timeline)


def _timecode(file: Any, clock: FrameRate, first: int) -> Any:
    made = file.create.Timecode(clock.nominal, drop=clock.drop)
    made.start, made.length = first, _HALF_DAY * clock.nominal
    return made


def _rational(rate: Fraction) -> str:
    return f"{rate.numerator}/{rate.denominator}"


def _add_track(
    file: Any, made: Any, track: Track, number: int, masters: dict[str, Any], originals: Path, fps: Fraction
) -> None:
    if not track.clips:
        return
    picture = track.kind == PICTURE
    rate = fps if picture else track.clips[0].media.rate
    slot = made.create_timeline_slot(_rational(rate))
    slot.name = track.name
    slot["PhysicalTrackNumber"].value = number
    sequence = file.create.Sequence(media_kind="picture" if picture else "sound")
    slot.segment = sequence
    places = [round(clip.at * rate) for clip in track.clips]
    at = 0
    for clip, begins, after in zip(track.clips, places, [*places[1:], None], strict=True):
        length = max(1, round(clip.takes * rate))
        if after is not None:  # a length that was rounded up moves nothing that follows
            length = max(1, min(length, after - begins))
        if begins > at:
            sequence.components.append(file.create.Filler(sequence.media_kind, begins - at))
        master = masters.get(clip.media.key)
        if master is None:
            master = masters[clip.media.key] = _master(file, clip.media, originals)
        shown = master.create_source_clip(slot_id=1, start=round(clip.first * rate), length=length)
        _say(file, shown, clip)
        sequence.components.append(shown)
        at = begins + length


def _say(file: Any, shown: Any, clip: Clip) -> None:
    if clip.speed != 1:
        said = file.create.TaggedValue("Vesk rate", f"{clip.speed.numerator}/{clip.speed.denominator}")
        shown["UserComments"].append(said)


def _master(file: Any, media: Media, originals: Path) -> Any:
    """Return the master of a file: it leads to the file, and that to the timecode it was recorded with."""
    kind = "picture" if media.kind == PICTURE else "sound"
    length = round(media.duration * media.rate)
    rate = _rational(media.rate)
    clock = FrameRate(media.label_rate, media.drop)
    tape = file.create.SourceMob(media.reel or media.name.rsplit(".", 1)[0])
    tape.descriptor = file.create.TapeDescriptor()
    recorded = tape.create_timeline_slot(rate, 1)
    recorded.segment = file.create.SourceClip(length=length, media_kind=kind)
    code = tape.create_timeline_slot(_rational(clock.fps), 2)
    code["PhysicalTrackNumber"].value = 1
    code.segment = _timecode(file, clock, 0)
    file.content.mobs.append(tape)

    place = file.create.SourceMob(media.name)
    place.descriptor = _descriptor(file, media, length)
    locator = file.create.NetworkLocator()
    locator["URLString"].value = "file://" + quote(str((originals / media.path).absolute()))
    place.descriptor["Locator"].append(locator)
    slot = place.create_timeline_slot(rate, 1)
    begins = round((media.start or Fraction(0)) * media.rate)
    slot.segment = tape.create_source_clip(slot_id=1, start=begins, length=length, media_kind=kind)
    file.content.mobs.append(place)

    master = file.create.MasterMob(media.name)
    own = master.create_timeline_slot(rate, 1)
    own["PhysicalTrackNumber"].value = 1
    own.segment = place.create_source_clip(slot_id=1, start=0, length=length, media_kind=kind)
    file.content.mobs.append(master)
    return master


def _descriptor(file: Any, media: Media, length: int) -> Any:
    if media.kind == PICTURE:
        made = file.create.CDCIDescriptor()
        made["StoredWidth"].value, made["StoredHeight"].value = 1920, 1080
        made["FrameLayout"].value = "FullFrame"
        made["VideoLineMap"].value = [42, 0]
        made["ImageAspectRatio"].value = "16/9"
        made["ComponentWidth"].value = 8
        made["HorizontalSubsampling"].value = 2
    else:
        rate = round(media.rate)
        made = file.create.PCMDescriptor()
        made["AudioSamplingRate"].value = f"{rate}/1"
        made["Channels"].value = media.channels
        made["QuantizationBits"].value = 8 * _BYTES
        made["BlockAlign"].value = _BYTES * media.channels
        made["AverageBPS"].value = _BYTES * media.channels * rate
    made["SampleRate"].value = _rational(media.rate)
    made["Length"].value = length
    return made


def _add_markers(file: Any, made: Any, timeline: Timeline) -> None:
    slot = file.create.EventMobSlot()
    slot["EditRate"].value = _rational(timeline.fps)
    slot["SlotID"].value = 1000
    slot["PhysicalTrackNumber"].value = 1
    slot["SlotName"].value = "sync points"
    sequence = file.create.Sequence(media_kind="DescriptiveMetadata")
    for marker in sorted(timeline.markers, key=lambda one: one.at):
        one = file.create.DescriptiveMarker()
        one["Position"].value = round(marker.at * timeline.fps)
        one["Length"].value = 1
        one["DescribedSlots"].value = [_FIRST_TRACK]
        one["Comment"].value = ": ".join(part for part in (marker.name, marker.note) if part)
        sequence.components.append(one)
    slot.segment = sequence
    made.slots.append(slot)


def read_aaf(path: Path) -> list[ReadClip]:
    """Read the clips of a composition: what a slot shows, from which master, and by that the file's own timecode.

    Raises
    ------
    MediaError
        If it holds none.
    """
    with aaf2.open(str(path), "r") as file:
        made = next(file.content.toplevel(), None)
        if made is None:
            raise MediaError(path, "it holds no composition", "Export the timeline itself.")
        return [clip for slot in made.slots if hasattr(slot.segment, "components") for clip in _clips_of(slot)]


def _clips_of(slot: Any) -> Iterator[ReadClip]:
    """Yield the clips of a slot. What a clip begins at counts as the slot does that it lies in."""
    rate, at = Fraction(slot.edit_rate), 0
    for shown in slot.segment.components:
        if isinstance(shown, aaf2.components.SourceClip) and shown.mob is not None:
            own = shown.mob.slot_at(shown.slot_id)
            place = own.segment.mob.slot_at(own.segment.slot_id)
            label = Fraction(shown.start) / rate + Fraction(place.segment.start) / Fraction(place.edit_rate)
            file = _file_of(own.segment.mob)
            picture = slot.media_kind.lower() == "picture"
            lies, takes = Fraction(at) / rate, Fraction(shown.length) / rate
            yield ReadClip(slot.name, shown.mob.name, file, lies, takes, label, picture)
        at += shown.length if slot.media_kind != "DescriptiveMetadata" else 0


def _file_of(mob: Any) -> str:
    """Return the name of the file that a mob leads to."""
    for locator in mob.descriptor.get("Locator", []):
        return unquote(str(locator["URLString"].value)).rsplit("/", 1)[-1]
    return ""
