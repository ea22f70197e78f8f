"""Decode picture frames in a process of their own, never in the web process."""

from __future__ import annotations

import resource
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures import TimeoutError as FutureTimeoutError
from concurrent.futures.process import BrokenProcessPool
from functools import lru_cache
from multiprocessing import get_context

from vesk.actions.located import Located
from vesk.core.errors import MediaError
from vesk.media.cache import save_frames

_MEMORY = 3 << 30
_WAIT_S = 15


def _limit() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))


@lru_cache(maxsize=1)
def _pool() -> ProcessPoolExecutor:
    return ProcessPoolExecutor(1, mp_context=get_context("spawn"), initializer=_limit)


def ensure_frames(place: Located, indices: list[int]) -> None:
    """Have frames decoded and kept; a damaged file costs only itself."""
    if all(place.kept.frame(index).exists() for index in indices):
        return
    try:
        _pool().submit(save_frames, place.path, place.kept, indices).result(timeout=_WAIT_S)
    except (BrokenProcessPool, FutureTimeoutError) as error:
        _pool.cache_clear()
        raise MediaError(place.path, "its picture could not be decoded in time", "Its sound is unharmed.") from error
