"""Read files in a process of its own with limits: one that is damaged or hostile costs only itself."""

from __future__ import annotations

import resource
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures import TimeoutError as FutureTimeoutError
from concurrent.futures.process import BrokenProcessPool
from functools import lru_cache
from multiprocessing import get_context
from pathlib import Path
from typing import ParamSpec, TypeVar

from vesk.core.errors import MediaError

P = ParamSpec("P")
T = TypeVar("T")
_MEMORY = 4 << 30  # bytes of address space
_FILE = 64 << 30  # the largest file it may write


def _limit() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (_FILE, _FILE))


@lru_cache(maxsize=1)
def _pool() -> ProcessPoolExecutor:
    return ProcessPoolExecutor(1, mp_context=get_context("spawn"), initializer=_limit)


def guarded(path: Path, wait_s: float, work: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """Call `work` in the guarded process.

    Parameters
    ----------
    path : Path
        The file it is about, for the sentence.
    wait_s : float
        Longest it may take.
    work : callable
        Of module level; its arguments and result are pickled.

    Raises
    ------
    MediaError
        If the process was ended by the file, ran out of memory, or took too long; and what `work` raises.
    """
    try:
        return _pool().submit(work, *args, **kwargs).result(timeout=wait_s)
    except BrokenProcessPool as error:
        _pool.cache_clear()
        raise MediaError(
            path, "reading it ended the process that read it", "It may be damaged: copy it again."
        ) from error
    except FutureTimeoutError as error:
        _end()
        raise MediaError(
            path, f"reading it took longer than {wait_s:.0f} s", "It may be damaged: copy it again."
        ) from error
    except MemoryError as error:
        raise MediaError(path, "reading it needed too much memory", "It may be damaged: copy it again.") from error


def _end() -> None:
    """End the process and whatever it is stuck in."""
    pool = _pool()
    _pool.cache_clear()
    for process in list((getattr(pool, "_processes", None) or {}).values()):
        process.kill()
    pool.shutdown(wait=False, cancel_futures=True)
