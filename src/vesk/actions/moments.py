"""A moment of a day from its rows: every camera and recorder that ran then, as what stands of it lays it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction

from sqlmodel import Session

from vesk.actions.facts import facts_of
from vesk.actions.locating import located
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import CHECKED, SET_ASIDE, PairingStatus
from vesk.core.errors import NotFoundError, RefusedError
from vesk.core.handover.timeline import Joined
from vesk.core.kinds import PICTURE, SOUND, Kind
from vesk.core.moment.moment import Laid, Running, apart, lay_moment
from vesk.core.timecode import FrameRate
from vesk.core.timemap import AnyMap, TimeMap
from vesk.dailies.playing import Playable
from vesk.settings import Settings
from vesk.store import days, recordings
from vesk.store.tables import Day, Recording, Source


@dataclass(frozen=True, slots=True)
class Off:
    """How far a sound lies from where a picture wants it, as both lie in a moment.

    Attributes
    ----------
    now : PairingStatus
    at : tuple of (float, float)
        Picture time and error, seconds; positive: late. Empty where that is not known.
    """

    now: PairingStatus
    at: tuple[tuple[float, float], ...]


@dataclass(frozen=True, slots=True)
class Strip:
    """A recording in a moment.

    Attributes
    ----------
    row : Recording
    source : Source
    laid : Laid
    off : tuple of Off
        Of a picture: against every sound of the moment that it is paired with.
    """

    row: Recording
    source: Source
    laid: Laid
    off: tuple[Off, ...] = ()


@dataclass(frozen=True, slots=True)
class Moment:
    """What ran together.

    Attributes
    ----------
    day : Day
    clock : FrameRate
        The day's.
    about : Recording
        Its own time from its first frame is the axis.
    strips : tuple of Strip
        `about` first.
    """

    day: Day
    clock: FrameRate
    about: Recording
    strips: tuple[Strip, ...]

    def of(self, kind: Kind) -> list[Strip]:
        """Return its pictures, or its sounds."""
        return [one for one in self.strips if one.row.kind == kind]

    @property
    def start(self) -> Fraction | None:
        """Where the axis begins on the day's label clock, seconds; None without a place."""
        return self.strips[0].laid.own.at


def moment_of(view: Overview, about: int) -> Moment:
    """Return the moment of a recording, remembered while nothing that it rests on changes.

    Raises
    ------
    NotFoundError
        If it is none of the day's.
    RefusedError
        If it cannot be used.
    """
    return view.of(("moment", about), lambda: _made(view, about))


def _made(view: Overview, about: int) -> Moment:
    rows = {row.id: row for row in view.recordings}
    if about not in rows:
        raise NotFoundError("This recording is none of the day's, or became a part of another one.")
    own = rows[about]
    if own.state != recordings.READY or own.facts is None:
        raise RefusedError(f"{own.name} cannot be shown: {own.problem or 'it was never read'}")
    sources: dict[int | None, Source] = {source.id: source for source in view.sources}
    every = list(_running(view, sources))
    joined = [Joined(str(now.picture.id), str(now.sound.id), now.laid, now.state == CHECKED) for now in _standing(view)]
    first = next((now.sound_source.tag for now in _standing(view) if about in {now.picture.id, now.sound.id}), "")
    found = {int(one.own.key): one for one in lay_moment(str(about), every, joined, first)}
    strips = []
    for number, laid in found.items():
        row = rows[number]
        source = sources.get(row.source_id)
        if source is not None:
            off = tuple(_off(now, laid, found) for now in _standing(view) if now.picture.id == number
                        and now.sound.id in found) if row.kind == PICTURE else ()  # fmt: skip
            strips.append(Strip(row, source, laid, off))
    return Moment(view.day, days.rate_of(view.day), own, tuple(strips))


def _standing(view: Overview) -> Iterator[PairingStatus]:
    """Yield what belongs together: what nobody set aside, and is not open which of two it is."""
    for now in view.statuses:
        if now.state != SET_ASIDE and (now.rivalry is None or now.settled):
            yield now


def _running(view: Overview, sources: dict[int | None, Source]) -> Iterator[Running]:
    for row in view.recordings:
        source = sources.get(row.source_id)
        if row.state != recordings.READY or row.kind is None or row.facts is None or source is None:
            continue
        place = view.placed.get(row.id)
        pace = row.took / row.duration if row.took and row.duration else Fraction(1)
        at = None if place is None else place.start
        yield Running(str(row.id), source.tag, row.kind == PICTURE, row.duration, at, pace)


def _off(now: PairingStatus, laid: Laid, found: dict[int, Laid]) -> Off:
    if now.errors is None:
        return Off(now, ())
    sound = found[now.sound.id]
    pairs = zip(now.points, now.errors.all, strict=True)
    return Off(now, tuple((at, error + float(apart(laid, sound, now.laid, Fraction(at)))) for at, error in pairs))


def at_time(view: Overview, second: Fraction) -> Recording:
    """Return what a moment at a time of the day is about: the camera that rolls, else the next; else a recorder.

    Raises
    ------
    RefusedError
        If nothing of the day has a place in time.
    """
    order = {source.id: number for number, source in enumerate(view.sources)}
    found = []
    for row in view.recordings:
        place = view.placed.get(row.id)
        if place is None or row.state != recordings.READY or row.source_id not in order:
            continue
        away = max(place.start - second, second - (place.start + place.took), Fraction(0))
        found.append(((away > 0 or row.kind != PICTURE, away, row.kind != PICTURE, bool(row.off_speed)),
                      order[row.source_id], row))  # fmt: skip
    if not found:
        raise RefusedError("Nothing on this day has a place in time: open a recording instead.")
    return min(found, key=lambda one: one[:2])[2]


def channels_of(row: Recording) -> list[tuple[int, str]]:
    """Return the channels of a recording that can be listened to, with their names: timecode is never played."""
    facts = facts_of(row)
    coded = row.heard.ltc if row.heard else {}
    named = len(facts.track_names) == facts.channels
    return [
        (number, facts.track_names[number] if named else f"channel {number + 1}")
        for number in range(facts.channels)
        if number not in coded
    ]


def scratch_channel(strip: Strip) -> int | None:
    """Return the channel that stands for a camera's own sound: the one matched, else its first without timecode."""
    matched = next((off.now.scratch_channel for off in strip.off), None)
    return matched if matched is not None else next((number for number, _ in channels_of(strip.row)), None)


def playable(
    session: Session, settings: Settings, moment: Moment, tag: str, channel: int | None, *, corrected: bool = True
) -> list[Playable]:
    """Return the files of a device in a moment, to be listened to.

    Parameters
    ----------
    session, settings, moment
    tag : str
    channel : int or None
        From 0; None: all that can be listened to, summed.
    corrected : bool
        As it stands, else as recorded: laid by timecode alone.

    Raises
    ------
    RefusedError
        If it has no such channel.
    """
    made = []
    for strip in moment.strips:
        offered = [number for number, _ in channels_of(strip.row)]
        if strip.source.tag != tag or not offered:
            continue
        wanted = tuple(offered) if channel is None else (channel,)
        if not set(wanted) <= set(offered):
            raise RefusedError(f"{strip.row.name} has no channel {wanted[0] + 1} to listen to.")
        to_axis = strip.laid.to_axis if corrected else _recorded(moment, strip)
        made.append(Playable(located(session, settings, moment.day, strip.row), to_axis, wanted))
    return made


def _recorded(moment: Moment, strip: Strip) -> AnyMap:
    """Return how a sound lies by labels alone, at its own rate."""
    paired = next(
        (off.now for one in moment.strips if one.row.id == moment.about.id for off in one.off
         if off.now.sound.id == strip.row.id), None,
    )  # fmt: skip
    if paired is not None:
        return TimeMap(paired.pairing.offset)
    at, start = strip.laid.own.at, moment.start
    return strip.laid.to_axis if at is None or start is None else TimeMap(at - start)


def chosen_first(moment: Moment) -> tuple[str, int | None]:
    """Return which sound is heard first: the recorder that the moment is laid by, its channel that was matched."""
    about = moment.strips[0]
    if about.row.kind == SOUND:
        return about.source.tag, next((number for number, _ in channels_of(about.row)), None)
    for off in about.off:
        offered = [number for number, _ in channels_of(off.now.sound)]
        found = off.now.found.channel if off.now.found and off.now.found.line else None
        return off.now.sound_source.tag, found if found in offered else next(iter(offered), None)
    sounds: Sequence[Strip] = moment.of(SOUND) or [about]
    return sounds[0].source.tag, next((number for number, _ in channels_of(sounds[0].row)), None)
