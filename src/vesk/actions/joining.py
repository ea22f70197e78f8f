"""Put two recordings together by hand: a person names the same event on both, and that stands above what was found."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from sqlmodel import Session

from vesk.actions import correct
from vesk.actions.facts import facts_of
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.core.errors import RefusedError
from vesk.core.kinds import PICTURE, SOUND, Origin
from vesk.core.pairing.by_hand import ByHand, read_moment
from vesk.core.timecode import wrap_day
from vesk.settings import Settings
from vesk.store import changes, days, pairings, recordings
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
    starts = both.picture.start, both.sound.start
    by_clocks = None
    if starts[0] is not None and starts[1] is not None:
        by_clocks = wrap_day(starts[1] - starts[0], days.rate_of(both.day).day)
    row = pairings.propose(
        session, day_id=both.day.id, picture_id=both.picture.id, sound_id=both.sound.id,
        offset=event.place if by_clocks is None else by_clocks,
    )  # fmt: skip
    if row.state == pairings.SET_ASIDE:
        row.state, row.reason = pairings.MEASURED if row.measured_as else pairings.PROPOSED, ""
    session.flush()
    for member in (both.picture, both.sound):
        member.unpaired, member.searched = "", None
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
