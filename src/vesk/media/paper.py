"""The report of a turnover for paper: one page layout, black on white, as HTML and as PDF."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from pathlib import Path

import typst
from jinja2 import Environment, FileSystemLoader, StrictUndefined

from vesk.media.whole import written_whole

_HERE = Path(__file__).parent
_PAGES = Environment(
    loader=FileSystemLoader(_HERE), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
)
# Of a take: what its columns are called, and how much of the paper's width each takes, percent.
_COLUMNS = (
    ("slate", 5), ("picture", 15), ("starts", 8), ("sound", 15), ("found", 10), ("done (slip: + later)", 12),
    ("left: head, middle, tail (+ late)", 12), ("checked by", 7), ("handed over", 16),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class PaperTake:
    """One line of the report: words and figures as they are printed; `delivered` is empty where nothing was."""

    slate: str
    picture: str
    starts: str
    sound: str
    found: str
    done: str
    left: str
    checked: str
    delivered: str
    reason: str
    remark: str

    @property
    def cells(self) -> tuple[str, ...]:
        """What stands in each of its columns."""
        handed_over = (self.delivered or self.reason) + (f" ({self.remark})" if self.remark else "")
        return (
            self.slate, self.picture, self.starts, self.sound, self.found, self.done, self.left, self.checked,
            handed_over,
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class PaperClock:
    """A device's clock over the day, drawn 800 by 80: polylines, marks, the frames that the upper half stands for."""

    name: str
    says: str
    lines: tuple[str, ...]
    marks: tuple[tuple[float, float], ...]
    tall: str


@dataclass(frozen=True, slots=True)
class PaperReport:
    """All that is printed; `first` is what a reader must know before anything else."""

    title: str
    first: str
    lines: tuple[str, ...]
    takes: tuple[PaperTake, ...]
    missing: tuple[str, ...]
    clocks: tuple[PaperClock, ...]


def page_of(report: PaperReport) -> str:
    """Return the report as one HTML page that needs nothing else."""
    return _PAGES.get_template("paper_report.html").render(report=report, columns=_COLUMNS)


def write_html(page: str, target: Path) -> None:
    """Write the page, whole or not at all."""
    with written_whole(target) as part:
        part.write_text(page, encoding="utf-8")


def write_pdf(report: PaperReport, target: Path) -> None:
    """Write the report as PDF, whole or not at all."""
    said = asdict(report) | {
        "columns": [name for name, _ in _COLUMNS],
        "widths": [width for _, width in _COLUMNS],
        "takes": [{"cells": take.cells, "delivered": bool(take.delivered)} for take in report.takes],
    }
    made = typst.compile(str(_HERE / "paper_report.typ"), sys_inputs={"report": json.dumps(said)})
    with written_whole(target) as part:
        part.write_bytes(made)
