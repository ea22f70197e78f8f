"""Copy a broadcast WAV with its true timecode: the time reference written, timecode channels silent, all else kept."""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Collection
from pathlib import Path
from typing import BinaryIO

import numpy as np

from vesk.core.errors import MediaError, StoppedError
from vesk.media.wave import Bext, WaveHeader, read_header
from vesk.media.whole import written_whole

_FRAMES = 1 << 18
_LONG_SIZE_AT = 20  # of RF64, bytes: EBU Tech 3306
_REFERENCE_AT = 338  # in `bext`, bytes: EBU Tech 3285
_STAMP = r"(<TIMESTAMP_{}>)\s*\d*\s*(</TIMESTAMP_{}>)"
_TEXT = 4 << 20


def copy_wave(
    source: Path,
    target: Path,
    *,
    time_reference: int,
    silent: Collection[int] = (),
    go_on: Callable[[], bool] = lambda: True,
) -> None:
    """Copy a WAV.

    Parameters
    ----------
    source, target : Path
        Opened for reading only; written whole or not at all.
    time_reference : int
        Samples since label midnight of its first sample.
    silent : collection of int
        Channels that shall be silent, from 0.
    go_on : callable
        Asked between blocks.

    Raises
    ------
    MediaError
        If it cannot be read, or its header was never closed.
    """
    header = read_header(source)
    if header.assumed or header.truncated:
        why = header.assumed or "its sound is cut short"
        raise MediaError(source, f"it cannot be copied with another timecode: {why}", "Hand over its sound instead.")
    with written_whole(target) as part, source.open("rb") as file, part.open("wb") as out:
        form = file.read(12)
        out.write(form)
        if header.bext is None:
            made = Bext(originator="Vesk", time_reference=time_reference).pack()
            _insert(file, out, b"bext", made)
        while len(head := file.read(8)) == 8:
            name, length = head[:4], struct.unpack("<I", head[4:])[0]
            at = file.tell()
            if name == b"data":
                size = header.samples * header.channels * (header.bits // 8)
                out.write(head)
                _copy_sound(file, out, header, silent, go_on)
                file.seek(at + size)
                out.write(file.read(size & 1))
                continue
            data = file.read(min(length, _TEXT)) if name in {b"bext", b"iXML"} else file.read(length)
            file.seek(at + length)
            pad = file.read(length & 1)
            if name == b"bext":
                low, high = time_reference & 0xFFFF_FFFF, time_reference >> 32
                data = data[:_REFERENCE_AT] + struct.pack("<II", low, high) + data[_REFERENCE_AT + 8 :]
            elif name == b"iXML":
                data = _stamped(data, time_reference, header.sample_rate)
                head, pad = name + struct.pack("<I", len(data)), bytes(len(data) & 1)
            out.write(head + data + pad)
        _close(out, form[:4])


def _insert(file: BinaryIO, out: BinaryIO, name: bytes, data: bytes) -> None:
    """Put a chunk in first; after `ds64`, which RF64 wants before all."""
    at = file.tell()
    head = file.read(8)
    if head[:4] == b"ds64":
        out.write(head + file.read(struct.unpack("<I", head[4:])[0]))
    else:
        file.seek(at)
    out.write(name + struct.pack("<I", len(data)) + data + bytes(len(data) & 1))


def _stamped(data: bytes, time_reference: int, sample_rate: int) -> bytes:
    """Return iXML with another time stamp, in samples of the sound; what is no text stays as it is."""
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        return data
    for name, value in (
        ("SAMPLES_SINCE_MIDNIGHT_HI", time_reference >> 32),
        ("SAMPLES_SINCE_MIDNIGHT_LO", time_reference & 0xFFFF_FFFF),
        ("SAMPLE_RATE", sample_rate),
    ):
        text = re.sub(_STAMP.format(name, name), rf"\g<1>{value}\g<2>", text)
    return text.encode("utf-8")


def _copy_sound(
    file: BinaryIO, out: BinaryIO, header: WaveHeader, silent: Collection[int], go_on: Callable[[], bool]
) -> None:
    channels, width = header.channels, header.bits // 8
    align = channels * width
    left = header.samples * align
    while left:
        if not go_on():
            raise StoppedError("stopped before its copy was whole")
        data = file.read(min(left, _FRAMES * align))
        if not data:
            break
        left -= len(data)
        if silent:
            samples = np.frombuffer(data, np.uint8).reshape(-1, channels, width).copy()
            samples[:, sorted(silent)] = 0
            data = samples.tobytes()
        out.write(data)


def _close(out: BinaryIO, form: bytes) -> None:
    """Write how long the whole is: in RF64 its `ds64`, which comes first, says so."""
    total = out.tell() - 8
    if form != b"RIFF":
        out.seek(_LONG_SIZE_AT)
        out.write(struct.pack("<Q", total))
    else:
        out.seek(4)
        out.write(struct.pack("<I", total))
