"""What is computed once for each recording and kept by its content: features, working sound, peaks, frames."""

from __future__ import annotations

import json
import os
import shutil
import time
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from vesk.core.errors import StorageError
from vesk.core.facts import Facts
from vesk.core.heard import HEARD, Heard, HeardHole
from vesk.core.kinds import PICTURE
from vesk.core.ltc.crosstalk import without_timecode
from vesk.core.progress import OnProgress, unwatched
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.media import frames, movie_sound
from vesk.media.channels import ChannelEars
from vesk.media.peaks import PeaksBuilder
from vesk.media.sound import Samples, SoundReader
from vesk.media.wave import write_wave
from vesk.media.whole import let_go, written_whole
from vesk.media.working import WorkingChannel

_BLOCK = 1 << 19


class FrameSize(StrEnum):
    """How large a frame is kept: to be seen, to read what is written in it, or as it is."""

    SMALL = "small"
    LARGE = "large"
    FULL = "full"


@dataclass(frozen=True, slots=True)
class CacheEntry:
    """The cache folder of one recording, known by its content hash."""

    folder: Path

    @property
    def sound(self) -> Path:
        """A movie's sound, decoded once (24-bit WAV)."""
        return self.folder / "sound.wav"

    @property
    def peaks(self) -> Path:
        """Waveform peaks."""
        return self.folder / "peaks.vpk"

    @property
    def heard(self) -> Path:
        """What each channel is: levels, and timecode where it carries some (JSON)."""
        return self.folder / "heard.json"

    @property
    def done(self) -> Path:
        """Stands when everything here is complete."""
        return self.folder / "complete-4"  # 4: holes in a movie's sound kept

    def work(self, channel: int) -> Path:
        """One channel at the work rate (int16 array)."""
        return self.folder / f"work-{channel}.npy"

    def features(self, channel: int) -> Path:
        """Its onset features (float16 array)."""
        return self.folder / f"onsets-{channel}.npy"

    @property
    def units(self) -> Path:
        """What 1 in each working channel stands for, of full scale (JSON)."""
        return self.folder / "units.json"

    @property
    def light(self) -> Path:
        """A picture's light copy (MP4)."""
        return self.folder / "light-1.mp4"

    @property
    def light_index(self) -> Path:
        """Where each of its frames lies (JSON); stands when the copy is complete."""
        return self.folder / "light-1.json"

    @property
    def light_growing(self) -> Path:
        """The same of what there is of a copy that is being made."""
        return self.folder / "light-1.growing.json"

    def open_light(self) -> BinaryIO:
        """Open the light copy; while it is made, what there is of it.

        Raises
        ------
        OSError
            If there is none.
        """
        with suppress(OSError):
            return self.light.open("rb")
        with suppress(OSError, ValueError):  # the newest: one that was killed may have left its own
            parts = self.folder.glob(f"{self.light.name}.*.part")
            return max(parts, key=lambda path: path.stat().st_mtime_ns).open("rb")
        return self.light.open("rb")  # it may have become whole just then

    @property
    def used(self) -> Path:
        """Its time of change says when this was last asked for."""
        return self.folder / "used"

    def frame(self, index: int, size: FrameSize = FrameSize.SMALL) -> Path:
        """One picture frame as JPEG."""
        return self.folder / "frames" / (f"{index}.jpg" if size == FrameSize.SMALL else f"{index}-{size}.jpg")


def entry_of(cache: Path, content: str) -> CacheEntry:
    """Return the cache folder for a content hash."""
    return CacheEntry(cache / content[:2] / content)


def listen(path: Path, facts: Facts, store: CacheEntry, on_progress: OnProgress = unwatched) -> None:
    """Compute everything that is kept of a file's sound, in one pass over it; quick when it was done before.

    A movie's sound is decoded into the cache, since compressed sound cannot be read by range.
    """
    if store.done.exists() or not facts.channels:
        return
    if not facts.coded:
        with SoundReader(path) as reader:
            listen_to(blocks_of(reader), facts, store, on_progress=on_progress)
        return
    own = store.folder / f"sound.{os.getpid()}.wav"

    def keep(blocks: Iterator[NDArray[np.float32]]) -> None:
        write_wave(own, blocks, sample_rate=facts.sample_rate, channels=facts.channels)
        own.replace(store.sound)

    holes: list[HeardHole] = []
    try:
        blocks = movie_sound.sound_blocks(path, holes.append)
        listen_to(blocks, facts, store, keep=keep, holes=holes, on_progress=on_progress)
    finally:
        let_go(own)


def listen_to(
    blocks: Iterator[NDArray[np.float32]],
    facts: Facts,
    store: CacheEntry,
    *,
    keep: Callable[[Iterator[NDArray[np.float32]]], None] | None = None,
    holes: Sequence[HeardHole] = (),
    on_progress: OnProgress = unwatched,
) -> None:
    """Compute what is kept of sound that streams by, in little memory.

    Parameters
    ----------
    blocks : iterator of ndarray
        float32 (n, channels), in order.
    facts : Facts
    store : CacheEntry
    keep : callable, optional
        Takes the same blocks as they pass, to write them down.
    holes : sequence of HeardHole
        Those in it, once it passed.
    on_progress : OnProgress
        Told the samples that passed, and all.

    Raises
    ------
    MediaError
        If the sound cannot be read.
    StorageError
        If the cache cannot be written.
    """
    try:
        store.folder.mkdir(parents=True, exist_ok=True)
        _listen_to(blocks, facts, store, keep, holes, on_progress)
    except OSError as error:  # what readers meet is a `MediaError` already
        raise StorageError(store.folder, error.strerror or str(error)) from error


def _listen_to(
    blocks: Iterator[NDArray[np.float32]],
    facts: Facts,
    store: CacheEntry,
    keep: Callable[[Iterator[NDArray[np.float32]]], None] | None,
    holes: Sequence[HeardHole],
    on_progress: OnProgress,
) -> None:
    given_up: list[Callable[[], None]] = []
    try:
        peaks = PeaksBuilder(facts.channels, store.peaks)
        given_up.append(peaks.give_up)
        ears = ChannelEars(facts.sample_rate, facts.channels)
        used = {}
        for n in working_channels(facts):
            used[n] = WorkingChannel(facts.sample_rate, store.work(n), store.features(n))
            given_up.append(used[n].give_up)

        def pass_by() -> Iterator[NDArray[np.float32]]:
            done = 0
            for block in _blocks_of(_BLOCK, blocks):
                done += block.shape[0]
                on_progress(done, max(done, facts.samples))
                rows = np.ascontiguousarray(block.T)
                peaks.add(rows)
                ears.feed(rows)
                for channel, working in used.items():
                    working.feed(rows[channel])
                yield block

        if keep is not None:
            keep(pass_by())
        else:
            for _ in pass_by():
                pass
        told = {channel: working.finish() for channel, working in used.items()}
        peaks.finish()
    except BaseException:
        for give_up in given_up:
            give_up()
        raise
    found = ears.finish({channel: hum for channel, (_, hum) in told.items()})
    found = replace(found, holes=tuple(sorted(set(holes), key=lambda hole: hole.at_s)))  # each stream tells its own
    units = {channel: unit for channel, (unit, _) in told.items()}
    _put(store.units, units)
    _put(store.heard, HEARD.dump(found))
    _take_timecode_out(store, found, ears.mixed, units)
    store.done.touch()


def _take_timecode_out(store: CacheEntry, found: Heard, mixed: Collection[int], units: dict[int, float]) -> None:
    """Have matched what is heard beside timecode, on channels where that is louder."""
    coded = found.best_ltc()
    if coded is None or coded[0] not in units:
        return
    source = hearing(store, coded[0])
    for channel in sorted(units.keys() & set(mixed)):
        clean = WorkingChannel(WORK_RATE, store.work(channel), store.features(channel))
        try:
            for piece in without_timecode(hearing(store, channel), source):
                clean.feed(piece)
            units[channel], _ = clean.finish()
        except BaseException:
            clean.give_up()
            raise
    _put(store.units, units)


def _put(path: Path, values: Any) -> None:
    with written_whole(path) as part:
        part.write_text(json.dumps(values), encoding="utf-8")


def sound_blocks(path: Path, facts: Facts) -> Iterator[NDArray[np.float32]]:
    """Yield a recording's samples in order, whatever file it is: float32 (n, channels), blocks of ten seconds or so."""
    if facts.coded:
        yield from _blocks_of(_BLOCK, movie_sound.sound_blocks(path))
        return
    with SoundReader(path) as reader:
        yield from blocks_of(reader)


def blocks_of(reader: Samples) -> Iterator[NDArray[np.float32]]:
    """Yield what a reader reads, in order: float32 (n, channels)."""
    for start in range(0, reader.frames, _BLOCK):
        yield reader.read(start, min(_BLOCK, reader.frames - start))


def _blocks_of(size: int, blocks: Iterator[NDArray[np.float32]]) -> Iterator[NDArray[np.float32]]:
    """Gather small blocks (a coder's frames) into larger ones, so that each step has work worth its call."""
    held: list[NDArray[np.float32]] = []
    count = 0
    for block in blocks:
        held.append(block)
        count += block.shape[0]
        if count >= size:
            yield held[0] if len(held) == 1 else np.concatenate(held)
            held, count = [], 0
    if held:
        yield np.concatenate(held)


def heard(store: CacheEntry) -> Heard | None:
    """Return what was heard on each channel; None before it was listened to."""
    return HEARD.load(json.loads(store.heard.read_text(encoding="utf-8"))) if store.heard.exists() else None


def working_channels(facts: Facts) -> tuple[int, ...]:
    """Return the channels that are kept for matching: a camera's first four, a recorder's first eight."""
    return tuple(range(min(facts.channels, 4 if facts.kind == PICTURE else 8)))


def matching_channels(facts: Facts, store: CacheEntry) -> tuple[int, ...]:
    """Return the channels that sound is matched on: those kept, but for any that carries timecode."""
    coded = (heard(store) or Heard()).ltc
    return tuple(channel for channel in working_channels(facts) if channel not in coded)


def hearing(store: CacheEntry, channel: int) -> Hearing:
    """Return what one channel offers to be matched."""
    unit = json.loads(store.units.read_text(encoding="utf-8"))[str(channel)]
    return Hearing(np.load(store.work(channel), mmap_mode="r"), np.load(store.features(channel)), unit)


def forget(store: CacheEntry) -> None:
    """Remove what is kept of one recording."""
    shutil.rmtree(store.folder, ignore_errors=True)


def _forget_light(store: CacheEntry) -> None:
    """Remove a light copy alone; its index first, which says that it is whole."""
    let_go(store.light_index)
    let_go(store.light)


_LINES = {FrameSize.SMALL: 216, FrameSize.LARGE: 720, FrameSize.FULL: 1 << 16}  # of a kept frame, at most


def save_frames(
    path: Path, store: CacheEntry, indices: Sequence[int], *, first: int = 0, size: FrameSize = FrameSize.SMALL
) -> None:
    """Decode a movie's frames that are not kept yet, as JPEG; its frame k is kept as number ``first + k``."""
    missing = [index for index in indices if not store.frame(first + index, size).exists()]
    if not missing:
        return
    try:
        (store.folder / "frames").mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise StorageError(store.folder, error.strerror or str(error)) from error
    for index, image in frames.frame_images(path, missing, height=_LINES[size]):
        with written_whole(store.frame(first + index, size)) as part:
            image.save(part, "JPEG", quality=95 if size == FrameSize.FULL else 82)


_USED_S = 3600.0  # no finer: a page asks for one recording a hundred times


def touch(store: CacheEntry) -> None:
    """Note that an entry is used; where that cannot be written, it only grows old sooner."""
    with suppress(OSError):
        if not store.used.exists() or time.time() - store.used.stat().st_mtime > _USED_S:
            store.used.touch()


def trim(cache: Path, most_bytes: float, *, keep: Collection[str] = ()) -> tuple[int, int, int]:
    """Let the entries go that were not used for longest until the cache holds less than a bound.

    What is let go is computed anew when it is asked for; entries named in `keep` stay.

    Returns
    -------
    gone, freed, left : int
        Light copies and entries that went, their bytes, and the bytes that the cache holds now.
    """
    found = []
    for folder in cache.glob("??/*"):
        files = [entry for entry in folder.rglob("*") if entry.is_file()]
        own = CacheEntry(folder)
        last = next((path.stat().st_mtime for path in (own.used, own.done, folder) if path.exists()), 0.0)
        light = own.light.stat().st_size if own.light.exists() else 0
        found.append((last, light, sum(entry.stat().st_size for entry in files) - light, own))
    found.sort(key=lambda one: one[0])
    left = sum(light + rest for _, light, rest, _ in found)
    gone = freed = 0
    # Light copies go first: what was listened to takes longer to have again, and more rests on it.
    rounds = [(_forget_light, [(own, light) for _, light, _, own in found])]
    rounds.append((forget, [(own, rest) for _, _, rest, own in found]))
    for let, entries in rounds:
        for own, size in entries:
            if left <= most_bytes:
                break
            if own.folder.name not in keep and size:
                let(own)
                left, gone, freed = left - size, gone + 1, freed + size
    return gone, freed, left
