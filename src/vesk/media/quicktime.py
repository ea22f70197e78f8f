"""What a QuickTime or MP4 file says of its timecode track, read from its own boxes (QuickTime File Format, tmcd)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

_HOLDERS = (b"moov", b"trak", b"edts", b"mdia", b"minf", b"stbl")  # boxes that hold others
_TOLD = (b"elst", b"mdhd", b"stsd", b"stco", b"co64")
_MOST, _LONGEST = 10_000, 1 << 16  # boxes looked at, and bytes of one: a damaged file may hold them without end
_ENTRY, _FLAGS, _SCALE = 8, 20, 24  # bytes to a sample description's first entry; in that to flags and time scale
_COUNTER = 8  # the flag of a track that counts something else than time


@dataclass(frozen=True, slots=True)
class TimecodeTrack:
    """A movie's timecode track.

    Attributes
    ----------
    rate : Fraction
        At which it counts. It may be half of the picture's: labels count to 30 at most where they come from a timecode
        generator.
    edits : tuple of (Fraction, Fraction or None)
        Its edit list: how long each stretch of the movie lasts, and from which time of the track on it shows that,
        seconds; None where it shows nothing. Empty where it has none.
    first : int or None
        How many frames after midnight it begins; None where it does not say.
    """

    rate: Fraction
    edits: tuple[tuple[Fraction, Fraction | None], ...] = ()
    first: int | None = None

    def frames_at(self, seconds: Fraction) -> int:
        """Return how many frames after the track's first label stands what it shows at a time of the movie."""
        begins = Fraction(0)
        for lasts, shows in self.edits:
            if shows is not None and (not lasts or seconds < begins + lasts):  # one of no length goes on to the end
                return round((shows + seconds - begins) * self.rate)
            begins += lasts
        return 0


def timecode_track(path: Path) -> TimecodeTrack | None:
    """Return a movie's first timecode track; None where it has none, or none whose rate can be.

    Raises
    ------
    OSError
        If the file cannot be read.
    """
    scale, tracks = 0, list[dict[bytes, bytes]]()
    with path.open("rb") as file:
        for number, (kind, begin, end) in enumerate(boxes(file, 0, path.stat().st_size)):
            if number > _MOST:
                break
            if kind == b"trak":
                tracks.append({})
            elif kind == b"mvhd":
                scale = _time_scale(_held(file, begin, end))
            elif kind in _TOLD and tracks:
                tracks[-1].setdefault(kind, _held(file, begin, end))
        for told in tracks:
            entry = told.get(b"stsd", b"")[_ENTRY:]
            if entry[4:8] == b"tmcd":
                counts, lasts = _number(entry, _SCALE), _number(entry, _SCALE + 4)
                edits = _edits(told.get(b"elst", b""), scale, _time_scale(told.get(b"mdhd", b"")))
                first = None if _number(entry, _FLAGS) & _COUNTER else _first(file, told)
                return TimecodeTrack(Fraction(counts, lasts), edits, first) if lasts else None
    return None


def _first(file: BinaryIO, told: dict[bytes, bytes]) -> int | None:
    """Read the number that a track's first sample holds, where its chunks say that it lies."""
    places = told.get(b"co64", b""), told.get(b"stco", b"")
    at = int.from_bytes(places[0][8:16], "big") or int.from_bytes(places[1][8:12], "big")
    number = _held(file, at, at + 4) if at else b""
    return int.from_bytes(number, "big") if len(number) == 4 else None


def _edits(told: bytes, scale: int, own: int) -> tuple[tuple[Fraction, Fraction | None], ...]:
    """Read an edit list: durations in the movie's time scale, times in the track's own."""
    if not scale or not own:
        return ()
    wide = 8 if told[:1] == b"\1" else 4  # version 1 holds 64 bits
    found: list[tuple[Fraction, Fraction | None]] = []
    for at in range(8, min(len(told), 8 + _number(told, 4) * (2 * wide + 4)), 2 * wide + 4):
        lasts = int.from_bytes(told[at : at + wide], "big")
        shows = int.from_bytes(told[at + wide : at + 2 * wide], "big", signed=True)
        found.append((Fraction(lasts, scale), None if shows < 0 else Fraction(shows, own)))
    return tuple(found)


def _time_scale(header: bytes) -> int:
    """Return the ticks a second that a movie's or a track's header tells."""
    return _number(header, 20 if header[:1] == b"\1" else 12)


def _number(held: bytes, at: int) -> int:
    return int.from_bytes(held[at : at + 4], "big")


def _held(file: BinaryIO, begin: int, end: int) -> bytes:
    file.seek(begin)
    return file.read(min(_LONGEST, end - begin))


def boxes(file: BinaryIO, begin: int, end: int, depth: int = 0) -> Iterator[tuple[bytes, int, int]]:
    """Yield the kind of each box, where what it holds begins and ends, and those in it after it."""
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
        yield kind, begin + held, min(end, begin + size)
        if kind in _HOLDERS and depth < len(_HOLDERS):
            yield from boxes(file, begin + held, min(end, begin + size), depth + 1)
        begin += size
