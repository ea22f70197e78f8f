"""Several files read as one recording: a run lies one after the other, a set side by side as channels."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from itertools import accumulate
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from vesk.core.errors import RefusedError
from vesk.core.facts import Facts
from vesk.core.intake.sets import part_of
from vesk.core.kinds import PICTURE, RUN, SET, Together
from vesk.media.checksum import UNREAD, WHOLE, is_whole
from vesk.media.sound import Samples

_ALIKE = {
    RUN: {"kind": "kind", "fps": "frame rate", "sample_rate": "sample rate", "channels": "number of channels"},
    SET: {"kind": "kind", "sample_rate": "sample rate"},  # but for a picture, which is first
}


def merge_facts(members: Sequence[Facts], how: Together, stems: Sequence[str] = ()) -> Facts:
    """Return what is known of files taken together.

    Parameters
    ----------
    members : sequence of Facts
        In order: of time for a `RUN`, of channels for a `SET`.
    how : Together
        A `SET` is sound files side by side, or a picture without sound and then its own.
    stems : sequence of str
        Their names without endings: a channel that has no name is called after what its file says it is of the take.

    Raises
    ------
    RefusedError
        If there are fewer than two, or they differ where one recording cannot.
    """
    if len(members) < 2:
        raise RefusedError("One recording is made of two files or more: select them all.")
    beside = how == SET and members[0].kind == PICTURE and not members[0].channels
    for name, words in _ALIKE[how].items():
        values = {getattr(one, name) for one in (members[1:] if beside else members)}
        if len(values) > 1:
            said = ", ".join(sorted(f"{float(v):g}" if isinstance(v, Fraction) else str(v) for v in values))
            raise RefusedError(f"These cannot be one recording: they differ in {words} ({said}).")
    if beside and members[1].kind != PICTURE:
        return _with_own_sound(members[0], members[1:], stems[1:])
    first = members[0]
    remarks = tuple(dict.fromkeys(remark for one in members for remark in one.remarks))
    flaws = tuple(dict.fromkeys(flaw for one in members for flaw in one.flaws))
    if how == RUN:
        duration = sum((one.duration for one in members), Fraction(0))
        frames = sum(one.frames or 0 for one in members) if first.kind == PICTURE else None
        # A picture's sound lies where its frames do: a file whose sound ends early is silent to its last frame.
        samples = round(duration * first.sample_rate) if first.kind == PICTURE else sum(one.samples for one in members)
        begins = accumulate((one.duration for one in members), initial=Fraction(0))
        markers = tuple(
            replace(marker, at=at + marker.at)
            for at, one in zip(begins, members, strict=False)
            for marker in one.markers
        )
        return replace(
            first, duration=duration, frames=frames, samples=samples, remarks=remarks, flaws=flaws, markers=markers
        )
    if first.kind == PICTURE:
        raise RefusedError(
            "Only sound files lie side by side as channels, with one picture that has no sound; other pictures are "
            "parts of a run."
        )
    longest, shortest = (chosen(one.samples for one in members) for chosen in (max, min))
    if longest != shortest:
        short = [one for one in members if one.samples < longest]
        gone = float(Fraction(longest - shortest, first.sample_rate))
        remarks += (f"{len(short)} of {len(members)} tracks end up to {gone:.2f} s early and are silent from there",)
    names: list[str] = []
    parts = [part_of(stem) for stem in stems]
    for number, one in enumerate(members, start=1):
        called = (parts[number - 1] or "mix") if any(parts) else f"track {number}"
        ears = {1: [""], 2: [" left", " right"]}.get(one.channels, [f" {n + 1}" for n in range(one.channels)])
        each = [called + ear for ear in ears]
        names += one.track_names if len(one.track_names) == one.channels else each
    return replace(
        first,
        duration=Fraction(longest, first.sample_rate),
        samples=longest,
        remarks=remarks,
        flaws=flaws,
        track_names=tuple(names),
        channels=sum(one.channels for one in members),
    )


def _with_own_sound(picture: Facts, sounds: Sequence[Facts], stems: Sequence[str]) -> Facts:
    """Return what is known of a picture with the sound that its camera wrote to files of its own."""
    own = merge_facts(sounds, SET, stems) if len(sounds) > 1 else sounds[0]
    label: dict[str, Any] = {}
    if not picture.timecode and picture.time_reference is None and own.time_reference is not None:
        origins = picture.origins | {"time_reference": own.origins.get("time_reference", "bext")}
        label = {"time_reference": own.time_reference, "timecode_rate": own.timecode_rate, "origins": origins}
    return replace(
        picture, sound_codec=own.sound_codec, sample_rate=own.sample_rate,
        channels=own.channels, bits=own.bits, samples=own.samples, track_names=own.track_names,
        remarks=tuple(dict.fromkeys((*picture.remarks, *own.remarks))),
        flaws=tuple(dict.fromkeys((*picture.flaws, *own.flaws))), **label,
    )  # fmt: skip


def merged_content(contents: Sequence[str], how: Together) -> str:
    """Return the content hash of files taken together; it is one of every byte where theirs are."""
    mark = WHOLE if all(is_whole(one) for one in contents) else UNREAD
    return mark + hashlib.blake2b("\n".join([how, *contents]).encode(), digest_size=16).hexdigest()


class _Together:
    """Several open files, let go of together."""

    def __init__(self, members: Sequence[Samples]) -> None:
        self._members = members

    def close(self) -> None:
        """Let go of the files."""
        for one in self._members:
            one.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class Series(_Together):
    """`Samples` of a run: each file from its own start, cut or silent up to the next one's.

    Parameters
    ----------
    members : sequence of Samples
    durations : sequence of Fraction
        Seconds that each file takes.
    """

    def __init__(self, members: Sequence[Samples], durations: Sequence[Fraction]) -> None:
        super().__init__(members)
        self.sample_rate, self.channels = members[0].sample_rate, members[0].channels
        self._edges = [0, *(round(at * self.sample_rate) for at in accumulate(durations))]
        self.frames = self._edges[-1]

    def read(self, start: int, count: int) -> NDArray[np.float32]:
        """Read samples ``start`` to ``start + count`` as float32 (count, channels)."""
        out = np.zeros((count, self.channels), np.float32)
        for one, low, high in zip(self._members, self._edges[:-1], self._edges[1:], strict=True):
            begin, stop = max(start, low), min(start + count, high)
            if stop > begin:
                out[begin - start : stop - start] = one.read(begin - low, stop - begin)
        return out


class SideBySide(_Together):
    """`Samples` of a set: one file's channels after the other's; one that ends early is silent from there."""

    def __init__(self, members: Sequence[Samples]) -> None:
        super().__init__(members)
        self.sample_rate = members[0].sample_rate
        self.channels = sum(one.channels for one in members)
        self.frames = max(one.frames for one in members)

    def read(self, start: int, count: int) -> NDArray[np.float32]:
        """Read samples ``start`` to ``start + count`` as float32 (count, channels)."""
        return np.concatenate([one.read(start, count) for one in self._members], axis=1)
