"""What error is let pass: on the day, and on a take that wants more or less."""

from __future__ import annotations

from fractions import Fraction

from sqlmodel import Session

from vesk.actions.pairing_status import PairingStatus
from vesk.core.errors import NumberError, RefusedError
from vesk.core.tolerance import Tolerance, read_tolerance, what_it_means
from vesk.settings import Settings
from vesk.store import changes, days, journal, pairings
from vesk.store.tables import Day


def set_of_day(session: Session, settings: Settings, day_id: int, *, version: int, text: str) -> Day:
    """Set what is let pass on a day: frames, or milliseconds; takes with their own keep it.

    Raises
    ------
    RefusedError
        If it is no tolerance.
    StaleError
        If somebody changed the day since `version`.
    """
    day = days.get_day(session, day_id)
    changes.hold(session, day_id)
    changes.compare(day, version, "this day")
    day.tolerance = _read(text, day.fps).frames
    session.add(day)
    what = f"tolerance of the day set to {what_it_means(Tolerance(day.tolerance), day.fps)}"
    journal.note(session, day_id=day_id, by=settings.person, what=what)
    return day


def set_of_take(
    session: Session,
    settings: Settings,
    pairing_id: int,
    *,
    version: int,
    text: str,
    now: PairingStatus | None,
    together: bool = False,
    act: str = "",
) -> str:
    """Set what is let pass on one take; nothing typed is as the day's. Returns what was done, in words.

    Several that are given one `together` have one line in the journal, which their `act` writes.

    Raises
    ------
    RefusedError
        If it is no tolerance.
    StaleError
        If somebody changed the pairing since `version`.
    """
    pairing = pairings.get_for_change(session, pairing_id, version)
    if now is None:
        raise RefusedError("That take is none of this day any more. Load the page again.")
    pairing.tolerance = _read(text, now.fps).frames if text.strip() else None
    changes.count(session, pairing)
    own = "as the day's" if pairing.tolerance is None else what_it_means(Tolerance(pairing.tolerance), now.fps)
    if not (together and act):
        what = f"{now.picture.name} with {now.sound.name}: tolerance {own}"
        journal.note(session, day_id=pairing.day_id, by=settings.person, what=what, pairing_id=pairing_id)
    return f"Tolerance of this take: {own}."


def _read(text: str, fps: Fraction) -> Tolerance:
    try:
        return read_tolerance(text, fps)
    except NumberError as error:
        raise RefusedError(f"{error}. Write frames, as 0.25, or milliseconds, as 1 ms.") from None
