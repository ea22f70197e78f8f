"""Sounds that labels lead to no picture: wild tracks, or all that a recorder made while its clock was wrong.

Pictures that have a partner are not searched for others: a second recorder an hour off would be a day of wild tracks.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

_SAME_CLOCK_S = 1.0  # by how much a clock that nobody set may have changed from one take to another
_MANY = 1 / 3  # of a device's sounds: so many without a picture are another's than those that have one
_ASKED = 3  # of sounds in a row that lead nowhere: where one is found, its clock tells the others


@dataclass(frozen=True, slots=True)
class Sounding:
    """A sound with a label.

    Attributes
    ----------
    key : str
    source : str
        The device that made it.
    label_s : float
        When, by its label, seconds; growing over the day.
    duration_s : float
    off_s : float or None
        How far off its label is, by a picture that sound matched it with, seconds; None where none did.
    alone : bool
        Whether it has no picture.
    """

    key: str
    source: str
    label_s: float
    duration_s: float
    off_s: float | None
    alone: bool


def find_adrift(sounds: Iterable[Sounding]) -> list[str]:
    """Find the sounds that are to be searched for though they have a label: no take around them tells their clock.

    Between two takes that show the same clock, what has no picture is a wild track. Before the first, after the last,
    and where the clock is another than before, it may have been wrong: the longest few in a row are asked; and the
    longest of all where many have no picture, since two recorders may be filed as one.

    Parameters
    ----------
    sounds : iterable of Sounding
        All of a day.

    Returns
    -------
    list of str
        Keys.
    """
    by_source: dict[str, list[Sounding]] = {}
    for one in sorted(sounds, key=lambda one: (one.label_s, one.key)):
        by_source.setdefault(one.source, []).append(one)
    found: list[str] = []
    for own in by_source.values():
        row: list[Sounding] = []
        before: float | None = None
        for one in own:
            if one.alone:
                row.append(one)
            elif one.off_s is not None:
                if before is None or abs(one.off_s - before) > _SAME_CLOCK_S:
                    found += _longest(row)
                row, before = [], one.off_s
        found += _longest(row)
        alone = [one for one in own if one.alone]
        if len(alone) >= _MANY * len(own):
            found += _longest(alone)
    return list(dict.fromkeys(found))


def _longest(row: list[Sounding]) -> list[str]:
    return [one.key for one in sorted(row, key=lambda one: (-one.duration_s, one.label_s))[:_ASKED]]
