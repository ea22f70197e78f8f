"""What the Intake page lists: recordings with what is known of them, filtered and ordered; oddities; sources."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction

from vesk.core.day.known import DayKnown
from vesk.core.day.recording import Known
from vesk.core.intake.oddities import Oddity
from vesk.store.tables import AcceptedRow, Recording

WEIGHTS = {4: "lost", 3: "wrong", 2: "look", 1: "note"}
FILTERS = {"all": "all", "odd": "odd", "noclock": "without a clock", "aside": "set aside", "changed": "put right"}
ORDERS = {
    "path": "file", "source": "source", "start": "start", "long": "length", "scene": "scene", "size": "size",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Line:
    """One recording: its row, what is known, and what is odd about it."""

    row: Recording
    known: Known
    oddities: tuple[Oddity, ...]

    @property
    def put_right(self) -> bool:
        """Whether a person put any fact of it right."""
        return bool(self.known.item.put_right)

    def shown_by(self, chosen: str) -> bool:
        """Whether a filter shows it; a filter may also be ``source:`` and a tag, ``folder:`` and a path."""
        if chosen.startswith("source:"):
            return self.known.item.source == chosen.removeprefix("source:")
        if chosen.startswith("folder:"):
            return _folder(self.row) == chosen.removeprefix("folder:")
        return {
            "odd": bool(self.oddities),
            "noclock": self.known.own_start is None,
            "aside": bool(self.known.aside),
            "changed": self.put_right,
        }.get(chosen, True)


def _folder(row: Recording) -> str:
    return row.path.rpartition("/")[0] or "."


def folders(listed: list[Line]) -> set[str]:
    """Return the folders that recordings lie in."""
    return {_folder(line.row) for line in listed}


def lines(rows: list[Recording], known: DayKnown, accepted: Mapping[str, AcceptedRow]) -> list[Line]:
    """Return a line for every recording that can be used."""
    about: dict[str, list[Oddity]] = {}
    for one in known.oddities:
        if one.key not in accepted:
            for key in one.about:
                about.setdefault(key, []).append(one)
    return [
        Line(row, known.recordings[str(row.id)], tuple(about.get(str(row.id), ())))
        for row in rows
        if str(row.id) in known.recordings
    ]


def ordered(listed: list[Line], order: str) -> list[Line]:
    """Order lines; ``-`` before the order turns it round. What has no value comes last."""
    down = order.startswith("-")
    keys = {
        "source": lambda line: (line.known.item.source, line.row.path),
        "start": lambda line: (line.known.start is None, line.known.start or Fraction(0)),
        "long": lambda line: line.row.duration,
        "scene": lambda line: (line.known.values["scene"].value, line.known.values["take"].value),
        "size": lambda line: line.row.size,
    }
    key = keys.get(order.removeprefix("-"), lambda line: line.row.path)
    return sorted(listed, key=key, reverse=down)
