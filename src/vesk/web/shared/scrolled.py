"""Long lists: the first rows come with the page, the others as they are scrolled to (`rows.js`)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

from flask import request

from vesk.core.errors import NumberError
from vesk.core.figures import read_whole

T = TypeVar("T")
FIRST = 36  # rows with the page
NEXT = 100  # rows at a time afterwards


@dataclass(frozen=True, slots=True)
class Scrolled(Generic[T]):
    """What of a list is shown.

    Attributes
    ----------
    rows : sequence
        Those that are sent now.
    count : int
        All there are.
    url : str
        Where the others come from; ``from`` says which.
    alone : bool
        Whether rows are asked for, and no page.
    """

    rows: Sequence[T]
    count: int
    url: str
    alone: bool


def _asked(name: str) -> int:
    try:
        return read_whole(request.values.get(name, "0"))
    except NumberError:
        return 0


def scrolled(rows: Sequence[T], url: str) -> Scrolled[T]:
    """Return the rows that a request asks for: from one on, or the first, as many as the page has already."""
    begin = _asked("from")
    count = NEXT if begin else max(FIRST, _asked("rows"))
    return Scrolled(rows[begin : begin + count], len(rows), url, alone=begin > 0)
