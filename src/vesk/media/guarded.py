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
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import TimeoutError as FutureTimeoutError
from concurrent.futures.process import BrokenProcessPool
from functools import lru_cache
from multiprocessing import get_context
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

from pebble import ProcessExpired, ProcessPool

from vesk.core.errors import MediaError, VeskError

P = ParamSpec("P")
T = TypeVar("T")
MEMORY = 4 << 30  # bytes of address space
_FILE = 64 << 30  # the largest file it may write
_PROCESSES = 2
_PR_SET_PDEATHSIG = 1
_DAMAGED = "It may be damaged: copy it again from the card, or set it aside."


def _limit(starter: int) -> None:
    # Ended with whoever started it, however that ends: none is left behind.
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != starter:
        os._exit(1)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (_FILE, _FILE))


@lru_cache(maxsize=1)
def _starter() -> ThreadPoolExecutor:
    """Return the thread that starts the processes: the kernel ends them when the *thread* that made them ends."""
    return ThreadPoolExecutor(1, thread_name_prefix="guarded")


@lru_cache(maxsize=1)
def _pool() -> ProcessPool:
    return ProcessPool(_PROCESSES, context=get_context("spawn"), initializer=_limit, initargs=(os.getpid(),))


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
    VeskError
        What `work` raised on purpose.
    """
    try:
        return bordered(path, lambda: _call(path, wait_s, work, args, kwargs))
    except BrokenProcessPool:
        # An idle process was ended from outside: that says nothing of the file.
        _pool.cache_clear()
        return bordered(path, lambda: _call(path, wait_s, work, args, kwargs))


def _call(path: Path, wait_s: float, work: Callable[..., T], args: tuple[Any, ...], kwargs: dict[str, Any]) -> T:
    scheduled = _starter().submit(lambda: _pool().schedule(work, args=args, kwargs=kwargs, timeout=wait_s)).result()
    try:
        result: T = scheduled.result()
    except FutureTimeoutError as error:
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
