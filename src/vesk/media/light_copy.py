"""Light copies: small pictures to look at, whose every frame is the recording's frame of the same number.

H.264 in MP4 without sound, short groups, no frame that waits for a later one; beside it an index of where each frame
lies, so that a page can ask for just the bytes it needs.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from vesk.core.errors import MediaError, StorageError
from vesk.core.picture.levels import Levels, Lift

LINES, GROUP = 324, 8
_LOOK_EVERY = 25  # frames between two that are looked at for brightness
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


def write_light_copy(
    numbered: Iterable[tuple[int, Any]], target: Path, index: Path, *, fps: Fraction, frames: int
) -> None:
    """Write a light copy and its index.

    Parameters
    ----------
    numbered : iterable of (int, frame)
        Frames in order, each with its number.
    target, index : Path
        Where the copy and its index are written.
    fps : Fraction
    frames : int
        How many the recording has.

    Raises
    ------
    StorageError
        If they cannot be written.
    """
    levels, size = Levels(), (0, 0)
    numbers: list[int] = []
    try:
        with av.open(str(target), "w", format="mp4", options={"movflags": "faststart"}) as made:
            stream: Any = made.add_stream("libx264", rate=fps, options=_OPTIONS)
            stream.thread_count, stream.pix_fmt = 1, "yuv420p"
            for number, frame in numbered:
                if not numbers:
                    size = _fitted(frame.width, frame.height)
                    stream.width, stream.height = size
                    stream.codec_context.time_base = 1 / fps
                small = frame.reformat(width=size[0], height=size[1], format="yuv420p", interpolation="FAST_BILINEAR")
                small.pts, small.time_base = number, 1 / fps
                small.pict_type = 0  # as the coder sees fit, not as the original was coded
                if len(numbers) % _LOOK_EVERY == 0:
                    levels.add(_luma(small))
                numbers.append(number)
                made.mux(stream.encode(small))
            if not numbers:
                raise MediaError(target, "none of its frames can be decoded", "Its sound is used.")
            made.mux(stream.encode(None))
        copy = _indexed(target, numbers, fps, frames, levels.lift())
        index.write_text(json.dumps(asdict(copy), separators=(",", ":")), encoding="utf-8")
    except OSError as error:
        raise StorageError(target, error.strerror or str(error)) from error


def _fitted(width: int, height: int) -> tuple[int, int]:
    """Return a size of at most `LINES` lines, even as the coder needs it."""
    tall = min(LINES, height)
    return max(2, round(width * tall / height / 2) * 2), max(2, tall // 2 * 2)


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
    runs: list[tuple[int, int]] = []
    for sample, number in enumerate(numbers):
        if not runs or number - sample != runs[-1][1] - runs[-1][0]:
            runs.append((sample, number))
    return LightCopy(
        (fps.numerator, fps.denominator), frames, width, height, "avc1." + record[1:4].hex(),
        base64.b64encode(record).decode(), begins, sizes, runs, keys, lift,
    )  # fmt: skip
