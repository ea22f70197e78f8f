"""What a page sends, read in one way: bounded, or refused with a sentence before anything is done."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from fractions import Fraction
from typing import TypeVar

from flask import request
from sqlalchemy.orm.exc import StaleDataError

from vesk.actions.hearing import Ears, checked
from vesk.core.errors import (
    BusyError,
    NotAllowedError,
    NotFoundError,
    NumberError,
    RefusedError,
    SlowedError,
    StaleError,
    StorageError,
    VeskError,
)
from vesk.core.figures import read_number, read_whole
from vesk.settings import VESK
from vesk.store import journal
from vesk.store.tables import JournalRow
from vesk.web.shared import session

W = TypeVar("W", bound=StrEnum)
LONGEST = 2000  # of any field but a report
_STATUS = {
    BusyError: 503,
    NotFoundError: 404,
    StaleError: 409,
    StorageError: 503,
    SlowedError: 429,
    NotAllowedError: 403,
}
_OUT_OF_DATE = "The page is out of date. Load it again."


def status_of(error: VeskError) -> int:
    """Return the status that tells a known error."""
    return next((code for kind, code in _STATUS.items() if isinstance(error, kind)), 422)


_UNSAID = {
    "csrf_token",
    "version",
    "shown",
    "pairing",
    "recording",
    "back",
    "rows",
    "decision",
}  # fields that say nothing to a person


def told(error: VeskError) -> str:
    """Return what an error says; of a change that came too late, both sides: theirs, which counts, and this one."""
    if not isinstance(error, StaleError):
        return str(error)
    if error.about is None:  # it names no row: what was done last is theirs, or leads there
        return _both_sides(str(error), "The latest on this day", _latest())
    return _both_sides(str(error), "Theirs", journal.newest_about(session(), *error.about))


def _both_sides(says: str, whose: str, line: JournalRow | None) -> str:
    theirs = f" {whose}: {line.what} ({line.by}, {line.at:%H:%M:%S} UTC)." if line is not None else ""
    said = [f"{name.replace('_', ' ')} {value[:60]}" for name, value in request.form.items()
            if name not in _UNSAID and value.strip()]  # fmt: skip
    yours = f" Yours, not applied: {', '.join(said[:8])}." if said else ""
    return f"{says}{theirs}{yours}"


def act(work: Callable[[], str]) -> tuple[int, str, str]:
    """Do one thing and commit it, or nothing; returns status, what is wrong, what was done."""
    try:
        said = work()
        session().commit()
    except VeskError as error:
        session().rollback()
        return status_of(error), told(error), ""
    except StaleDataError:
        session().rollback()
        says = "Somebody else changed this meanwhile. Nothing of yours was applied: look at it as it is now."
        return 409, _both_sides(says, "The latest on this day", _latest()), ""
    return 200, "", said


def _latest() -> JournalRow | None:
    """Return the newest line of the day that was asked for: a row that changed under one's hands names no line."""
    day_id = (request.view_args or {}).get("day_id")
    lines = journal.of_day(session(), day_id, most=50) if day_id else []
    return next((line for line in lines if line.by != VESK), None)


def text(name: str, default: str = "") -> str:
    """Return a field as it was typed."""
    return request.form.get(name, default)


def word(name: str, words: type[W]) -> W:
    """Return a field that is one word of an enumeration."""
    try:
        return words(text(name))
    except ValueError:
        raise RefusedError(f"Choose one of these: {', '.join(words)}.") from None


def number(name: str, unit: str, *, most: int = 10**9) -> Fraction:
    """Return a field as an exact number between ±`most`; empty is zero."""
    typed = text(name).strip()
    try:
        return read_number(typed or "0", least=-most, most=most)
    except NumberError as error:
        raise RefusedError(f"{error.text} {error.why.replace('a number', f'a number of {unit}')}.") from None


def whole(name: str, *, least: int = 0, most: int = 2**31 - 1) -> int:
    """Return a field as a whole number."""
    try:
        return read_whole(text(name), least=least, most=most)
    except NumberError as error:
        raise RefusedError(f"{error}.") from None


def version() -> int:
    """Return the version of what the page showed."""
    try:
        return read_whole(text("version"))
    except NumberError:
        raise RefusedError(_OUT_OF_DATE) from None


def ears() -> Ears:
    """Return how something hears, as typed: metres and milliseconds; nothing typed is as its device.

    Raises
    ------
    RefusedError
        If a figure is none, or cannot be.
    """
    metres = number("metres", "metres") if text("metres") else None
    delay = number("delay_ms", "milliseconds") if text("delay_ms") else None
    return checked(metres, delay)


def versions(name: str) -> dict[int, int]:
    """Return what is ticked, each as ``number:version``."""
    found = {}
    for item in request.form.getlist(name):
        number_, _, of = item.partition(":")
        try:
            found[read_whole(number_)] = read_whole(of)
        except NumberError:
            raise RefusedError("The selection cannot be read. Load the page again.") from None
    return found
