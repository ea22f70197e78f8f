"""A recording with its files, its facts, and what is kept of it: one file, or several taken together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import accumulate
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vesk.core.errors import MediaError
from vesk.core.facts import Facts
from vesk.core.heard import HeardHole
from vesk.core.kinds import PICTURE, RUN, Together
from vesk.core.progress import WHOLE, OnProgress, part_of, unwatched
from vesk.media import cache, checksum, frames, light_copy, merged, probe, scan
from vesk.media.guarded import bordered, tell
from vesk.media.merged import Series, SideBySide
from vesk.media.sound import Samples, SoundReader
from vesk.media.whole import have_folder, let_go, written_whole


@dataclass(frozen=True, slots=True)
class Located:
    """A recording on disk.

    Attributes
    ----------
    path : Path
        Its file; the first of several.
    facts : Facts
        Of all of it.
    entry : CacheEntry
        Its place in the cache.
    members : tuple of Located
        What it is made of; empty for one file.
    how : str
        Whether they lie one after the other (`RUN`) or side by side (`SET`).
    root : Path or None
        The folder that its file must really lie below, links followed; None: wherever it lies.
    """

    path: Path
    facts: Facts
    entry: cache.CacheEntry
    members: tuple[Located, ...] = ()
    how: Together | None = None
    root: Path | None = None

    @property
    def file(self) -> Path:
        """Its file, to be opened now.

        Raises
        ------
        MediaError
            If a link has come to lead out of the day's folder since intake.
        """
        if self.root is not None and not scan.within(self.path, self.root):
            raise MediaError(
                self.path, "it leads out of the day's folder now; it is not followed", "Copy the file itself there."
            )
        return self.path

    @property
    def sounding(self) -> tuple[Located, ...]:
        """The members that have sound: of a picture with sound of its own beside it, that."""
        return tuple(one for one in self.members if self.how == RUN or one.facts.channels)

    @property
    def files(self) -> tuple[Path, ...]:
        """Every file it is made of."""
        return tuple(file for one in self.members for file in one.files) if self.members else (self.path,)

    @property
    def heard_from(self) -> tuple[Path, ...]:
        """The files that its `reader` opens on the day's disk: of a movie none."""
        if self.members:
            return tuple(file for one in self.members for file in one.heard_from)
        return () if self.facts.coded else (self.path,)

    @property
    def in_time(self) -> tuple[Located, ...]:
        """What lies on picture time one after the other: the members of a run, else itself."""
        return tuple(file for one in self.members for file in one.in_time) if self.how == RUN else (self,)

    def reader(self) -> Samples:
        """Open its samples for reading by range; a movie's are those in the cache.

        Raises
        ------
        MediaError
            If a file is not there or cannot be read.
        """
        if not self.members:
            return SoundReader(self.entry.sound if self.facts.coded else self.file)
        with ExitStack() as opened:
            readers = [opened.enter_context(one.reader()) for one in self.sounding]
            opened.pop_all()
        if self.how == RUN:
            return Series(readers, [one.facts.duration for one in self.members])
        return SideBySide(readers)

    def ensure_heard(self, on_progress: OnProgress = unwatched) -> None:
        """Compute and keep its features and peaks, if that was not done before."""
        if not self.facts.channels:
            what = "scratch sound" if self.facts.kind == PICTURE else "sound"
            raise MediaError(self.path, f"it has no {what}", "It cannot be measured by sound.")
        cache.touch(self.entry)
        if self.entry.done.exists():
            return
        if not self.members:
            cache.listen(self.file, self.facts, self.entry, on_progress)
            return
        coded = [one for one in self.sounding if one.facts.coded]
        each = WHOLE // (len(coded) + 1)
        for number, one in enumerate(coded):
            one.ensure_heard(part_of(on_progress, each * number, each * (number + 1)))  # decoded for each file once
        with self.reader() as reader:
            rest = part_of(on_progress, each * len(coded), WHOLE)
            blocks = cache.blocks_of(reader)
            cache.listen_to(blocks, self.facts, self.entry, holes=self._holes(), on_progress=rest)

    def _holes(self) -> list[HeardHole]:
        """Return the holes of its members' sound, once they were listened to, where they lie in all of it."""
        found, at = [], 0.0
        for one in self.members:
            own = cache.heard(one.entry)
            found += [replace(hole, at_s=at + hole.at_s) for hole in (own.holes if own else ())]
            at += float(one.facts.duration) if self.how == RUN else 0.0
        return found

    def save_frames(self, indices: Sequence[int], size: cache.FrameSize = cache.FrameSize.SMALL) -> None:
        """Decode the frames that are not kept yet, as JPEG, counted from its first."""
        for one, first in self._one_by_one():
            own = [index - first for index in indices if first <= index < first + (one.facts.frames or 0)]
            cache.save_frames(one.file, self.entry, own, first=first, size=size)

    def write_light_copy(self, on_progress: OnProgress = unwatched) -> None:
        """Make and keep its light copy, if there is none: one of all its files, numbered from the first one's."""
        if self.entry.light_index.exists():
            return
        count = self.facts.frames or 0
        have_folder(self.entry.folder)

        def numbered() -> Iterator[tuple[int, Any]]:
            for one, first in self._one_by_one():
                last = first + (one.facts.frames or 0)
                for number, frame in frames.numbered_frames(one.file, lines=light_copy.LINES):
                    if first + number < last:
                        on_progress(first + number, count)
                        yield first + number, frame

        growing = self.entry.light_growing
        let_go(growing)
        try:
            with written_whole(self.entry.light_index) as index, written_whole(self.entry.light) as copy:
                fps = self.facts.fps or Fraction(25)
                light_copy.write_light_copy(numbered(), copy, index, growing, fps=fps, frames=count)
        finally:
            let_go(growing)

    def grey_frames(self, first: int, count: int) -> NDArray[np.uint8]:
        """Decode consecutive frames as grey pictures (frames, height, width); fewer at the picture's end."""
        pieces = []
        for one, begin in self._one_by_one():
            low, high = max(first, begin), min(first + count, begin + (one.facts.frames or 0))
            if high > low:
                pieces.append(frames.grey_frames(one.file, low - begin, high - low))
        return np.concatenate(pieces) if pieces else np.zeros((0, 1, 1), np.uint8)

    def _one_by_one(self) -> Iterator[tuple[Located, int]]:
        counts = [one.facts.frames or 0 for one in self.in_time]
        yield from zip(self.in_time, accumulate(counts, initial=0), strict=False)


def locate(path: Path, cache_folder: Path, *, root: Path | None = None) -> Located:
    """Read a file's facts and find its place in the cache.

    Raises
    ------
    MediaError
        If it cannot be read, whatever the reason.
    """
    facts = bordered(path, probe.read_facts, path)
    return Located(path, facts, cache.entry_of(cache_folder, checksum.content_of(path, cache_folder)), root=root)


def merge(members: Sequence[Located], how: Together, cache_folder: Path) -> Located:
    """Take recordings together as one.

    Raises
    ------
    RefusedError
        If they cannot be one recording.
    """
    facts = merged.merge_facts([one.facts for one in members], how, [one.path.stem for one in members])
    content = merged.merged_content([one.entry.folder.name for one in members], how)
    return Located(members[0].path, facts, cache.entry_of(cache_folder, content), tuple(members), how, members[0].root)


def hear(place: Located) -> None:
    """Listen to a recording, as a process of its own is asked to; one without sound is done at once."""
    if place.facts.channels:
        place.ensure_heard(tell)


def make_light(place: Located) -> None:
    """Make a recording's light copy, as a process of its own is asked to."""
    place.write_light_copy(tell)


def decode_frames(place: Located, indices: Sequence[int], size: cache.FrameSize = cache.FrameSize.SMALL) -> None:
    """Keep frames of a recording, as a process of its own is asked to."""
    place.save_frames(indices, size)
