"""Put two recordings together by hand: a person names the same event on both, and that stands above what was found."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import floor

from sqlmodel import Session

from vesk.actions import correct, sync_points
from vesk.actions.facts import facts_of
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.core.errors import RefusedError
from vesk.core.kinds import PICTURE, SOUND, Origin
from vesk.core.pairing.by_hand import ByHand, read_moment
from vesk.core.timecode import wrap_day
from vesk.settings import Settings
from vesk.store import changes, days, journal, pairings, recordings
from vesk.store.tables import Day, Pairing, Recording


@dataclass(frozen=True, slots=True)
class Both:
    """A picture and a sound of one day, and how their pairing stands, where there is one."""

    day: Day
    picture: Recording
    sound: Recording
    now: PairingStatus | None

    @property
    def fps(self) -> Fraction:
        """Picture frames a second."""
        return facts_of(self.picture).fps or self.day.fps

    def read(self, picture: str, sound: str) -> ByHand:
        """Read the same event on both, as typed.

        Parameters
        ----------
        picture, sound : str
            Seconds, a frame, or a timecode label.
        """
        clock = days.rate_of(self.day)
        return ByHand(
            read_moment(picture, start=self.picture.start, clock=clock, fps=self.fps),
            read_moment(sound, start=self.sound.start, clock=clock, fps=None),
        )

    def says(self, both: ByHand) -> str:
        """Return what would follow, in words."""
        laid = None if self.now is None else float(self.now.laid.offset)
        return both.says(self.picture.name, self.sound.name, laid_s=laid, fps=self.fps)


def both_of(session: Session, day: Day, picture_id: int, sound_id: int) -> Both:
    """Return two recordings of a day to be put together.

    Raises
    ------
    RefusedError
        If they are no picture and sound of this day that can be used.
    """
    picture, sound = recordings.get(session, picture_id), recordings.get(session, sound_id)
    for row, kind, what in ((picture, PICTURE, "a camera's recording"), (sound, SOUND, "a recorder's")):
        if row.day_id != day.id or row.kind != kind or row.state != recordings.READY or row.member_of is not None:
            raise RefusedError(f"{row.name} is not {what} of this day that can be joined: choose another.")
    pair = next(
        (
            now
            for now in Overview(session, day).statuses
            if (now.pairing.picture_id, now.pairing.sound_id) == (picture_id, sound_id)
        ),
        None,
    )
    return Both(day, picture, sound, pair)


def first_of(view: Overview, usable: Sequence[Recording]) -> Both | None:
    """Return the picture and the sound of two devices to begin with: without a partner if any, and near by labels.

    Parameters
    ----------
    view : Overview
    usable : sequence of Recording
        Those of the two devices.
    """
    pictures, sounds = ([row for row in usable if row.kind == kind] for kind in (PICTURE, SOUND))
    if not pictures or not sounds:
        return None
    picture = min(pictures, key=lambda row: (not row.unpaired, row.start is None, row.start or 0, row.name))

    def away(row: Recording) -> tuple[bool, Fraction, str]:
        if row.start is None or picture.start is None:
            return True, Fraction(0), row.name
        middle = row.start + row.duration / 2 - picture.start - picture.duration / 2
        return False, max(Fraction(0), abs(middle) - row.duration / 2), row.name

    sound = min(sounds, key=away)
    pair = picture.id, sound.id
    now = next((one for one in view.statuses if (one.pairing.picture_id, one.pairing.sound_id) == pair), None)
    return Both(view.day, picture, sound, now)


def others(view: Overview, both: Both, event: ByHand) -> str:
    """Return in words what else follows for the two devices where the same event is put on both.

    Parameters
    ----------
    view : Overview
    both : Both
    event : ByHand
    """
    starts = both.picture.start, both.sound.start
    tags = {one.id: one.tag for one in view.sources}
    camera, recorder = tags.get(both.picture.source_id or 0, ""), tags.get(both.sound.source_id or 0, "")
    usable = [row for row in view.recordings if row.state == recordings.READY and not row.aside]
    own = [row for row in usable if row.source_id == both.picture.source_id and row.id != both.picture.id]
    if not own:
        return ""
    if starts[0] is None or starts[1] is None:
        return f"Without timecode on both, the other takes of {camera} are joined one by one."
    ahead = event.place - wrap_day(starts[1] - starts[0], days.rate_of(both.day).day)
    held = [row for row in usable if row.source_id == both.sound.source_id]
    lie = sum(any(_share(row, other, ahead) for other in held) for row in own)
    if not lie:
        return ""
    takes = "1 more take" if lie == 1 else f"{lie} more takes"
    lies = "lies" if lie == 1 else "lie"
    return f"As long as both clocks run on, {takes} of {camera} then {lies} on {recorder}'s sound."


def _share(picture: Recording, sound: Recording, ahead: Fraction) -> bool:
    if picture.start is None or sound.start is None:
        return False
    place = sound.start - picture.start + ahead
    return min(picture.duration, place + sound.duration) > max(Fraction(0), place)


def keep_event(session: Session, settings: Settings, both: Both, event: ByHand, *, name: str) -> None:
    """Keep the same event as a sync point of one name on both.

    Parameters
    ----------
    session, settings
    both : Both
    event : ByHand
    name : str
        By which it is known; needed, for nothing else says that the two are one.

    Raises
    ------
    RefusedError
        If it has no name, or lies outside of either.
    """
    if not name.strip():
        raise RefusedError("Give it a name: by that the two are known to be one event.")
    frame = floor(event.picture_s * both.fps)
    sync_points.make(session, settings, both.picture.id, at=f"frame {frame}", name=name)
    sync_points.make(session, settings, both.sound.id, at=f"{float(event.sound_s):.6f}", name=name)


def belong(session: Session, settings: Settings, both: Both, *, version: int) -> Pairing:
    """Say that two belong together, without a place: sound finds it, else the same event has to be put on both.

    Raises
    ------
    StaleError
        If somebody changed their pairing since `version`; 0 where there was none.
    """
    changes.hold(session, both.day.id)
    row = _pairing(session, both, None)
    if both.now is not None:
        changes.compare(row, version, "this pairing")
    row.said_by = settings.person
    changes.count(session, row)
    what = f"{both.picture.name} and {both.sound.name} belong together"
    journal.note(session, day_id=both.day.id, by=settings.person, what=what, pairing_id=row.id)
    return row


def prefer(session: Session, settings: Settings, pairing_id: int, *, version: int) -> list[str]:
    """Say that a pairing is the one that is meant: its rivals for the same moments are set aside.

    Returns
    -------
    list of str
        What was set aside.

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    RefusedError
        If no other claims the same moments, and no clock speaks against it.
    """
    row = pairings.get_for_change(session, pairing_id, version)
    view = Overview(session, days.get_day(session, row.day_id))
    rivals = view.rivals_of(pairing_id)
    now = view.status_of(pairing_id)
    if not rivals and not now.is_displaced:
        raise RefusedError("No other recording claims the same moments: there is nothing to prefer it to.")
    for other in rivals:
        own = pairings.get(session, other.pairing.id)
        own.state, own.reason = pairings.SET_ASIDE, f"{now.picture.name} with {now.sound.name} was preferred"
        changes.count(session, own)
    row.said_by = settings.person
    changes.count(session, row)
    names = [f"{one.picture.name} with {one.sound.name}" for one in rivals]
    meant = f"{now.picture.name} with {now.sound.name} is the one that is meant"
    what = f"{meant}, not {', '.join(names)}" if names else f"{meant}, whatever their clocks say"
    journal.note(session, day_id=row.day_id, by=settings.person, what=what, pairing_id=row.id)
    return names


def _pairing(session: Session, both: Both, place: Fraction | None) -> Pairing:
    """Return the pairing of two recordings, made or brought back; by their clocks where both have one."""
    starts = both.picture.start, both.sound.start
    by_clocks = None
    if starts[0] is not None and starts[1] is not None:
        by_clocks = wrap_day(starts[1] - starts[0], days.rate_of(both.day).day)
    row = pairings.propose(
        session, day_id=both.day.id, picture_id=both.picture.id, sound_id=both.sound.id,
        offset=(place or Fraction(0)) if by_clocks is None else by_clocks,
    )  # fmt: skip
    if row.state == pairings.SET_ASIDE:
        row.state, row.reason = pairings.MEASURED if row.measured_as else pairings.PROPOSED, ""
    session.flush()
    for member in (both.picture, both.sound):
        own = recordings.get(session, member.id)
        own.unpaired, own.searched = "", None
    return row


def join(session: Session, settings: Settings, both: Both, event: ByHand, *, version: int) -> Pairing:
    """Lay a sound on a picture where a person saw and heard the same event on both.

    Parameters
    ----------
    session : Session
    settings : Settings
    both : Both
    event : ByHand
    version : int
        Of their pairing as the page showed it; 0 where there was none.

    Raises
    ------
    StaleError
        If somebody changed the pairing since.
    RefusedError
        If they would share nothing.
    """
    shared = min(both.picture.duration, event.place + both.sound.duration) - max(Fraction(0), event.place)
    if shared <= 0:
        raise RefusedError(f"Laid like that {both.sound.name} would not reach {both.picture.name} at all.")
    changes.hold(session, both.day.id)
    row = _pairing(session, both, event.place)
    seen = row.version if version == 0 and both.now is None else version
    correct.set_own(
        session,
        settings,
        row.id,
        version=seen,
        slip=event.place - row.offset,
        ppm=Fraction(0),
        origin=Origin.JOINED,
    )
    return row
