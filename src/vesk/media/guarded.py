"""The guarded border: files are read in processes of their own, with limits, and nothing foreign comes back.

Whatever a reader does, the caller gets its result or a `MediaError` that says what happened to which file. A file that
brings its reader down costs only itself: the limit counts from the moment its own reading began, and running out ends
that one process.
"""

from __future__ import annotations

import ctypes
import os
import resource
import signal
import struct
import time
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from concurrent.futures import TimeoutError as FutureTimeoutError
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from functools import partial
from multiprocessing.context import SpawnContext, SpawnProcess
from pathlib import Path
from tempfile import NamedTemporaryFile
from typing import Any, ParamSpec, TypeVar

from pebble import ProcessExpired, ProcessFuture, ProcessPool

from vesk.core.errors import MediaError, SilentError, StoppedError, VeskError
from vesk.core.progress import OnProgress
from vesk.media import answering

P = ParamSpec("P")
T = TypeVar("T")
MEMORY = 4 << 30  # bytes of address space
_FILE = 64 << 30  # the largest file it may write
_PROCESSES = 2
_ASKED_S = 0.4
_KILLED_S = 2.0  # a process that is still there so long after it was killed waits for a disk
_TOLD = struct.Struct("<qq")
_PR_SET_PDEATHSIG = 1
_DAMAGED = "It may be damaged: copy it again from the card, or set it aside."


def _limit(starter: int) -> None:
    # Ended with whoever started it, however that ends: none is left behind.
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != starter:
        os._exit(1)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (_FILE, _FILE))


# The thread that starts the processes: the kernel ends them when the *thread* that made them ends.
_STARTER = ThreadPoolExecutor(1, thread_name_prefix="guarded")


class _Reader(SpawnProcess):
    """A process that nobody waits for without end: one whose request a disk took ends when that disk answers."""

    _left = False

    def join(self, timeout: float | None = None) -> None:
        super().join(_KILLED_S if timeout is None else timeout)
        self._left = timeout is None and super().is_alive()

    def is_alive(self) -> bool:
        return not self._left and super().is_alive()


class _Context(SpawnContext):
    Process = _Reader


# Pools of one process each, and what it was last given. One more is started where none is free: loading what it needs
# takes a second and 150 MB, and a worker reads one file at a time.
_pools: dict[ProcessPool, ProcessFuture[Any]] = {}


def _schedule(
    work: Callable[..., T], args: tuple[Any, ...], kwargs: dict[str, Any], wait_s: float
) -> tuple[ProcessPool, ProcessFuture[T]] | None:
    """Hand work to a process that has nothing to do, in the one thread that makes pools; None where all are busy."""
    for pool in [one for one in _pools if not one.active]:
        # One of its own threads died: it takes nothing any more, and that says nothing of a file.
        del _pools[pool]
        pool.join()  # its process is ended before anybody writes what it was writing
    free = next((pool for pool, given in _pools.items() if given.done()), None)
    if free is None:
        if len(_pools) == _PROCESSES:
            return None
        free = ProcessPool(1, context=_Context(), initializer=_limit, initargs=(os.getpid(),))
    try:
        scheduled: ProcessFuture[T] = free.schedule(work, args=args, kwargs=kwargs, timeout=wait_s)
    except RuntimeError as error:  # it died just now
        raise BrokenProcessPool from error
    _pools[free] = scheduled
    return free, scheduled


_last = 0.0
_told: Path | None = None  # in a guarded process: where it tells how far it is


def tell(done: int, total: int) -> bool:
    """Tell how far this guarded process is; the one who waits for it ends it where it is to stop."""
    global _last  # noqa: PLW0603
    if _told is not None and time.monotonic() - _last > _ASKED_S / 2:
        _last = time.monotonic()
        with suppress(OSError), _told.open("r+b") as file:  # never made anew: whoever waited may be gone
            file.write(_TOLD.pack(done, total))
    return True


def _telling(told: str, work: Callable[..., T], args: tuple[Any, ...], kwargs: dict[str, Any]) -> T:
    global _told  # noqa: PLW0603 - a guarded process does one thing at a time
    _told = Path(told)
    try:
        return work(*args, **kwargs)
    finally:
        _told = None


def watched(path: Path, wait_s: float, on_progress: OnProgress, work: Callable[..., T], *args: Any) -> T:
    """Call `work` in a guarded process, as `guarded` does, and hand on what it says to `tell` while it lasts.

    Raises
    ------
    StoppedError
        If `on_progress` says that it is to stop: the process is ended.
    """
    with NamedTemporaryFile(prefix="vesk-") as file:
        told = Path(file.name)

        def ask() -> bool:
            try:
                done, total = _TOLD.unpack(told.read_bytes())
            except (OSError, struct.error):
                return True  # nothing was told yet, or just now
            return on_progress(done, total)

        result: T = patiently(
            path, lambda: _twice(path, lambda: _call(path, wait_s, _telling, (str(told), work, args, {}), {}, ask)), ask
        )
        return result


def guarded(path: Path, wait_s: float, work: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """Call `work` in a guarded process.

    Parameters
    ----------
    path : Path
        The file it is about, for the sentence.
    wait_s : float
        Longest it may take, seconds, from when it begins; waiting for others does not count.
    work : callable
        Of module level; its arguments and result are pickled.

    Raises
    ------
    MediaError
        If the process was ended by the file, ran out of memory, or took too long, or `work` raised what it should not.
    SilentError
        If it took too long because the disk does not answer.
    VeskError
        What `work` raised on purpose.
    """
    return _twice(path, lambda: _call(path, wait_s, work, args, kwargs))


def patiently(path: Path, call: Callable[[], T], ask: Callable[[], bool] = lambda: True) -> T:
    """Call what reads a file until the disk answers: it costs whoever has the time nothing but that.

    Parameters
    ----------
    path : Path
    call : callable
    ask : callable
        Whether to wait on.

    Raises
    ------
    StoppedError
        If it is to stop.
    """
    while True:
        try:
            return call()
        except SilentError:
            while not _answers(path):
                if not ask():
                    raise StoppedError(f"Stopped while {path.name} was waited for.") from None


def _answers(path: Path) -> bool:
    try:
        answering.look(path, wait_s=_ASKED_S)
    except SilentError:
        time.sleep(_ASKED_S)
        return False
    return True


def guarded_each(paths: Sequence[Path], wait_s: float, work: Callable[[Path], T]) -> list[T | VeskError]:
    """Call `work` for each of several files in one guarded process, as `guarded` does for one.

    Crossing the border costs as much as reading a small header: files that are many are read some at a time. Where one
    brings the process down, or all together take too long, each is read by itself; a disk that hangs is waited for.

    Parameters
    ----------
    paths : sequence of Path
    wait_s : float
        Longest that all of them may take, and then each by itself, seconds.
    work : callable
        Of module level; its results are pickled.

    Returns
    -------
    list
        For each file its result, or why there is none.
    """
    if len(paths) > 1:
        with suppress(VeskError):
            return patiently(paths[0], lambda: guarded(paths[0], wait_s, _each, work, tuple(paths)))
    found: list[T | VeskError] = []
    for path in paths:
        try:
            found.append(patiently(path, partial(guarded, path, wait_s, work, path)))
        except VeskError as error:
            found.append(error)
    return found


def _each(work: Callable[[Path], T], paths: Sequence[Path]) -> list[T | VeskError]:
    found: list[T | VeskError] = []
    for path in paths:
        try:
            found.append(bordered(path, work, path))
        except VeskError as error:
            found.append(error)
    return found


def _twice(path: Path, call: Callable[[], T]) -> T:
    try:
        return bordered(path, call)
    except BrokenProcessPool:
        # An idle process was ended from outside, or the pool fell over: that says nothing of the file.
        return bordered(path, call)


def _call(
    path: Path,
    wait_s: float,
    work: Callable[..., T],
    args: tuple[Any, ...],
    kwargs: dict[str, Any],
    ask: Callable[[], bool] | None = None,
) -> T:
    while (begun := _STARTER.submit(_schedule, work, args, kwargs, wait_s).result()) is None:
        wait(list(_pools.values()), timeout=_ASKED_S, return_when=FIRST_COMPLETED)
        if ask is not None and not ask():
            raise StoppedError(f"Stopped before {path.name} was read.")
    pool, scheduled = begun
    while not wait([scheduled], timeout=_ASKED_S).done:
        if not pool.active:  # nobody would ever say that it took too long
            raise BrokenProcessPool
        if ask is not None and not ask():
            scheduled.cancel()  # type: ignore[no-untyped-call]
            raise StoppedError(f"Stopped while {path.name} was read.")
    try:
        result: T = scheduled.result()
    except FutureTimeoutError as error:
        answering.look(path)  # a disk that hangs says nothing of the file
        raise MediaError(path, f"reading it took longer than {wait_s:.0f} s", _DAMAGED) from error
    return result


def bordered(path: Path, work: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """Call `work` here; whatever foreign goes wrong in it becomes the file's own sentence.

    Raises
    ------
    MediaError
        Naming `path`.
    VeskError
        What `work` raised on purpose.
    """
    try:
        return work(*args, **kwargs)
    except (VeskError, BrokenProcessPool):
        raise
    except ProcessExpired as error:
        raise MediaError(path, "reading it ended the process that read it", _DAMAGED) from error
    except MemoryError as error:
        raise MediaError(path, "reading it needed too much memory", _DAMAGED) from error
    except Exception as error:
        raise MediaError(path, f"it cannot be read ({_plain(error)})", _DAMAGED) from error


def _plain(error: Exception) -> str:
    """Return a foreign error in a few words."""
    text = " ".join(str(error).split())[:120]
    return f"{type(error).__name__}: {text}" if text else type(error).__name__
