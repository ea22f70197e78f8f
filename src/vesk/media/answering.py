"""A disk that hangs: what a page asks of it is asked beside the page, and not waited for longer than a person would.

A read from a mount that does not answer never returns and cannot be taken back: it costs one of a few threads here
until the mount answers again, and the page says so.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, TypeVar, cast

from vesk.core.errors import BusyError

T = TypeVar("T")
WAIT_S = 5.0
_AT_ONCE = threading.BoundedSemaphore(8)
_OPEN = threading.BoundedSemaphore(16)  # requests that read media, of a web server's forty threads
_SILENT = (
    "The disk does not answer: {what}. It may be a network disk that hangs, or one that was unplugged. Nothing was "
    "changed and no recording is harmed; look at its connection, then ask again."
)


def within(what: object, work: Callable[[], T], wait_s: float = WAIT_S) -> T:
    """Do some work that touches a disk, and give up waiting after a while.

    Parameters
    ----------
    what : object
        The path it is about, for the sentence.
    work : callable
    wait_s : float

    Raises
    ------
    BusyError
        If the disk does not answer.
    """
    places = _AT_ONCE  # the one that is taken is given back, whatever counts by then
    if not places.acquire(timeout=wait_s):
        raise BusyError(_SILENT.format(what=what))
    told: list[tuple[bool, Any]] = []
    done = threading.Event()

    def run() -> None:
        try:
            told.append((True, work()))
        except BaseException as error:  # noqa: BLE001 - handed to whoever waits
            told.append((False, error))
        finally:
            places.release()
            done.set()

    threading.Thread(target=run, daemon=True, name="disk").start()
    if not done.wait(wait_s):
        raise BusyError(_SILENT.format(what=what))
    well, value = told[0]
    if not well:
        raise cast("BaseException", value)
    return cast("T", value)


@contextmanager
def reading() -> Iterator[None]:
    """Take one of the few places for what reads media, so that a disk that hangs leaves the other pages alone.

    Raises
    ------
    BusyError
        If none is free.
    """
    if not _OPEN.acquire(timeout=WAIT_S):
        raise BusyError(_SILENT.format(what="too much waits for it already"))
    try:
        yield
    finally:
        _OPEN.release()
