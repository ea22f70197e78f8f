"""What a QuickTime or MP4 file says of its timecode track, read from its own boxes (QuickTime File Format, tmcd)."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

_PATH = (b"moov", b"trak", b"mdia", b"minf", b"stbl")  # each holds the next; the last holds what a track is
_MOST = 10_000  # boxes looked at: a damaged file may hold them without end
_ENTRY, _SCALE = 8, 24  # bytes from the sample description on to its first entry, and in that to its time scale


def timecode_rate(path: Path) -> Fraction | None:
    """Return the rate at which a movie's timecode track counts; None where it has none, or none that can be.

    It may be half of the picture's: labels count to 30 at most where they come from a timecode generator.

    Raises
    ------
    OSError
        If the file cannot be read.
    """
    with path.open("rb") as file:
        for number, (kind, begin) in enumerate(_boxes(file, 0, path.stat().st_size)):
            if number > _MOST:
                break
            if kind == b"stsd":
                file.seek(begin + _ENTRY)
                entry = file.read(_SCALE + 8)
                if len(entry) == _SCALE + 8 and entry[4:8] == b"tmcd":
                    scale, lasts = (int.from_bytes(entry[at : at + 4], "big") for at in (_SCALE, _SCALE + 4))
                    return Fraction(scale, lasts) if lasts else None
    return None


def _boxes(file: BinaryIO, begin: int, end: int, depth: int = 0) -> Iterator[tuple[bytes, int]]:
    """Yield the kind of each box and where what it holds begins, those in it after it."""
    while begin + 8 <= end:
        file.seek(begin)
        head = file.read(16)
        size, kind, held = int.from_bytes(head[:4], "big"), head[4:8], 8
        if size == 1:
            size, held = int.from_bytes(head[8:16], "big"), 16
        elif not size:
            size = end - begin  # to the end of the file
        if size < held:
            return
        yield kind, begin + held
        if kind in _PATH[depth : depth + 1]:
            yield from _boxes(file, begin + held, min(end, begin + size), depth + 1)
        begin += size
