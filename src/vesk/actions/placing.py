"""Where each recording lies on the day: by its clock, or, without one, where sound pairs it with one that has."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from fractions import Fraction

from vesk.core.timecode import FrameRate, unwrapped
from vesk.store.tables import Pairing, Recording


@dataclass(frozen=True, slots=True)
class Placed:
    """A recording on the day's label clock: start and seconds it took, and whether sound said where."""

    start: Fraction
    took: Fraction
    by_sound: bool


def place_recordings(rows: Iterable[Recording], paired: Sequence[Pairing], clock: FrameRate) -> dict[int, Placed]:
    """Place a day's recordings on one line, also across midnight; those that nothing places are left out."""
    rows = [row for row in rows if row.state == "ready"]
    took = {row.id: row.duration if row.took is None else row.took for row in rows}
    line = unwrapped((row.start for row in rows if row.start is not None), clock.day)
    placed = {row.id: Placed(line(row.start), took[row.id], by_sound=False) for row in rows if row.start is not None}
    # A recording that sound placed may place the next in turn.
    for _ in range(3):
        for pairing in paired:
            picture, sound = placed.get(pairing.picture_id), placed.get(pairing.sound_id)
            if picture is None and sound is not None and pairing.picture_id in took:
                start = sound.start - pairing.offset
                placed[pairing.picture_id] = Placed(start, took[pairing.picture_id], by_sound=True)
            elif sound is None and picture is not None and pairing.sound_id in took:
                start = picture.start + pairing.offset
                placed[pairing.sound_id] = Placed(start, took[pairing.sound_id], by_sound=True)
    return placed
