"""The journal: everything done, by whom, when."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import or_
from sqlmodel import Session, col, select

from vesk.core.kinds import Kind
from vesk.store import trail
from vesk.store.tables import JournalRow, Pairing, Recording, Source
from vesk.store.trail import RowChange


@dataclass(frozen=True, slots=True)
class Asked:
    """Which lines are asked for; empty: all.

    Attributes
    ----------
    by : str
        Who did it.
    take : str
        A part of the name of a recording that it was done to.
    device : str
        The tag of a source that it was done to, or to one of its recordings.
    """

    by: str = ""
    take: str = ""
    device: str = ""


def note(session: Session, *, day_id: int, by: str, what: str, pairing_id: int | None = None, act: str = "",
         undoes: str = "") -> None:  # fmt: skip
    """Write a line. What its transaction changed, it names."""
    entry = session.info.get("entry", "")
    session.add(JournalRow(day_id=day_id, by=by, what=what, pairing_id=pairing_id, act=act, entry=entry, undoes=undoes))


def says(session: Session, day_id: int, what: str) -> bool:
    """Say whether a line of a day says just this."""
    query = select(JournalRow.id).where(JournalRow.day_id == day_id, JournalRow.what == what)
    return session.exec(query.limit(1)).first() is not None


def of_day(
    session: Session, day_id: int, asked: Asked | None = None, *, most: int = 500, before: int = 0
) -> list[JournalRow]:
    """Return a day's lines, the newest first; those `before` a line's number, where one is given."""
    query = _lines(select(JournalRow), day_id, asked).order_by(col(JournalRow.id).desc())
    if before:
        query = query.where(col(JournalRow.id) < before)
    return list(session.exec(query.limit(most)))


def every_line(session: Session, day_id: int, asked: Asked) -> Iterable[tuple[datetime, str, str]]:
    """Return when, who and what of all lines of a day that are asked for, the oldest first, some at a time."""
    query = _lines(select(JournalRow.at, JournalRow.by, JournalRow.what), day_id, asked).order_by(col(JournalRow.id))
    found: Iterable[tuple[datetime, str, str]] = session.exec(query.execution_options(yield_per=1000))
    return found


def _lines(query: Any, day_id: int, asked: Asked | None) -> Any:
    """Return a query of lines, narrowed to those of a day that are asked for."""
    query = query.where(JournalRow.day_id == day_id)
    if asked and asked.by:
        query = query.where(JournalRow.by == asked.by)
    if asked and asked.take:
        like = f"%{_escaped(asked.take)}%"
        rows = select(Recording.id).where(Recording.day_id == day_id, col(Recording.name).ilike(like, escape="\\"))
        query = query.where(or_(_about(rows), col(JournalRow.what).ilike(like, escape="\\")))
    if asked and asked.device:
        own = select(Source.id).where(Source.day_id == day_id, Source.tag == asked.device)
        rows = select(Recording.id).where(col(Recording.source_id).in_(own))
        of_source = select(RowChange.entry).where(col(RowChange.source_id).in_(own))
        query = query.where(or_(_about(rows), (col(JournalRow.entry) != "") & col(JournalRow.entry).in_(of_source)))
    return query


def _escaped(typed: str) -> str:
    return typed.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def _about(rows: Any) -> Any:
    """Return the condition that a line is about one of some recordings."""
    pairs = select(Pairing.id).where(col(Pairing.picture_id).in_(rows) | col(Pairing.sound_id).in_(rows))
    touched = select(RowChange.entry).where(
        col(RowChange.recording_id).in_(rows) | col(RowChange.pairing_id).in_(pairs)
    )
    return col(JournalRow.pairing_id).in_(pairs) | ((col(JournalRow.entry) != "") & col(JournalRow.entry).in_(touched))


def people(session: Session, day_id: int) -> list[str]:
    """Return who did something on a day."""
    query = select(JournalRow.by).where(JournalRow.day_id == day_id).distinct().order_by(JournalRow.by)
    return list(session.exec(query))


def tags(session: Session, day_id: int) -> list[str]:
    """Return the tags of a day's devices, pictures first."""
    query = select(Source.tag).where(Source.day_id == day_id, ~col(Source.gone))
    return list(session.exec(query.order_by(col(Source.kind) != Kind.PICTURE, Source.tag)))


def undoable(session: Session, lines: Collection[JournalRow]) -> set[int]:
    """Return the numbers of the lines whose changes can be undone now: one for each entry, its newest."""
    made = trail.of_entries(session, {line.entry for line in lines if line.entry})
    chains = _undoings(session, made)
    away = {entry for entry in made if not _stands(entry, chains)}
    spent = trail.laid_over(session, made, {entry: _chain(entry, chains) for entry in made})
    found: dict[str, int] = {}
    for line in lines:
        if line.entry in made and line.entry not in away | spent and trail.can_be_undone(made[line.entry]):
            found[line.entry] = max(line.id, found.get(line.entry, 0))
    return set(found.values())


def is_undone(session: Session, entry: str) -> bool:
    """Say whether an entry was undone, and its undoing was not."""
    return not _stands(entry, _undoings(session, {entry}))


def _undoings(session: Session, entries: Collection[str]) -> dict[str, list[str]]:
    """Return which entries undid which, those of undoings too."""
    by: dict[str, list[str]] = {}
    left = set(entries)
    while left:
        rows = session.exec(select(JournalRow.undoes, JournalRow.entry).where(col(JournalRow.undoes).in_(left))).all()
        left = set()
        for of, own in rows:
            by.setdefault(of, []).append(own)
            left.add(own)
    return by


def _stands(entry: str, by: Mapping[str, list[str]]) -> bool:
    return not any(_stands(own, by) for own in by.get(entry, []))


def _chain(entry: str, by: Mapping[str, list[str]]) -> set[str]:
    """Return an entry, what undid it, what undid that, and so on."""
    return {entry}.union(*(_chain(own, by) for own in by.get(entry, [])))


def newest_about(session: Session, table: str, row_id: int) -> JournalRow | None:
    """Return the last line that tells of a change to one row."""
    touched = select(RowChange.entry).where(RowChange.table_name == table, RowChange.row_id == row_id)
    query = select(JournalRow).where(col(JournalRow.entry).in_(touched)).order_by(col(JournalRow.id).desc())
    return session.exec(query).first()


def line_of(session: Session, day_id: int, line_id: int) -> JournalRow | None:
    """Return one line of a day."""
    row = session.get(JournalRow, line_id)
    return row if row is not None and row.day_id == day_id else None
