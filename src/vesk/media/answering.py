"""A disk that hangs: what a page asks of it is asked beside the page, and not waited for longer than a person would.

A read from a mount that does not answer never returns and cannot be taken back: it costs one of a few threads here
until the mount answers again, and the page says so.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, TypeVar, cast

from vesk.core.errors import SilentError

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
    SilentError
        If the disk does not answer.
    """
    places = _AT_ONCE  # the one that is taken is given back, whatever counts by then
    if not places.acquire(timeout=wait_s):
        raise SilentError(_SILENT.format(what=what))
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
        raise SilentError(_SILENT.format(what=what))
    well, value = told[0]
    if not well:
        raise cast("BaseException", value)
    return cast("T", value)


def look(*paths: Path, wait_s: float | None = None) -> None:
    """Read a byte of each file, so that a disk that hangs is told before anything is read that would wait for it.

    What else may be wrong with a file is said by whoever reads it.

    Raises
    ------
    SilentError
        If the disk does not answer.
    """
    for path in {path.parent: path for path in paths}.values():
        _ask(path, WAIT_S if wait_s is None else wait_s)


_asked: dict[Path, threading.Event] = {}  # folders that were asked and did not answer yet
_ASKING = threading.Lock()


def _ask(path: Path, wait_s: float) -> None:
    """Ask a file's folder; where somebody did already, wait with them: a disk that hangs costs one thread, not all."""
    with _ASKING:
        already = _asked.get(path.parent)
        done = _asked.setdefault(path.parent, threading.Event())
    if already is not None:
        if not already.wait(wait_s):
            raise SilentError(_SILENT.format(what=path))
        return
    begun = threading.Event()

    def touch() -> None:
        begun.set()
        try:
            _touch(path)
        finally:
            _forget(path.parent, done)

    try:
        within(path, touch, wait_s)
    finally:
        if not begun.is_set():
            _forget(path.parent, done)


def _forget(folder: Path, done: threading.Event) -> None:
    with _ASKING:
        _asked.pop(folder, None)
    done.set()


def _touch(path: Path) -> None:
    with suppress(OSError):
        file = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
        try:
            os.pread(file, 1, os.fstat(file).st_size // 2)
        finally:
            os.close(file)


@contextmanager
def reading() -> Iterator[None]:
    """Take one of the few places for what reads media, so that a disk that hangs leaves the other pages alone.

    Raises
    ------
    SilentError
        If none is free.
    """
    if not _OPEN.acquire(timeout=WAIT_S):
        raise SilentError(_SILENT.format(what="too much waits for it already"))
    try:
        yield
    finally:
        _OPEN.release()
