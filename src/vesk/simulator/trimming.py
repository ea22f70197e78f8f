"""Trim a movie as a telephone or a player does: its edit lists leave out a beginning and an end that stay in the file.

QuickTime File Format, "Edit list atom": where in a track a stretch of the movie begins, and how long it lasts.
"""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

from vesk.media.quicktime import boxes

_SCALE, _ENTRY = 12, 8  # bytes into a header, and into an edit list: its time scale, its first entry


def trim(path: Path, head_s: float, tail_s: float) -> None:
    """Have a movie leave out its beginning and its end, its timecode's as well; no frame is coded anew.

    Parameters
    ----------
    path : Path
        A movie whose tracks have an edit list of one entry each, as the simulator writes them. It is changed.
    head_s, tail_s : float
        Seconds.
    """
    with path.open("r+b") as file:
        found = [(kind, at) for kind, at, _ in boxes(file, 0, path.stat().st_size)]
        scale = next(_number(file, at + _SCALE) for kind, at in found if kind == b"mvhd")
        for number, (kind, at) in enumerate(found):
            if kind == b"elst":  # the header of its track's media comes after it
                own = next(_number(file, own + _SCALE) for kind, own in found[number:] if kind == b"mdhd")
                lasts, begins = _number(file, at + _ENTRY), _number(file, at + _ENTRY + 4)
                file.seek(at + _ENTRY)
                file.write(round(lasts - (head_s + tail_s) * scale).to_bytes(4, "big"))
                file.write(round(begins + head_s * own).to_bytes(4, "big"))


def _number(file: BinaryIO, at: int) -> int:
    file.seek(at)
    return int.from_bytes(file.read(4), "big")
