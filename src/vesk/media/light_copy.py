"""Light copies: small pictures to look at, whose every frame is the recording's frame of the same number.

H.264 in MP4 without sound, short groups, no frame that waits for a later one; beside it an index of where each frame
lies, so that a page can ask for just the bytes it needs. While it is made, an index of what there is so far stands
there now and then: a long recording is looked at long before its copy is whole.
"""

from __future__ import annotations

import base64
import json
import time
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.video.reformatter import VideoReformatter

from vesk.core.errors import MediaError, StorageError
from vesk.core.picture.levels import Levels, Lift
from vesk.media.whole import written_whole

LINES, GROUP = 324, 8
_LOOK_EVERY = 25  # frames between two that are looked at for brightness
_GROWN, _GROWN_S = 1.1, 2.0  # an index of what there is: of so much more than the last one, and so long after it
_OPTIONS = {
    "preset": "ultrafast", "crf": "26", "bf": "0", "g": str(GROUP), "keyint_min": str(GROUP), "sc_threshold": "0",
    "tune": "fastdecode",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class LightCopy:
    """What a page needs to show it.

    Attributes
    ----------
    fps : (int, int)
        Frames a second; a recording of variable rate counts at its nominal one.
    frames : int
        Of the recording.
    width, height : int
    codec, description : str
        As decoders are told: ``avc1.`` and its profile; the configuration record, base64.
    begins : int
        Byte at which the first frame's data lie; the others follow without a gap.
    sizes : list of int
        Bytes of each frame there is.
    runs : list of (int, int)
        From which of them on, counted from 0, frames are numbered from what: numbers that nothing shows are left out.
    keys : list of int
        Which of them can be shown without any other.
    lift : Lift or None
        What would make its pictures visible, where they are dark or flat.
    whole : bool
        Whether it has all its frames; else it grows.
    """

    fps: tuple[int, int]
    frames: int
    width: int
    height: int
    codec: str
    description: str
    begins: int
    sizes: list[int]
    runs: list[tuple[int, int]]
    keys: list[int]
    lift: Lift | None
    whole: bool = True


def write_light_copy(
    numbered: Iterable[tuple[int, Any]], target: Path, index: Path, growing: Path, *, fps: Fraction, frames: int
) -> None:
    """Write a light copy and its index.

    Parameters
    ----------
    numbered : iterable of (int, frame)
        Frames in order, each with its number, of at most `LINES` lines, yuv420p.
    target, index : Path
        Where the copy and its index are written.
    growing : Path
        Where an index of what there is so far is put meanwhile, each in one step.
    fps : Fraction
    frames : int
        How many the recording has.

    Raises
    ------
    StorageError
        If they cannot be written.
    """
    levels, size, scaler = Levels(), (0, 0), VideoReformatter()
    numbers: list[int] = []
    grown = _Grown(target, growing, fps, frames)
    try:
        with av.open(str(target), "w", format="mp4", options={"flush_packets": "1"}) as made:
            stream: Any = made.add_stream("libx264", rate=fps, options=_OPTIONS)
            stream.thread_count, stream.pix_fmt = 1, "yuv420p"
            for number, frame in numbered:
                if not numbers:
                    size = frame.width, frame.height
                    stream.width, stream.height = size
                    stream.codec_context.time_base = 1 / fps
                small = scaler.reformat(frame, *size)  # the next file of a recording may have others
                small.pts, small.time_base = number, 1 / fps
                small.pict_type = 0  # as the coder sees fit, not as the original was coded
                if len(numbers) % _LOOK_EVERY == 0:
                    levels.add(_luma(small))
                numbers.append(number)
                for packet in stream.encode(small):
                    grown.before(made)
                    made.mux(packet)
                    grown.after(packet, stream, numbers, levels)
            if not numbers:
                raise MediaError(target, "none of its frames can be decoded", "Its sound is used.")
            made.mux(stream.encode(None))
        copy = _indexed(target, numbers, fps, frames, levels.lift())
        index.write_text(json.dumps(asdict(copy), separators=(",", ":")), encoding="utf-8")
    except OSError as error:
        raise StorageError(target, error.strerror or str(error)) from error


class _Grown:
    """What there is of a copy that is being written, told now and then: the coder's frames lie as they come."""

    def __init__(self, target: Path, growing: Path, fps: Fraction, frames: int) -> None:
        self._target, self._growing, self._fps, self._frames = target, growing, fps, frames
        self._begins = 0
        self._sizes: list[int] = []
        self._keys: list[int] = []
        self._told, self._told_at = 0, time.monotonic()

    def before(self, made: Any) -> None:
        """Note where the first frame will lie."""
        if not self._begins:
            made.start_encoding()
            self._begins = self._end = self._target.stat().st_size

    def after(self, packet: Any, stream: Any, numbers: list[int], levels: Levels) -> None:
        """Note a frame that was written; and tell what there is, if that is worth it."""
        if packet.is_keyframe:
            self._keys.append(len(self._sizes))
        begun, self._end = self._end, self._target.stat().st_size
        self._sizes.append(self._end - begun)
        whole = self._keys[-1]  # the last group may grow yet
        if whole < max(1, self._told * _GROWN) or time.monotonic() < self._told_at + _GROWN_S:
            return
        self._told, self._told_at = whole, time.monotonic()
        record = _record(bytes(stream.codec_context.extradata or b""))
        copy = _copy(
            numbers[:whole], (self._fps, self._frames), (stream.width, stream.height), record, self._begins,
            self._sizes[:whole], self._keys[:-1], levels.lift(), whole=False,
        )  # fmt: skip
        with written_whole(self._growing) as part:
            part.write_text(json.dumps(asdict(copy), separators=(",", ":")), encoding="utf-8")


def _record(extradata: bytes) -> bytes:
    """Return a decoder's configuration record (ISO/IEC 14496-15, 5.3.3.1) of parameter sets between start codes."""
    units = [unit.rstrip(b"\0") for unit in extradata.split(b"\0\0\1")]
    sets = {unit[0] & 31: unit for unit in units if unit}
    sequence, picture = sets[7], sets[8]
    head = bytes([1, *sequence[1:4], 0xFF, 0xE1]) + len(sequence).to_bytes(2, "big") + sequence
    return head + b"\1" + len(picture).to_bytes(2, "big") + picture


def _luma(frame: Any) -> Any:
    plane = frame.planes[0]
    return np.frombuffer(plane, np.uint8).reshape(-1, plane.line_size)[: frame.height, : frame.width]


def _indexed(path: Path, numbers: list[int], fps: Fraction, frames: int, lift: Lift | None) -> LightCopy:
    sizes: list[int] = []
    keys: list[int] = []
    begins = at = -1
    with av.open(str(path)) as made:
        stream = made.streams.video[0]
        record = bytes(stream.codec_context.extradata or b"")
        for packet in made.demux(stream):
            if not packet.size:
                continue
            if begins < 0:
                begins = at = int(packet.pos or 0)
            if packet.pos != at:
                raise MediaError(path, "its frames do not lie one after the other", "It is made again when asked for.")
            at += packet.size
            if packet.is_keyframe:
                keys.append(len(sizes))
            sizes.append(packet.size)
        width, height = int(stream.width), int(stream.height)
    if len(sizes) != len(numbers):
        raise MediaError(path, f"it has {len(sizes)} frames for {len(numbers)}", "It is made again when asked for.")
    return _copy(numbers, (fps, frames), (width, height), record, begins, sizes, keys, lift)


def _copy(
    numbers: list[int], of: tuple[Fraction, int], size: tuple[int, int], record: bytes, begins: int, sizes: list[int],
    keys: list[int], lift: Lift | None, *, whole: bool = True,
) -> LightCopy:  # fmt: skip
    fps, frames = of
    runs: list[tuple[int, int]] = []
    for sample, number in enumerate(numbers):
        if not runs or number - sample != runs[-1][1] - runs[-1][0]:
            runs.append((sample, number))
    return LightCopy(
        (fps.numerator, fps.denominator), frames, *size, "avc1." + record[1:4].hex(),
        base64.b64encode(record).decode(), begins, sizes, runs, keys, lift, whole,
    )  # fmt: skip
