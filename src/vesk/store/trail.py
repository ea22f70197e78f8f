"""What every entry of the journal did to the rows, kept by the database itself, and how it is undone.

A transaction that takes a day for a person (`changes.hold`) has a name, its entry; triggers write down each row that
it makes, changes or deletes, before and after. So whatever a person does can be undone by what it was, as long as
nothing rests on it and nobody changed the same since; and an undoing, being such an entry itself, can be undone too.
"""

# No `from __future__ import annotations` here: table models read their annotations.
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from sqlalchemy import BigInteger, Column, Index, bindparam, text, tuple_
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.exc import IntegrityError
from sqlmodel import Field, Session, col, select

from vesk.core.errors import RefusedError, StaleError
from vesk.store import columns
from vesk.store.row import Row


class RowChange(Row, table=True):
    """What an entry did to one row: what differed, before and after. Written by the database itself."""

    __tablename__ = "row_change"
    __table_args__ = (Index("row_change_of_row", "table_name", "row_id"),)
    id: int = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    entry: str = Field(index=True)
    table_name: str
    row_id: int
    recording_id: int | None = None  # whose row it is, where it is one's
    pairing_id: int | None = None
    source_id: int | None = None
    before: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True)))  # none: made
    after: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True)))  # none: deleted


_ROW = bindparam("row", type_=JSONB)
_ASIDE = "set aside"
# What Vesk finds out by itself, anew whenever a day is paired: undoing leaves that to the next pairing.
_FOUND_OUT = {
    "recording": {"start", "clock", "told", "took", "off_speed", "unpaired", "searched", "heard"},
    "pairing": {"offset", "measured_as", "measured_of", "measurement"},
}
# How a row that was made is taken back where something may rest on it.
_TAKEN_BACK: dict[str, dict[str, Any]] = {
    "pairing": {"state": "withdrawn", "said_by": ""}, "source": {"gone": True}, "recording": {"state": "apart"},
}  # fmt: skip
_DELETED = {"accepted", "clock_period", "report", "recipe", "sync_point", "sync_point_change"}
_COUNTED = {"day", "source", "recording", "pairing", "sync_point", "report", "recipe"}  # have a version
_FOLLOWED = {
    "day",
    "source",
    "recording",
    "override",
    "clock_period",
    "report",
    "pairing",
    "sync_point",
    "seen_label",
    "heard_stretch",
}


def of_entry(session: Session, entry: str) -> Sequence[RowChange]:
    """Return what an entry changed, in order."""
    query = select(RowChange).where(RowChange.entry == entry).order_by(col(RowChange.id))
    return session.exec(query).all() if entry else []


def of_entries(session: Session, entries: Collection[str]) -> dict[str, list[RowChange]]:
    """Return what entries changed, by entry, in order; an entry that changed nothing is left out."""
    made: dict[str, list[RowChange]] = {}
    if entries:
        query = select(RowChange).where(col(RowChange.entry).in_(entries)).order_by(col(RowChange.id))
        for one in session.exec(query):
            made.setdefault(one.entry, []).append(one)
    return made


def laid_over(
    session: Session, made: Mapping[str, Sequence[RowChange]], chains: Mapping[str, Collection[str]]
) -> set[str]:
    """Return the entries of which somebody changed the same again since, by other means than undoing (`chains`)."""
    rows = {(one.table_name, one.row_id) for changes in made.values() for one in changes}
    later: dict[tuple[str, int], list[RowChange]] = {}
    if rows:
        # What was before the first of them lies over none: a take may have been slipped a thousand times.
        first = min(one.id for changes in made.values() for one in changes)
        own = tuple_(col(RowChange.table_name), col(RowChange.row_id)).in_(rows)
        for one in session.exec(select(RowChange).where(own, col(RowChange.id) > first)):
            later.setdefault((one.table_name, one.row_id), []).append(one)
    found = set()
    for entry, changes in made.items():
        for one in changes:
            since = later.get((one.table_name, one.row_id), ())
            others = (o for o in since if o.id > one.id and o.entry not in chains[entry])
            if any(_weighed(one) & _weighed(other) for other in others):
                found.add(entry)
    return found


def can_be_undone(changes: Sequence[RowChange]) -> bool:
    """Say whether there is something to undo, and nothing among it that never is."""
    of_persons = [one for one in changes if not _is_found_out(one)]
    return bool(of_persons) and all(one.before is not None or _can_be_taken_back(one) for one in of_persons)


def says_more_than_found_out(changes: Sequence[RowChange]) -> bool:
    """Say whether a day has to be paired again after these were undone."""
    return any(one.table_name in _FOLLOWED and not _is_found_out(one) for one in changes)


def undo(session: Session, changes: Sequence[RowChange]) -> None:
    """Make rows what they were before an entry, the last change first.

    Raises
    ------
    StaleError
        If one was changed since.
    RefusedError
        If something rests on what would be taken back.
    """
    session.flush()
    for one in reversed(changes):
        if not _is_found_out(one) or one.table_name in _COUNTED:
            _undo(session, one)
    session.expire_all()


def _is_found_out(one: RowChange) -> bool:
    """Say whether a change says nothing that a person said: of a version alone, or of what is found out anew."""
    if one.before is None or one.after is None:
        return one.table_name == "pairing" and not (one.after or one.before or {}).get("said_by")
    found = _FOUND_OUT.get(one.table_name, set()) | {"version"}
    if one.table_name == "pairing" and _ASIDE not in {one.before.get("state"), one.after.get("state")}:
        found |= {"state"}
    return set(one.after) <= found


def _can_be_taken_back(one: RowChange) -> bool:
    return one.table_name in _TAKEN_BACK or one.table_name in _DELETED or "undone_at" in (one.after or {})


def _weighed(one: RowChange) -> set[str]:
    """Return the columns by which a change is known to stand."""
    if one.after is None or one.before is None:
        return set() if _is_found_out(one) else {"undone_at", "id"}
    names = set(one.after) - _FOUND_OUT.get(one.table_name, set()) - {"version"}
    if one.table_name == "pairing" and one.after.get("state") != _ASIDE:
        names -= {"state"}  # a pairing that was measured since is still the same
    return names


def _undo(session: Session, one: RowChange) -> None:
    table = one.table_name
    if one.after is None:
        _run(session, f"INSERT INTO {table} SELECT * FROM {_as_row(table)}", row=one.before)
        return
    now = session.execute(text(f"SELECT to_jsonb(t) FROM {table} t WHERE id = :id"), {"id": one.row_id}).scalar()
    if now is None or (one.before is not None and any(now[name] != one.after[name] for name in _weighed(one))):
        if _is_found_out(one):
            return
        raise StaleError("What this did was changed again since. Undo the later one first; nothing was changed.")
    wanted = _taken_back(session, one, now) if one.before is None else _as_before(one)
    if wanted is None:
        return
    if table in _COUNTED:  # whoever looks at the row as it was must be told
        wanted = {**wanted, "version": now["version"] + 1}
    for name in wanted:
        value = f'(SELECT "{name}" FROM {_as_row(table)})'
        _run(session, f'UPDATE {table} SET "{name}" = {value} WHERE id = :id', id=one.row_id, row=wanted)


def _as_row(table: str) -> str:
    return f"jsonb_populate_record(NULL::{table}, :row)"


def _as_before(one: RowChange) -> dict[str, Any]:
    """Return the columns that become what they were."""
    before, after = one.before or {}, one.after or {}
    wanted = {name: before[name] for name in _weighed(one)}
    if one.table_name == "pairing" and {before.get("state"), after.get("state")} & {_ASIDE, "withdrawn"}:
        wanted["state"] = before["state"]
    return wanted


def _taken_back(session: Session, one: RowChange, now: dict[str, Any]) -> dict[str, Any] | None:
    """Return the columns by which a row that was made is taken back; None where it is deleted.

    Raises
    ------
    StaleError
        If it was taken back already.
    RefusedError
        If something rests on it.
    """
    if one.table_name in _TAKEN_BACK:
        if now.get("member_of") is not None:
            raise RefusedError("It is a part of another recording by now. Take that apart first; nothing was changed.")
        return _TAKEN_BACK[one.table_name]
    if one.table_name not in _DELETED:
        if now.get("undone_at") is not None:
            raise StaleError("That was undone already. Nothing was changed.")
        return {"undone_at": columns.now().isoformat()}
    try:
        with session.begin_nested():
            _run(session, f"DELETE FROM {one.table_name} WHERE id = :id", id=one.row_id)
    except IntegrityError:
        raise RefusedError("Something rests on this by now. Undo that first; nothing was changed.") from None
    return None


def _run(session: Session, statement: str, **values: Any) -> None:
    asked = text(statement)
    session.execute(asked.bindparams(_ROW) if "row" in values else asked, values)
