"""The report of a turnover: one line a take, as a table that opens anywhere."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

from vesk.core.wording import plain_cell
from vesk.media.whole import written_whole

COLUMNS = (
    "scene", "take", "source", "picture", "start", "frames", "fps", "sound", "delivered", "file", "reason", "found",
    "cause", "slip_s", "slip_frames", "rate_ppm", "retimed", "picture_rate", "placed_by", "samples", "time_reference",
    "residual_head_ms", "residual_middle_ms", "residual_tail_ms", "checked_by", "remark",
)  # fmt: skip


_FIGURES = {"slip_s", "slip_frames", "rate_ppm"}  # made here, and signed


def write_report(path: Path, lines: list[dict[str, Any]]) -> None:
    """Write the report of every take as CSV, whole or not at all."""
    with written_whole(path) as part, part.open("w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, COLUMNS)
        writer.writeheader()
        writer.writerows({name: _cell(name, value) for name, value in line.items()} for line in lines)


def _cell(name: str, value: Any) -> Any:
    figure = name in _FIGURES or name.startswith("residual_")
    return plain_cell(value) if isinstance(value, str) and not figure else value
