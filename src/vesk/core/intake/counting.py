"""How the names of one device's files count on."""

from __future__ import annotations

import re
from collections.abc import Iterable
from itertools import groupby
from typing import Any

from natsort import natsort_keygen

_LAST_NUMBER = re.compile(r"(.*?)(\d+)(\D*)", re.DOTALL)  # what stands before, the number, what follows
_PART = re.compile(r"[ _.\-]+0*[12]")  # behind the name of the first file, whose own has none
_CHAPTERED = re.compile(r"(\D*)(\d\d)?(\d{4})")  # in two digits which part, in four which clip
_natural = natsort_keygen()


class Names:
    """How one device's names count: by their last number or letter, or by the part in front of the clip's number.

    Cameras that cut a clip into parts name them ``XA010042``, ``XA020042``, some the first ``XAVE0042``: read as
    numbers, the parts of one clip lie ten thousand apart, and the next clip's first part follows.

    Parameters
    ----------
    stems : iterable of str
        File names without their endings.
    """

    def __init__(self, stems: Iterable[str]) -> None:
        self._parts = _chapters(stems)

    def place(self, stem: str) -> Any:
        """Return a key by which these names are sorted as they count."""
        return self._parts[stem] if self._parts else _natural(stem)

    def count_on(self, stem: str, after: str) -> bool:
        """Say whether a name is the next of another.

        Examples
        --------
        >>> plain = Names([])
        >>> plain.count_on("clip0017", "clip0018"), plain.count_on("37_01a", "37_01b"), plain.count_on("T7", "T7_0002")
        (True, True, True)
        >>> parts = Names(["XA010042", "XA020042", "XA010043"])
        >>> parts.count_on("XA010042", "XA020042"), parts.count_on("XA010042", "XA010043")
        (True, False)
        """
        if self._parts:
            (clip, part), (other, next_) = self._parts[stem], self._parts[after]
            return clip == other and next_ == part + 1
        one, two = _LAST_NUMBER.fullmatch(stem), _LAST_NUMBER.fullmatch(after)
        if one and two and (one[1], one[3]) == (two[1], two[3]):
            return int(two[2]) == int(one[2]) + 1
        if after.startswith(stem) and _PART.fullmatch(after, len(stem)):
            return True
        lettered = stem[:-1] == after[:-1] and stem[-1:].isalpha() and after[-1:].isalpha()
        return lettered and ord(after[-1]) == ord(stem[-1]) + 1


def _chapters(stems: Iterable[str]) -> dict[str, tuple[str, int]]:
    """Return clip and part by name; empty where not every name has both, or a clip lacks a part before another."""
    parts = {}
    for stem in stems:
        found = _CHAPTERED.fullmatch(stem)
        if not found:
            return {}
        parts[stem] = (found[3], int(found[2] or 0))
    told = sorted(set(parts.values()))
    clips = [[part for _, part in own] for _, own in groupby(told, key=lambda one: one[0])]
    whole = all(own == list(range(own[0], own[0] + len(own))) and own[0] < 2 for own in clips)
    return parts if whole and len(told) == len(parts) and any(len(own) > 1 for own in clips) else {}
