"""Broadcast WAV: a small chunk reader and a streaming writer, with `bext` and iXML.

Sources: EBU Tech 3285 (bext), EBU Tech 3306 (RF64), ITU-R BS.2088 (BW64), Multimedia Programming Interface 1.0 (RIFF).
Samples themselves are read through soundfile.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from vesk.core.errors import MediaError
from vesk.media.whole import written_whole

_BEXT = struct.Struct("<256s32s32s10s8sIIH64s5h180s")
_PCM, _FLOAT, _EXTENSIBLE = 1, 3, 0xFFFE
_GUID_TAIL = bytes.fromhex("000000001000800000aa00389b71")
_LIMIT = 0xFFFF_FFFF
FORMS = (b"RIFF", b"RF64", b"BW64")
_PIECE = 1 << 15  # samples packed at once
_CUE = struct.Struct("<II4sIII")
_MOST_CUES, _LONGEST_LABEL = 999, 200
_LARGEST_TEXT = 4 << 20  # an iXML longer than this is not one


@dataclass(frozen=True, slots=True)
class Bext:
    """The broadcast extension: texts as written, time reference in samples since label midnight."""

    description: str = ""
    originator: str = ""
    originator_reference: str = ""
    date: str = ""
    time: str = ""
    time_reference: int = 0
    history: str = ""

    def pack(self) -> bytes:
        """Return the chunk's bytes (version 1)."""

        def text(value: str, size: int) -> bytes:
            return value.encode("ascii", "replace")[:size]

        head = _BEXT.pack(
            text(self.description, 256), text(self.originator, 32), text(self.originator_reference, 32),
            text(self.date, 10), text(self.time, 8),
            self.time_reference & _LIMIT, self.time_reference >> 32, 1,
            b"", 0, 0, 0, 0, 0, b"",
        )  # fmt: skip
        return head + self.history.encode("ascii", "replace")

    @classmethod
    def unpack(cls, data: bytes) -> Bext:
        """Read the chunk's bytes; a short one is padded."""
        fields = _BEXT.unpack(data[: _BEXT.size].ljust(_BEXT.size, b"\0"))

        def text(value: bytes) -> str:
            return _text(value.split(b"\0", 1)[0]).strip()

        return cls(
            text(fields[0]), text(fields[1]), text(fields[2]), text(fields[3]), text(fields[4]),
            fields[5] | fields[6] << 32, text(data[_BEXT.size :]),
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class WaveHeader:
    """What a WAV's chunks say: layout of the sound, `bext` and iXML text.

    `data_at` is where the samples begin, bytes; `assumed` says in a sentence what the chunks do not say themselves, as
    after a crash while recording. `by_layout` says that the samples are to be read from there by their layout: the
    library would not find them all, or takes thrice as long over them. `cues` are markers: a sample and a label each.
    """

    sample_rate: int
    channels: int
    bits: int
    samples: int
    floating: bool
    bext: Bext | None
    ixml: str
    truncated: bool
    data_at: int = 0
    assumed: str = ""
    by_layout: bool = False
    cues: tuple[tuple[int, str], ...] = ()


class CodedError(MediaError):
    """A WAV whose sound is neither whole nor floating samples."""


def read_header(path: Path) -> WaveHeader:
    """Read the chunks of a WAV or RF64 file without touching its samples.

    Raises
    ------
    MediaError
        If it is no WAV, or its layout is missing.
    """
    with path.open("rb") as file:
        form = file.read(12)
        if len(form) < 12 or form[:4] not in FORMS or form[8:12] != b"WAVE":
            raise MediaError(path, "it does not begin like a WAV file", "Copy it again from the card.")
        chunks, data_at, data_size, cut, assumed = _walk_chunks(file, path.stat().st_size)
    fmt, bext = chunks.get(b"fmt ", b""), chunks.get(b"bext", b"")
    if len(fmt) < 16 or data_size < 0:
        raise MediaError(path, "its WAV header names no sound", "Copy it again from the card.")
    kind, channels, rate, _, align, bits = struct.unpack("<HHIIHH", fmt[:16])
    if kind == _EXTENSIBLE and len(fmt) >= 26:
        kind = struct.unpack("<H", fmt[24:26])[0]
    if kind not in {_PCM, _FLOAT} or not channels or not rate or not align:
        raise CodedError(path, f"its sound is coded in a way (format {kind}) that is not read", "Bring it as PCM.")
    return WaveHeader(
        sample_rate=rate,
        channels=channels,
        bits=bits,
        samples=data_size // align,
        floating=kind == _FLOAT,
        bext=Bext.unpack(bext) if bext else None,
        ixml=_xml(chunks.get(b"iXML", b"")),
        truncated=cut,
        data_at=data_at,
        assumed=assumed,
        by_layout=bool(assumed) or form[:4] == b"BW64" or (kind == _PCM and bits == 24 and align == 3 * channels),
        cues=_cues(chunks.get(b"cue ", b""), chunks.get(b"LIST", b"")),
    )


def _text(data: bytes) -> str:
    """Read text of no told encoding: UTF-8, or what older machines write."""
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _xml(data: bytes) -> str:
    """Read iXML, which may come as UTF-16; zeros may follow it."""
    if data[:2] in {b"\xff\xfe", b"\xfe\xff"}:
        return data[: len(data) & ~1].decode("utf-16", "replace").split("\0", 1)[0]
    return _text(data.split(b"\0", 1)[0]).removeprefix("\ufeff")


def _cues(cue: bytes, listed: bytes) -> tuple[tuple[int, str], ...]:
    """Return the markers of a `cue` chunk, in order, with their labels from ``LIST adtl labl``."""
    labels = {}
    at = 4
    while listed[:4] == b"adtl" and at + 12 <= len(listed):
        name, size, number = struct.unpack("<4sII", listed[at : at + 12])
        if name == b"labl":
            text = listed[at + 12 : at + 8 + size].split(b"\0", 1)[0]
            labels[number] = _text(text).strip()[:_LONGEST_LABEL]
        at += 8 + size + (size & 1)
    found = []
    for start in range(4, min(len(cue), 4 + _CUE.size * _MOST_CUES) - _CUE.size + 1, _CUE.size):
        number, _, chunk, _, _, sample = _CUE.unpack(cue[start : start + _CUE.size])
        if chunk == b"data":
            found.append((sample, labels.get(number, "")))
    return tuple(sorted(found))


def _walk_chunks(file: BinaryIO, size: int) -> tuple[dict[bytes, bytes], int, int, bool, str]:
    """Return the small chunks by name; where the sound begins, its size (-1 without), whether the file ends inside it.

    And, in a sentence, what had to be assumed.
    """
    kept: dict[bytes, bytes] = {}
    data_at, data_size, long_size, cut, assumed = 0, -1, 0, False, ""
    while len(head := file.read(8)) == 8:
        name, length = head[:4], struct.unpack("<I", head[4:])[0]
        at = file.tell()
        if name == b"ds64":
            long_size = struct.unpack("<QQQ", file.read(24).ljust(24, b"\0"))[1]
        elif name in {b"fmt ", b"bext", b"iXML", b"cue "}:
            kept[name] = file.read(min(length, _LARGEST_TEXT))
        elif name == b"LIST" and (text := file.read(min(length, _LARGEST_TEXT))).startswith(b"adtl"):
            kept[name] = text
        elif name == b"data":
            data_at, data_size = at, long_size if length == _LIMIT and long_size else length
            unclosed = not length and size > at and not _is_chunk(file, at, size)
            if unclosed or (length == _LIMIT and not long_size):
                assumed, data_size = _UNCLOSED, size - at
            elif more := _run_over(file, at + length, size):
                assumed, data_size = _RAN_OVER, length + more
            if at + data_size > size:
                cut, data_size = True, size - at
            length = data_size
        after = at + length
        if length & 1 and not _is_chunk(file, after + 1, size) and _is_chunk(file, after, size):
            assumed = assumed or _UNPADDED
        else:
            after += length & 1
        file.seek(after)
    return kept, data_at, data_size, cut, assumed


def _run_over(file: BinaryIO, after: int, size: int) -> int:
    """Return how many bytes more of sound there are than a size of 32 bits could say, which began again from zero."""
    more = (size - after) // (_LIMIT + 1) * (_LIMIT + 1)
    return more if more > 0 and not _is_chunk(file, after, size) else 0


_RAN_OVER = "its sound is longer than its header can say (4 GiB): it is read to its end"
_UNCLOSED = "its header was never closed (a crash while recording): everything after it is taken for sound"
_UNPADDED = "a part of odd length is not padded as the format asks: what follows is read where it lies"


def _is_chunk(file: BinaryIO, at: int, size: int) -> bool:
    """Say whether a chunk begins there: a name in letters, and a length that the file can hold."""
    file.seek(at)
    head = file.read(8)
    if len(head) < 8:
        return at == size
    name, length = head[:4], struct.unpack("<I", head[4:])[0]
    return all(32 <= byte < 127 for byte in name) and (at + 8 + length <= size or name == b"data")


def read_samples(file: BinaryIO, header: WaveHeader, start: int, count: int) -> NDArray[np.float32]:
    """Read samples by their layout, where the library would not find them or is slow: float32 (count, channels).

    Those of 24 bits lie channel by channel in memory, as what listens to them wants them.
    """
    width = header.bits // 8
    align = width * header.channels
    before = int(width == 3)  # a byte that makes the first sample's three four
    file.seek(header.data_at + start * align - before)
    data = file.read(count * align + before)
    whole = max(0, len(data) - before) // align * align
    if header.floating:
        flat = np.frombuffer(data[:whole], "<f4" if width == 4 else "<f8").astype(np.float32)
    elif width == 3:
        return _of_three_bytes(data, whole // align, header.channels)
    elif width == 1:  # eight bits alone count from the middle
        flat = np.asarray(np.frombuffer(data[:whole], np.uint8) / 128.0 - 1.0, np.float32)
    else:
        flat = np.asarray(np.frombuffer(data[:whole], f"<i{width}") / 2 ** (8 * width - 1), np.float32)
    return np.asarray(flat.reshape(-1, header.channels), np.float32)


def _of_three_bytes(data: bytes, count: int, channels: int) -> NDArray[np.float32]:
    """Return samples of three bytes each, which follow one byte of something else: (count, channels)."""
    rows = np.empty((channels, count), np.float32)
    # Each sample is the upper three bytes of the four that end with it: read where they lie, none is moved first.
    fours: NDArray[np.int32] = np.ndarray((channels, count), "<i4", data, 0, (3, 3 * channels))
    step = max(1 << 10, _PIECE // channels)  # all channels of it while it is in a core's cache
    held = np.empty(step, np.int32)
    for at in range(0, count, step):
        for channel in range(channels):
            out = rows[channel, at : at + step]
            upper = np.bitwise_and(fours[channel, at : at + step], -256, out=held[: out.size])
            np.multiply(upper, np.float32(2**-31), out=out, dtype=np.float32, casting="unsafe")  # exact: 24 bits
    return rows.T


def _packed(block: NDArray[np.float32], bits: int) -> Iterator[bytes]:
    """Yield a block's samples as little-endian integers of 16 or 24 bits, in pieces that stay in a core's cache."""
    full = 1 << (bits - 1)
    flat = np.ascontiguousarray(block, np.float32).reshape(-1)
    for start in range(0, flat.size, _PIECE):
        piece = flat[start : start + _PIECE] * np.float32(full)  # exact: a power of two
        np.clip(np.rint(piece, out=piece), -full, full - 1, out=piece)
        if bits == 16:
            yield piece.astype("<i2").tobytes()
            continue
        parts = piece.astype("<i4").view(np.uint8).reshape(-1, 4)
        out = np.empty((parts.shape[0], 3), np.uint8)
        for byte in range(3):
            out[:, byte] = parts[:, byte]
        yield out.tobytes()


def write_wave(
    path: Path,
    blocks: Iterator[NDArray[np.float32]],
    *,
    sample_rate: int,
    channels: int,
    bext: Bext | None = None,
    ixml: str = "",
    bits: int = 24,
) -> int:
    """Write a broadcast WAV (RF64 above 4 GiB), whole or not at all.

    Parameters
    ----------
    path : Path
        Where it goes; a half-written one never stands under this name.
    blocks : iterator of ndarray of float32, shape (n, channels)
        The sound, full scale ±1.
    bits : int
        24 or 16.

    Returns
    -------
    int
        Samples written.

    Raises
    ------
    StorageError
        If the disk is full or cannot be written; what was written is taken away again.
    """
    with written_whole(path) as part, part.open("wb") as file:
        count = _write(file, blocks, sample_rate, channels, bext, ixml, bits)
        file.flush()
        os.fsync(file.fileno())
    return count


def _chunk(name: bytes, data: bytes) -> bytes:
    return name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) & 1)


def _write(
    file: BinaryIO,
    blocks: Iterator[NDArray[np.float32]],
    sample_rate: int,
    channels: int,
    bext: Bext | None,
    ixml: str,
    bits: int,
) -> int:
    align = bits // 8 * channels
    fmt = struct.pack("<HHIIHH", _PCM, channels, sample_rate, sample_rate * align, align, bits)
    if channels > 2:
        fmt = struct.pack("<HHIIHH", _EXTENSIBLE, channels, sample_rate, sample_rate * align, align, bits)
        fmt += struct.pack("<HHIH", 22, bits, 0, _PCM) + _GUID_TAIL
    head = _chunk(b"JUNK", bytes(28)) + _chunk(b"fmt ", fmt)
    if bext is not None:
        head += _chunk(b"bext", bext.pack())
    if ixml:
        head += _chunk(b"iXML", ixml.encode("utf-8"))
    file.write(b"RIFF" + bytes(4) + b"WAVE" + head + b"data" + bytes(4))
    start = file.tell()
    count = 0
    for block in blocks:
        file.writelines(_packed(block, bits))
        count += block.shape[0]
    size = count * align
    if size & 1:
        file.write(b"\0")
    total = file.tell() - 8
    if total > _LIMIT:
        file.seek(0)
        file.write(b"RF64" + struct.pack("<I", _LIMIT))
        file.seek(12)
        file.write(b"ds64" + struct.pack("<IQQQI", 28, total, size, count, 0))
        file.seek(start - 4)
        file.write(struct.pack("<I", _LIMIT))
    else:
        file.seek(4)
        file.write(struct.pack("<I", total))
        file.seek(start - 4)
        file.write(struct.pack("<I", size))
    return count
