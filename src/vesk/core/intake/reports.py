"""Sound and camera reports: what a table's columns mean, and which of a day's recordings each line is about."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from vesk.core.errors import ReportError, TimecodeError
from vesk.core.intake.filed import Filed
from vesk.core.kinds import ReportKind
from vesk.core.timecode import FrameRate, Timecode, wrap_day
from vesk.core.wording import duration

# What each field is called at the head of a column, in small letters and without signs.
FIELDS = {
    "file": ("file", "filename", "name", "clip", "clipname"),
    "roll": ("roll", "soundroll", "cameraroll", "reel", "tape", "card", "folder", "mag"),
    "scene": ("scene", "sc", "scn", "slate"),
    "take": ("take", "tk", "t"),
    "timecode": ("start", "starttc", "tcstart", "tcin", "timecode", "tc", "starttimecode"),
    "circled": ("circled", "circle", "circledtake", "good", "print", "select", "ok"),
    "note": ("note", "notes", "comment", "comments", "remark", "remarks"),
}
_CLOSE_S = 1.0  # a label written down by hand is read off a display
# More than any day's report has. Each limit has its sentence, and all of them lie below what a page may send.
MOST_LINES, MOST_COLUMNS, LONGEST_CELL = 5000, 200, 2000
MOST_LETTERS = 4 << 20
_YES = {"x", "y", "yes", "1", "true", "*", "o", "ok"}


@dataclass(frozen=True, slots=True)
class Table:
    """A report as it was read: the names of its columns, and its lines."""

    columns: tuple[str, ...]
    lines: tuple[tuple[str, ...], ...]


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of a report: its number below the head, from 1, and what it says, by field."""

    number: int
    says: Mapping[str, str]

    def __str__(self) -> str:
        """Return how a person would name it."""
        take = " / ".join(filter(None, (self.says.get("scene", ""), self.says.get("take", ""))))
        parts = [f"line {self.number}", take, self.says.get("file", ""), self.says.get("roll", "")]
        return ", ".join(filter(None, parts))


@dataclass(frozen=True, slots=True)
class Report:
    """A report of the day.

    Attributes
    ----------
    name : str
        Its file's.
    kind : str
        ``sound`` or ``camera``.
    source : str
        The tag of the source it is about; empty: all of its kind.
    entries : tuple of Entry
    """

    name: str
    kind: ReportKind
    source: str
    entries: tuple[Entry, ...]

    def covers(self, one: Filed) -> bool:
        """Say whether a recording should stand on it.

        Parameters
        ----------
        one : Filed
            Of the day.
        """
        if self.source:
            return one.source == self.source
        return (one.kind == "sound") == (self.kind == "sound")


@dataclass(frozen=True, slots=True)
class Compared:
    """A report beside the recordings.

    Attributes
    ----------
    matched : dict of str to Entry
        By the recording's key.
    without_file : tuple of Entry
    without_entry : tuple of str
        Keys of recordings that should stand on the report and do not.
    disagree : tuple of (str, str)
        Key, and a sentence.
    """

    matched: dict[str, Entry] = field(default_factory=dict)
    without_file: tuple[Entry, ...] = ()
    without_entry: tuple[str, ...] = ()
    disagree: tuple[tuple[str, str], ...] = ()


def read_table(text: str) -> Table:
    """Read a report: commas, semicolons or tabs; lines above the head are passed over.

    Parameters
    ----------
    text : str
        Of the whole file.

    Raises
    ------
    ReportError
        If no line names two columns or more that a report has.
    """
    lines = _lines(text)
    best: tuple[int, int, list[list[str]]] = (0, 0, [])
    problem: ReportError | None = None
    for delimiter in ",;\t":
        try:
            rows = _rows(lines, delimiter)
        except ReportError as error:  # read by what does not part its columns, notes may look like anything
            problem = problem or error
            continue
        for at, row in enumerate(rows[:40]):
            known = len(guess_mapping(row))
            if known > best[0]:
                best = (known, at, rows)
    known, at, rows = best
    if known < 2 and problem is not None:
        raise problem
    if known < 2:
        names = ", ".join(FIELDS)
        raise ReportError(f"No line of it names its columns. Give it a first line with at least two of: {names}.")
    head = rows[at]
    told = [tuple((row + [""] * len(head))[: len(head)]) for row in rows[at + 1 :] if any(row)]
    if len(told) > MOST_LINES:
        raise ReportError(f"It has {len(told)} lines; a day's report has {MOST_LINES} at most.")
    return Table(tuple(head), tuple(told))


def _lines(text: str) -> list[str]:
    if len(text) > MOST_LETTERS:
        raise ReportError(f"It is larger than any report ({MOST_LETTERS >> 20} MB at most). Is it the right file?")
    if "\0" in text:
        raise ReportError("It holds zero bytes, so it is no text. Save it as CSV, in UTF-8.")
    lines = text.splitlines(keepends=True)
    if len(lines) > 2 * MOST_LINES:
        raise ReportError(f"It has {len(lines)} lines; a day's report has {MOST_LINES} at most.")
    return lines


def _rows(lines: Sequence[str], delimiter: str) -> list[list[str]]:
    """Return a table's cells; a line of more columns or a longer cell than any report has is refused, not read on."""
    rows: list[list[str]] = []
    try:
        for row in csv.reader(lines, delimiter=delimiter):
            if len(row) > MOST_COLUMNS:
                raise ReportError(f"Line {len(rows) + 1} has {len(row)} columns; a report has {MOST_COLUMNS} at most.")
            if any(len(cell) > LONGEST_CELL for cell in row):
                raise ReportError(
                    f"Line {len(rows) + 1} has a cell of more than {LONGEST_CELL} characters: is it the right file?"
                )
            rows.append([cell.strip() for cell in row])
    except csv.Error as error:
        raise ReportError(f"Line {len(rows) + 1} cannot be read as a table ({error}).") from None
    return rows


def guess_mapping(columns: Sequence[str]) -> dict[str, str]:
    """Return which column gives each field, by its name: exactly, else by its beginning.

    Parameters
    ----------
    columns : sequence of str
        Heads of the table, as written.

    Examples
    --------
    >>> guess_mapping(["Scene", "Take #", "File Name", "Start TC", "Comments"])
    {'file': 'File Name', 'scene': 'Scene', 'take': 'Take #', 'timecode': 'Start TC', 'note': 'Comments'}
    """
    plain = {re.sub(r"[^a-z]", "", column.lower()): column for column in reversed(columns)}
    found: dict[str, str] = {}
    for name, words in FIELDS.items():
        exact = next((plain[word] for word in words if word in plain), None)
        long = [word for word in words if len(word) > 3]
        column = exact or next((column for text, column in plain.items() if text.startswith(tuple(long))), None)
        if column is not None and column not in found.values():
            found[name] = column
    return found


def entries_of(table: Table, mapping: Mapping[str, str]) -> tuple[Entry, ...]:
    """Return what a table says, line by line; lines that say nothing that names a recording are left out.

    Parameters
    ----------
    table : Table
        As it was read.
    mapping : dict of str to str
        The column that gives each field.
    """
    at = {name: table.columns.index(column) for name, column in mapping.items() if column in table.columns}
    made = []
    for number, line in enumerate(table.lines, start=1):
        says = {name: line[index] for name, index in at.items() if line[index]}
        if says.get("file") or says.get("scene"):
            made.append(Entry(number, says))
    return tuple(made)


def is_circled(entry: Entry) -> bool:
    """Say whether the take is circled.

    Parameters
    ----------
    entry : Entry
        A line of a report.
    """
    return entry.says.get("circled", "").strip().casefold() in _YES


def compare(report: Report, recordings: Iterable[Filed], day: FrameRate) -> Compared:
    """Lay a report beside the recordings it covers.

    A line is matched by its file's name, else by scene and take; where several fit, by roll and the nearest label.
    What a file says itself is compared with the line: scene, take and start.

    Parameters
    ----------
    report : Report
        With its lines.
    recordings : sequence of Filed
        The day's.
    day : FrameRate
        The day's label clock.
    """
    covered = {one.key: one for one in recordings if report.covers(one)}
    by_name: dict[str, dict[str, Filed]] = {}
    by_take: dict[tuple[str, str], list[Filed]] = {}
    for one in covered.values():
        for file in (one, *one.files):
            by_name.setdefault(_stem(file.name), {})[one.key] = one
        by_take.setdefault(_take(one.scene, one.take), []).append(one)
    matched: dict[str, Entry] = {}
    without_file = []
    for entry in report.entries:
        if entry.says.get("file"):
            fits = list(by_name.get(_stem(entry.says["file"]), {}).values())
        else:
            wanted = _take(entry.says.get("scene", ""), entry.says.get("take", ""))
            fits = [one for one in by_take.get(wanted, ()) if one.key not in matched]
        best = _nearest(entry, fits, day)
        if best is None:
            without_file.append(entry)
        else:
            matched.setdefault(best.key, entry)
    disagree = [(key, said) for key, entry in matched.items() for said in _differences(entry, covered[key], day)]
    left = tuple(key for key in covered if key not in matched)
    return Compared(matched, tuple(without_file), left, tuple(disagree))


def _stem(name: str) -> str:
    return re.sub(r"\.[A-Za-z0-9]{2,4}$", "", name.strip().replace("\\", "/").rpartition("/")[2]).casefold()


def _nearest(entry: Entry, fits: list[Filed], day: FrameRate) -> Filed | None:
    """Return, of several that a line may be about, the one of its roll that starts nearest."""
    roll = entry.says.get("roll", "").casefold()
    same = [one for one in fits if roll and roll in {one.tape.casefold(), one.tokens.get("roll", "").casefold()}]
    return min(same or fits, key=lambda one: (abs(_apart(entry, one, day) or 0.0), one.path), default=None)


def _take(scene: str, take: str) -> tuple[str, str]:
    """Return scene and take as they compare: ``31a`` and ``02`` are ``31A`` and ``2``."""
    return scene.strip().upper(), take.strip().lstrip("0").upper()


def _apart(entry: Entry, one: Filed, day: FrameRate) -> float | None:
    """Return how much later a report says a recording starts than its file does, seconds."""
    label = entry.says.get("timecode", "")
    if not label or one.start is None:
        return None
    text = label if len(re.findall(r"[:;]", label)) == 3 else f"{label}{';' if day.drop else ':'}00"
    try:
        return float(wrap_day(Timecode.parse(text, day).seconds - one.start, day.day))
    except TimecodeError:
        return None


def _differences(entry: Entry, one: Filed, day: FrameRate) -> list[str]:
    said = []
    for name, own in (("scene", one.scene), ("take", one.take)):
        theirs = entry.says.get(name, "")
        if own and theirs and _take(own, "") != _take(theirs, "") and own.lstrip("0") != theirs.lstrip("0"):
            said.append(f"{name} {theirs} on the report, {own} in the file")
    apart = _apart(entry, one, day)
    if apart is not None and abs(apart) > _CLOSE_S:
        way = "later" if apart > 0 else "earlier"
        said.append(f"the report starts it {duration(abs(apart))} {way} than the file")
    return said
