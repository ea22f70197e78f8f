"""A day as pages read it: whole, and remembered for as long as none of the rows that it rests on changes."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from typing import Any, TypeVar, cast

from sqlmodel import Session

from vesk.actions import gathering, known, placing
from vesk.actions.gathering import DayRows, Earlier, Gathered
from vesk.actions.pairing_status import PairingStatus
from vesk.actions.placing import Placed
from vesk.actions.remembered import Remembered
from vesk.core.day.known import DayKnown
from vesk.core.day.solution import Solution
from vesk.store import compared, days, fingerprint, pairings, recordings, sync_points
from vesk.store.tables import (
    CheckRow,
    CorrectionRow,
    Day,
    Pairing,
    Recording,
    ScopedCorrectionRow,
    Source,
    SyncPointRow,
)

T = TypeVar("T")
_KEPT: Remembered[Hashable, Any] = Remembered(120)
_KNOWN_BY = ("day", "recording", "source", "override", "clock_period", "report")
_STANDING_BY = (
    "day", "recording", "source", "pairing", "correction", "check_mark", "scoped_correction", "sync_point",
    "compared",
)  # fmt: skip
_CHANGING = {"pairing", "correction", "check_mark", "scoped_correction", "compared"}  # what `Earlier` looks at itself
_EVERYTHING = (*_STANDING_BY, "override", "clock_period", "report", "accepted", "seen_label")


class Overview:
    """What one request reads of a day.

    Rows that it gives are read with a session of their own and let go of: they are for reading, and several requests
    may hold them. Who changes a row asks the store for it.

    Parameters
    ----------
    session : Session
        The request's; what it has changed and not yet committed counts.
    day : Day
    """

    def __init__(self, session: Session, day: Day) -> None:
        self._day_id = day_id = day.id
        self._session = session
        self._marks = fingerprint.of_day(session, day_id)
        self._where = str(session.get_bind().engine.url)
        self.day: Day = self._remembered("day", ("day",), lambda own: days.get_day(own, day_id))

    def _remembered(self, what: Hashable, tables: tuple[str, ...], make: Callable[[Session], T]) -> T:
        key = (self._where, self._day_id, what, *(self._marks[name] for name in tables))
        kept: list[T] | None = _KEPT.find(key)
        if kept is None:
            with Session(self._session.connection(), expire_on_commit=False) as apart:
                kept = [make(apart)]
            _KEPT.keep(key, kept)
        return kept[0]

    def of(self, what: Hashable, make: Callable[[], T]) -> T:
        """Return what a page makes of all this, remembered under a name of its own."""
        return self._remembered(what, _EVERYTHING, lambda _session: make())

    @property
    def recordings(self) -> list[Recording]:
        """Recordings by path: files, and files merged into one."""
        return self._remembered("recordings", ("recording",), lambda own: recordings.of_day(own, self._day_id))

    @property
    def members(self) -> dict[int, Recording]:
        """What merged recordings are made of, by number."""
        return self._remembered("members", ("recording",), lambda own: recordings.members_of_day(own, self._day_id))

    @property
    def sources(self) -> list[Source]:
        """Its sources, cameras first."""
        return [source for source in self._all_sources() if not source.gone]

    def _all_sources(self) -> list[Source]:
        return self._remembered("sources", ("source",), lambda own: days.sources(own, self._day_id, gone=True))

    @property
    def known(self) -> DayKnown:
        """What is known of its recordings."""
        return self._remembered("known", _KNOWN_BY, lambda own: known.known_of_day(own, self.day))

    @property
    def pairings(self) -> list[Pairing]:
        """Its pairings, without what was measured."""
        read: dict[int, tuple[str, Pairing]] = self._remembered("pairings read", ("day",), lambda _own: {})

        def fresh(own: Session) -> list[Pairing]:
            marks = pairings.marks_of_day(own, self._day_id)
            have = dict(read)  # another thread may bring it up to date meanwhile
            changed = [number for number, mark in marks.items() if number not in have or have[number][0] != mark]
            have |= {row.id: (marks[row.id], row) for row in pairings.some(own, changed)}
            read.update(have)
            return [have[number][1] for number in marks]

        return self._remembered("pairings", ("pairing", "recording"), fresh)

    @property
    def scoped(self) -> list[ScopedCorrectionRow]:
        """Corrections for several takes that stand, the newest first."""
        return self._remembered(
            "scoped", ("scoped_correction",), lambda own: pairings.scoped_corrections(own, self._day_id)
        )

    @property
    def statuses(self) -> list[PairingStatus]:
        """Every pairing as it stands, by picture and then by offset."""
        return self._gathered.statuses

    @property
    def solution(self) -> Solution:
        """What all evidence together says of the day."""
        return self._gathered.solution

    @property
    def _gathered(self) -> Gathered:
        steady = tuple(name for name in _STANDING_BY if name not in _CHANGING)
        earlier: Earlier = self._remembered("earlier", steady, lambda _own: Earlier())
        return self._remembered("statuses", _STANDING_BY, lambda own: self._gather(own, earlier))

    def status_of(self, pairing_id: int) -> PairingStatus:
        """Return how one pairing stands.

        One that rests, as of a file that became a part of another recording, is none of the day's and judged alone.
        """
        own = next((one for one in self.statuses if one.pairing.id == pairing_id), None)
        return own or gathering.of_pairing(self._session, pairing_id)

    def rivals_of(self, pairing_id: int) -> list[PairingStatus]:
        """Return the pairings that claim the same moments as one does: it names them, or they name it."""
        own = self.status_of(pairing_id)
        named = {own.rivalry.other} if own.rivalry else set()
        return [
            one
            for one in self.statuses
            if one.pairing.id != pairing_id
            and (str(one.pairing.id) in named or (one.rivalry and one.rivalry.other == str(pairing_id)))
        ]

    @property
    def placed(self) -> Mapping[int, Placed]:
        """Where its recordings lie on the day: what is set aside places none."""
        rate = days.rate_of(self.day)

        def made(_own: Session) -> dict[int, Placed]:
            standing = [one.pairing for one in self.statuses if not one.aside]
            return placing.place_recordings(self.recordings, standing, rate)

        return self._remembered("placed", _STANDING_BY, made)

    def _gather(self, own: Session, earlier: Earlier) -> Gathered:
        rows = self._rows(own)
        return gathering.gather(own, self.day, rows.sharing, rows, earlier)

    def _rows(self, own: Session) -> DayRows:
        """Gather what statuses rest on, each kind anew only where it changed."""
        day_id = self._day_id
        members = {row.id: row for row in self.recordings}
        corrections: dict[int, CorrectionRow] = self._remembered(
            "corrections", ("correction",), lambda _: pairings.standing_corrections_of_day(own, day_id)
        )
        checks: dict[int, CheckRow] = self._remembered(
            "checks", ("check_mark",), lambda _: pairings.standing_checks_of_day(own, day_id)
        )
        marked: dict[int, list[SyncPointRow]] = self._remembered(
            "sync points", ("recording", "sync_point"), lambda _: sync_points.of_recordings(own, members)
        )
        same = self._remembered("compared", ("recording", "compared"), lambda _: compared.of_day(own, day_id, members))
        across = self._remembered(
            "across", ("recording", "compared"), lambda _: compared.across_of_day(own, day_id, members)
        )
        sources = cast("dict[int | None, Source]", {one.id: one for one in self._all_sources()})
        # Each kind is read for itself: what came in between two of these readings shows with the next request.
        whole = [
            row for row in self.pairings
            if all(one in members and members[one].source_id in sources for one in (row.picture_id, row.sound_id))
        ]  # fmt: skip
        return DayRows(whole, members, sources, corrections, checks, self.scoped, marked, same, across)


def forget() -> None:
    """Let go of everything remembered: it is made anew when asked for."""
    _KEPT.forget()
