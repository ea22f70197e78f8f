"""The sources of a package: each held against the hash taken at intake, before anything is made of it and after."""

from __future__ import annotations

from dataclasses import dataclass, field

from sqlmodel import Session

from vesk.actions import measuring
from vesk.actions.locating import located
from vesk.core.errors import MediaError
from vesk.media import checksum
from vesk.media.checksum import AsRead
from vesk.settings import Settings
from vesk.store import changes, recordings
from vesk.store.tables import Day, Recording

ANEW = "Take the folder in again, measure the take and check it anew."


@dataclass
class Sources:
    """What is known of a package's sources while it is made: a file that holds is read once, however often it is used.

    Attributes
    ----------
    settings : Settings
    day : Day
    """

    settings: Settings
    day: Day
    # Files that hold what was taken in: how they lay then, and whether every byte was read for that.
    _verified: dict[int, tuple[AsRead, bool]] = field(default_factory=dict)
    _refused: dict[int, MediaError] = field(default_factory=dict)  # those that do not, and why

    def verify(self, session: Session, row: Recording, *, anew: bool) -> None:
        """Hold a source against its hash; one that does not hold is refused from then on, to whoever wants it."""
        try:
            self.signed(session, [row], anew=anew)
        except MediaError as error:
            self._refused[row.id] = error

    def signed(self, session: Session, rows: list[Recording], *, anew: bool) -> list[AsRead]:
        """Return how files lie that hold, byte for byte, what was taken in and checked.

        Parameters
        ----------
        session : Session
        rows : list of Recording
        anew : bool
            Whether every byte must have been read for that while the package was made.

        Raises
        ------
        MediaError
            If one does not.
        """
        if refused := next((self._refused[one.id] for one in rows if one.id in self._refused), None):
            raise refused
        lies = []
        for row in [file for one in rows for file in measuring.files_of(session, one)]:
            place = located(session, self.settings, self.day, row)
            measuring.lies_as_taken_in(place, row)
            now = AsRead.of(place.file, row.content)  # before it is read: what is written meanwhile is noticed
            lies.append(now)
            before, read = self._verified.get(row.id, (None, False))
            if before == now and (read or not anew):
                continue
            if checksum.content_of(place.file, self.settings.cache, anew=anew) != row.content:
                changes.hold(session, self.day.id)
                # Its size and time tell nothing: the next intake reads it all the same.
                recordings.get(session, row.id).modified_ns = 0
                changes.rest(session)
                raise MediaError(place.path, "it holds other bytes than were checked", ANEW)
            self._verified[row.id] = now, anew
        return lies
