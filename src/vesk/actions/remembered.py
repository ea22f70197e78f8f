"""What was computed, kept in this process by the name of all that it rests on: so it is never stale."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Hashable
from threading import Lock
from typing import Generic, TypeVar

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class Remembered(Generic[K, V]):
    """Values by key, the most recently used ones; may be asked by several threads at once.

    Parameters
    ----------
    most : int
        Values kept.
    """

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: OrderedDict[K, V] = OrderedDict()
        self._lock = Lock()

    def find(self, key: K) -> V | None:
        """Return the value of a key; None where it is not there any more."""
        with self._lock:
            if key not in self._kept:
                return None
            self._kept.move_to_end(key)
            return self._kept[key]

    def keep(self, key: K, value: V) -> None:
        """Keep a value; the ones not asked for longest go."""
        with self._lock:
            self._kept[key] = value
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)

    def forget(self) -> None:
        """Let everything go."""
        with self._lock:
            self._kept.clear()
