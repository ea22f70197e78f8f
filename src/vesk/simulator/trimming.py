"""Trim a movie as a telephone or a player does: its edit lists leave out a beginning and an end that stay in the file.

QuickTime File Format, "Edit list atom": where in a track a stretch of the movie begins, and how long it lasts.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

_HEADER = 8  # bytes of a box: its size and its kind


def trim(path: Path, head_s: float, tail_s: float) -> None:
    """Have a movie leave out its beginning and its end, its timecode's as well; no frame is coded anew.

    Parameters
    ----------
    path : Path
        A movie whose tracks have an edit list of one entry each, as the simulator writes them. It is changed.
    head_s, tail_s : float
        Seconds.
    """
    data = bytearray(path.read_bytes())
    scale = 0
    lists: list[tuple[int, int]] = []
    for kind, at in _boxes(data, 0, len(data)):
        if kind == b"mvhd":
            scale = _number(data, at + 12)
        elif kind == b"elst":
            lists.append((at + 8, 0))
        elif kind == b"mdhd" and lists:
            lists[-1] = lists[-1][0], _number(data, at + 12)
    for at, ticks in lists:
        lasts, begins = _number(data, at), _number(data, at + 4)
        data[at : at + 4] = round(lasts - (head_s + tail_s) * scale).to_bytes(4, "big")
        data[at + 4 : at + 8] = round(begins + head_s * ticks).to_bytes(4, "big")
    path.write_bytes(bytes(data))


def _boxes(data: bytearray, begin: int, end: int) -> Iterator[tuple[bytes, int]]:
    while begin + _HEADER <= end:
        size, kind = _number(data, begin), bytes(data[begin + 4 : begin + 8])
        yield kind, begin + _HEADER
        if kind in {b"moov", b"trak", b"edts", b"mdia"}:
            yield from _boxes(data, begin + _HEADER, begin + size)
        begin += max(size, _HEADER)


def _number(data: bytearray, at: int) -> int:
    return int.from_bytes(data[at : at + 4], "big")
