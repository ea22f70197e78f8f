"""The report of a turnover for paper: one page layout, black on white, as HTML and as PDF."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from jinja2 import Environment, FileSystemLoader, StrictUndefined

from vesk.core.errors import StorageError
from vesk.media.whole import written_whole

_HERE = Path(__file__).parent
_PAGES = Environment(
    loader=FileSystemLoader(_HERE), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
)


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
    return _PAGES.get_template("paper_report.html").render(report=report)


def write_html(page: str, target: Path) -> None:
    """Write the page, whole or not at all."""
    with written_whole(target) as part:
        part.write_text(page, encoding="utf-8")


def write_pdf(page: str, target: Path) -> None:
    """Write the page as PDF, whole or not at all.

    Raises
    ------
    StorageError
        If the library that prints is not whole on this machine.
    """
    try:
        import weasyprint  # noqa: PLC0415 - it loads fonts, and only this needs it
    except OSError as error:
        raise StorageError(target, f"Debian's Pango is not installed, which prints PDF ({error})") from error
    with written_whole(target) as part:
        weasyprint.HTML(string=page).write_pdf(str(part))
