"""What counts of a recording's slate: as it was read, as a report says, or as a person put it right."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from vesk.core.plain import Plain


@dataclass(frozen=True, slots=True)
class Told:
    """What counts, each empty where nothing tells it; `by_person` where a person put scene or take right."""

    scene: str = ""
    take: str = ""
    tape: str = ""
    note: str = ""
    timecode: str = ""
    circled: str = ""
    by_person: bool = False


def _second(values: dict[str, Any]) -> dict[str, Any]:
    """Until the second version a person's word was the text "yes" of a field "put"."""
    return {**{name: value for name, value in values.items() if name != "put"}, "by_person": values.get("put") == "yes"}


TOLD = Plain(Told, 2, since={1: _second})
