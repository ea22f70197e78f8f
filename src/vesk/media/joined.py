"""Several files read as one recording: a run lies one after the other, a set side by side as channels."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from itertools import accumulate
from typing import Self

import numpy as np
from numpy.typing import NDArray

from vesk.core.errors import RefusedError
from vesk.media.checksum import UNREAD, WHOLE, is_whole
from vesk.media.facts import PICTURE, Facts
from vesk.media.sound import Samples

RUN, SET = "run", "set"
_ALIKE = {
    RUN: {"kind": "kind", "fps": "frame rate", "sample_rate": "sample rate", "channels": "number of channels"},
    SET: {"kind": "kind", "sample_rate": "sample rate"},
}


def join_facts(parts: Sequence[Facts], how: str) -> Facts:
    """Return what is known of files taken together.

    Parameters
    ----------
    parts : sequence of Facts
        In order: of time for a `RUN`, of channels for a `SET`.
    how : str

    Raises
    ------
    RefusedError
        If there are fewer than two, or they differ where one recording cannot.
    """
    if len(parts) < 2:
        raise RefusedError("One recording is made of two files or more: select them all.")
    for name, words in _ALIKE[how].items():
        values = {getattr(one, name) for one in parts}
        if len(values) > 1:
            said = ", ".join(sorted(f"{float(v):g}" if isinstance(v, Fraction) else str(v) for v in values))
            raise RefusedError(f"These cannot be one recording: they differ in {words} ({said}).")
    first = parts[0]
    remarks = tuple(dict.fromkeys(remark for one in parts for remark in one.remarks))
    if how == RUN:
        duration = sum((one.duration for one in parts), Fraction(0))
        frames = sum(one.frames or 0 for one in parts) if first.kind == PICTURE else None
        # A picture's sound lies where its frames do: a part whose sound ends early is silent to its last frame.
        samples = round(duration * first.sample_rate) if first.kind == PICTURE else sum(one.samples for one in parts)
        return replace(first, duration=duration, frames=frames, samples=samples, remarks=remarks)
    if first.kind == PICTURE:
        raise RefusedError("Only sound files lie side by side as channels; pictures are parts of a run.")
    longest, shortest = (chosen(one.samples for one in parts) for chosen in (max, min))
    if longest != shortest:
        short = [one for one in parts if one.samples < longest]
        gone = float(Fraction(longest - shortest, first.sample_rate))
        remarks += (f"{len(short)} of {len(parts)} tracks end up to {gone:.2f} s early and are silent from there",)
    names: list[str] = []
    for number, one in enumerate(parts, start=1):
        own = len(one.track_names) == one.channels
        names += one.track_names if own else [f"track {number}"] * one.channels
    return replace(
        first,
        duration=Fraction(longest, first.sample_rate),
        samples=longest,
        remarks=remarks,
        track_names=tuple(names),
        channels=sum(one.channels for one in parts),
    )


def joined_content(contents: Sequence[str], how: str) -> str:
    """Return the content hash of files taken together; it is one of every byte where theirs are."""
    mark = WHOLE if all(is_whole(one) for one in contents) else UNREAD
    return mark + hashlib.blake2b("\n".join([how, *contents]).encode(), digest_size=16).hexdigest()


class _Together:
    """Several open files, let go of together."""

    def __init__(self, parts: Sequence[Samples]) -> None:
        self._parts = parts

    def close(self) -> None:
        """Let go of the files."""
        for part in self._parts:
            part.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class Series(_Together):
    """`Samples` of a run: each part from its own start, cut or silent up to the next one's.

    Parameters
    ----------
    parts : sequence of Samples
    durations : sequence of Fraction
        Seconds that each part takes.
    """

    def __init__(self, parts: Sequence[Samples], durations: Sequence[Fraction]) -> None:
        super().__init__(parts)
        self.sample_rate, self.channels = parts[0].sample_rate, parts[0].channels
        self._edges = [0, *(round(at * self.sample_rate) for at in accumulate(durations))]
        self.frames = self._edges[-1]

    def read(self, start: int, count: int) -> NDArray[np.float32]:
        """Read samples ``start`` to ``start + count`` as float32 (count, channels)."""
        out = np.zeros((count, self.channels), np.float32)
        for part, low, high in zip(self._parts, self._edges[:-1], self._edges[1:], strict=True):
            begin, stop = max(start, low), min(start + count, high)
            if stop > begin:
                out[begin - start : stop - start] = part.read(begin - low, stop - begin)
        return out


class SideBySide(_Together):
    """`Samples` of a set: one file's channels after the other's; one that ends early is silent from there."""

    def __init__(self, parts: Sequence[Samples]) -> None:
        super().__init__(parts)
        self.sample_rate = parts[0].sample_rate
        self.channels = sum(part.channels for part in parts)
        self.frames = max(part.frames for part in parts)

    def read(self, start: int, count: int) -> NDArray[np.float32]:
        """Read samples ``start`` to ``start + count`` as float32 (count, channels)."""
        return np.concatenate([part.read(start, count) for part in self._parts], axis=1)
