"""The day as a timeline, from its rows: every file at its place, as what stands of its corrections lays it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from fractions import Fraction
from math import floor
from types import MappingProxyType

from vesk.actions.facts import facts_of
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import CHECKED, SET_ASIDE
from vesk.core.errors import RefusedError, TimecodeError
from vesk.core.handover.recipe import Recipe, Start
from vesk.core.handover.timeline import Joined, Marker, Media, Timeline, build, lay_day
from vesk.core.kinds import PICTURE, RUN, Decided, PointOrigin
from vesk.core.timecode import FrameRate, Timecode
from vesk.store import days, sync_points
from vesk.store.tables import KeptRange, Recording, SyncPointRow, WatchNote


def timeline_of(
    view: Overview,
    recipe: Recipe,
    marked: dict[int, list[SyncPointRow]],
    name: str,
    ranges: Mapping[int, KeptRange] = MappingProxyType({}),
    notes: Sequence[WatchNote] = (),
) -> Timeline:
    """Return the day's timeline.

    Parameters
    ----------
    view : Overview
    recipe : Recipe
        Says where it begins.
    marked : dict
        Sync points by recording.
    name : str
    ranges : mapping of int to KeptRange
        Pictures of which only a range is kept, by recording.
    notes : sequence of WatchNote
        What was seen to be wrong.
    """
    clock = days.rate_of(view.day)
    begins = {file.id: (row, at) for row in view.recordings for file, at in files_in(row, view.members)}
    tags: dict[int | None, str] = {source.id: source.tag for source in view.sources}
    paired = {number for now in view.statuses for number in (now.picture.id, now.sound.id) if now.state != SET_ASIDE}
    media, placed = [], {}
    for number, (row, at) in begins.items():
        file = row if row.id == number else view.members[number]
        if row.id not in view.placed or file.facts is None or row.kind is None or file.state != "ready":
            continue
        one = _media(file, row, tags.get(row.source_id, "?"), clock, alone=row.id not in paired)
        kept = ranges.get(row.id) if recipe.ranges and row.kind == PICTURE else None
        media.append(one if kept is None else _kept(one, kept, at))
        placed[str(number)] = view.placed[row.id].start + at
    joined = list(_joined(view))
    lies = lay_day(media, joined, placed)
    if not lies:
        raise RefusedError("Nothing on this day has a place in time: there is no timeline to make.")
    start = Fraction(floor(min(lies.values()) * clock.fps)) / clock.fps  # a whole frame
    order = [source.tag for source in view.sources]
    made = build(name, media, joined, lies, fps=clock.fps, drop=clock.drop, start=start, order=order)
    markers = _markers(view, marked, notes, lies, start)
    typed = typed_start(recipe, clock)
    label = typed if typed is not None else Fraction(0) if recipe.start == Start.ZERO else start % clock.day
    return Timeline(made.name, made.fps, made.drop, label, made.tracks, tuple(sorted(markers, key=lambda one: one.at)))


def _markers(
    view: Overview,
    marked: dict[int, list[SyncPointRow]],
    notes: Sequence[WatchNote],
    lies: Mapping[str, Fraction],
    start: Fraction,
) -> list[Marker]:
    """Return the sync points and notes of a timeline that begins at `start`."""
    every = {row.id: row for row in view.recordings}
    markers = []
    for number, points in marked.items():
        for file, begin in files_in(every.get(number), view.members):
            if str(file.id) in lies:
                found = (_marker(one, file, begin, lies[str(file.id)] - start) for one in points)
                markers += [one for one in found if one is not None]
    for row in view.recordings:
        if row.told is not None and row.told.note and str(row.id) in lies:
            markers.append(Marker(lies[str(row.id)] - start, "note", f"{row.name}: {row.told.note}"))
    for said in notes:
        for file, begin in files_in(every.get(said.recording_id), view.members):
            within = Fraction(said.at_us, 1_000_000) - begin
            if str(file.id) in lies and 0 <= within < file.duration:
                markers.append(Marker(lies[str(file.id)] - start + within, "note", f"{file.name}: {said.text}"))
    return markers


def _kept(one: Media, kept: KeptRange, at: Fraction) -> Media:
    """Return a file of which only what is kept of its recording is shown."""
    before, count = round(at * one.rate), round(one.duration * one.rate)
    first = min(max(0, kept.first - before), count)
    return replace(one, kept=(first, max(first, min(count, kept.last - before))))


def files_in(row: Recording | None, members: dict[int, Recording]) -> Iterator[tuple[Recording, Fraction]]:
    """Return the files of a recording with how far into it each begins, seconds; of a picture those with picture."""
    if row is None:
        return
    if not row.merged:
        yield row, Fraction(0)
        return
    begins = Fraction(0)
    for number in row.members:
        member = members.get(number)
        if member is None or member.kind != row.kind:
            continue
        for file, at in files_in(member, members):
            yield file, begins + at
        begins += member.duration if row.merged == RUN else 0


def _media(file: Recording, row: Recording, tag: str, clock: FrameRate, *, alone: bool) -> Media:
    facts = facts_of(file)
    picture = row.kind == PICTURE
    rate = (facts.fps or clock.fps) if picture else Fraction(facts.sample_rate or 48_000)
    told = row.told
    apart = "off-speed" if row.off_speed else "set aside" if row.aside else "unpaired" if alone and picture else ""
    label_rate, drop = (facts.timecode_rate or rate, facts.drop) if picture else (clock.fps, clock.drop)
    return Media(
        str(file.id), file.name, file.path, tag, row.kind or PICTURE, facts.start(clock)[0], facts.duration, rate,
        label_rate, drop, facts.tape, told.scene if told else facts.scene, told.take if told else facts.take,
        facts.channels, apart,
    )  # fmt: skip


def _joined(view: Overview) -> Iterator[Joined]:
    """Return what belongs together, file by file: what nobody set aside, and is not open which of two it is."""
    for now in view.statuses:
        if now.state == SET_ASIDE or (now.rivalry is not None and not now.settled):
            continue
        plays = now.timed_as
        for picture, at in files_in(now.picture, view.members):
            for sound, begins in files_in(now.sound, view.members):
                laid = plays.laid.from_source(begins).shifted(-at * plays.stretch)
                yield Joined(str(picture.id), str(sound.id), laid, now.state == CHECKED, plays.stretch)


def _marker(one: SyncPointRow, file: Recording, begins: Fraction, at: Fraction) -> Marker | None:
    sure = one.state == Decided.CONFIRMED or one.origin != PointOrigin.FOUND
    if one.state == Decided.REFUSED or not sure:
        return None
    facts = file.facts
    if one.how == sync_points.SEEN and one.frame is not None and facts is not None and facts.fps:
        within = Fraction(one.frame) / facts.fps
    else:
        within = Fraction(one.heard_us or 0, 1_000_000)
    within -= begins
    if not 0 <= within < file.duration:
        return None
    return Marker(at + within, one.name or str(one.kind), f"{one.how} on {file.name}")


def typed_start(recipe: Recipe, clock: FrameRate) -> Fraction | None:
    """Return the label that a person typed for the first frame, seconds; None where none is asked for.

    Raises
    ------
    RefusedError
        If it is none.
    """
    if recipe.start != Start.TYPED:
        return None
    try:
        return Timecode.parse(recipe.start_label.strip(), clock).seconds
    except TimecodeError as error:
        raise RefusedError(f"{recipe.start_label!r} is no label to begin at: write 01:00:00:00. ({error})") from None
