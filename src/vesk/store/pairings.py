"""Pairings, their corrections and checks."""

from __future__ import annotations

from collections.abc import Collection
from datetime import UTC, datetime
from fractions import Fraction
from typing import Any, TypeVar, cast

from sqlalchemy import func, literal_column, or_
from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.core.kinds import Kind, PairingState
from vesk.core.sound.measurement import Measurement
from vesk.store import changes
from vesk.store.recordings import is_whole
from vesk.store.tables import CheckRow, CorrectionRow, Pairing, Recording, ScopedCorrectionRow

S = TypeVar("S", CorrectionRow, CheckRow)
Undoable = CorrectionRow | CheckRow | ScopedCorrectionRow
PROPOSED, MEASURED, SET_ASIDE, WITHDRAWN = PairingState


def of_day(session: Session, day_id: int) -> list[Pairing]:
    """Return a day's pairings, but for those that rest.

    One of a file that became part of a recording rests until it is taken apart, one of a camera that serves as a
    recorder until it is a camera again.
    """
    query = select(Pairing).where(Pairing.day_id == day_id, _stands()).options(_light())
    return list(session.exec(query.order_by(col(Pairing.id))))


def marks_of_day(session: Session, day_id: int) -> dict[int, str]:
    """Return the numbers of the same, each with a mark that is another whenever its row changed."""
    mark: Any = literal_column("pairing.ctid::text || pairing.xmin::text")
    query = select(Pairing.id, mark).where(Pairing.day_id == day_id, _stands()).order_by(col(Pairing.id))
    return dict(session.exec(query).all())


def some(session: Session, ids: Collection[int]) -> list[Pairing]:
    """Return pairings by number, without what was measured."""
    return list(session.exec(select(Pairing).where(col(Pairing.id).in_(ids)).options(_light()))) if ids else []


def propose(session: Session, *, day_id: int, picture_id: int, sound_id: int, offset: Fraction) -> Pairing:
    """Return a new pairing of two recordings, or the one that was withdrawn, as it stands again."""
    query = select(Pairing).where(Pairing.picture_id == picture_id, Pairing.sound_id == sound_id)
    row = session.exec(query).first()
    if row is None:
        row = Pairing(day_id=day_id, picture_id=picture_id, sound_id=sound_id, offset=offset)
    elif row.state == WITHDRAWN:
        row.state, row.offset = MEASURED if row.measured_as else PROPOSED, offset
        changes.count(session, row)
    session.add(row)
    return row


def withdraw(session: Session, row: Pairing) -> None:
    """Propose a pairing no longer; the row stays, for what refers to it."""
    row.state = WITHDRAWN
    changes.count(session, row)


def contents(picture: Recording, sound: Recording) -> str:
    """Return what a measurement or a check of two recordings rests on."""
    return f"{picture.content}:{sound.content}"


def _stands() -> Any:
    def whole(kind: Kind) -> Any:
        return select(Recording.id).where(is_whole(), Recording.kind == kind)

    # A camera that came to serve as a recorder is no picture any more.
    of_those = col(Pairing.picture_id).in_(whole(Kind.PICTURE)) & col(Pairing.sound_id).in_(whole(Kind.SOUND))
    return of_those & (Pairing.state != WITHDRAWN)


def sharing(session: Session, rows: list[Pairing]) -> list[Pairing]:
    """Return the pairings that share a picture or a sound with any of `rows`, themselves among them."""
    pictures, sounds = {row.picture_id for row in rows}, {row.sound_id for row in rows}
    shared = col(Pairing.picture_id).in_(pictures) | col(Pairing.sound_id).in_(sounds)
    query = select(Pairing).where(shared, _stands() | col(Pairing.id).in_({row.id for row in rows})).options(_light())
    return list(session.exec(query.order_by(col(Pairing.id))))


def _light() -> Any:
    """Leave out what was measured: it is large, and known by its name."""
    return defer(cast("Any", Pairing.measurement))


def measurements(session: Session, ids: Collection[int]) -> dict[int, tuple[str, Measurement]]:
    """Return what was measured of pairings, by their number, each with its name."""
    if not ids:
        return {}
    columns: Any = (Pairing.id, Pairing.measured_as, Pairing.measurement)
    rows = session.exec(select(*columns).where(col(Pairing.id).in_(ids)))
    return {number: (name, found) for number, name, found in rows if name and found}


def to_measure_with(session: Session, recording_id: int) -> list[int]:
    """Return the pairings of a recording that stand, wait to be measured, and whose both sides were listened to."""
    of_it = _with(recording_id)
    listened = select(Recording.id).where(col(Recording.heard).is_not(None))
    both = col(Pairing.picture_id).in_(listened) & col(Pairing.sound_id).in_(listened)
    query = select(Pairing.id).where(of_it, _stands(), both, col(Pairing.measured_as).is_(None))
    return list(session.exec(query.where(Pairing.state != SET_ASIDE)))


def measured_with(session: Session, recording_id: int) -> list[int]:
    """Return the pairings of a recording that stand and were measured."""
    query = select(Pairing.id).where(_with(recording_id), _stands(), col(Pairing.measured_as).is_not(None))
    return list(session.exec(query))


def _with(recording_id: int) -> Any:
    return or_(col(Pairing.picture_id) == recording_id, col(Pairing.sound_id) == recording_id)


def of_picture(session: Session, picture_id: int) -> list[int]:
    """Return the pairings of a picture that stand, by number."""
    return list(session.exec(select(Pairing.id).where(Pairing.picture_id == picture_id, _stands())))


def is_standing(session: Session, pairing_id: int) -> bool:
    """Say whether a pairing is still there, of recordings that stand for themselves."""
    return session.exec(select(Pairing.id).where(Pairing.id == pairing_id, _stands())).first() is not None


def get(session: Session, pairing_id: int) -> Pairing:
    """Return a pairing."""
    pairing = session.get(Pairing, pairing_id)
    if pairing is None:
        raise NotFoundError(f"There is no pairing number {pairing_id} here.")
    return pairing


def get_for_change(session: Session, pairing_id: int, version: int) -> Pairing:
    """Return a pairing held for change; refuse if somebody changed it since `version` was shown."""
    pairing = get(session, pairing_id)
    changes.hold(session, pairing.day_id)
    changes.compare(pairing, version, "this pairing")
    return pairing


def standing_corrections(session: Session, pairing_ids: list[int]) -> dict[int, CorrectionRow]:
    """Return the newest correction that stands, for each pairing that has one."""
    return _standing(session, CorrectionRow, col(CorrectionRow.pairing_id).in_(pairing_ids))


def standing_checks(session: Session, pairing_ids: list[int]) -> dict[int, CheckRow]:
    """Return the newest check that stands, for each pairing that has one."""
    return _standing(session, CheckRow, col(CheckRow.pairing_id).in_(pairing_ids))


def decided_with(session: Session, recording_ids: Collection[int]) -> set[int]:
    """Return which of some recordings have a take that is corrected or checked."""
    both = select(Pairing.id, Pairing.picture_id, Pairing.sound_id).where(
        col(Pairing.picture_id).in_(recording_ids) | col(Pairing.sound_id).in_(recording_ids)
    )
    pairs = {number: {picture, sound} for number, picture, sound in session.exec(both)}
    decided = {*standing_corrections(session, list(pairs)), *standing_checks(session, list(pairs))}
    return set().union(*(pairs[number] for number in decided)) & set(recording_ids)


def standing_corrections_of_day(session: Session, day_id: int) -> dict[int, CorrectionRow]:
    """Return the same for all pairings a day ever had."""
    return _standing(session, CorrectionRow, col(CorrectionRow.pairing_id).in_(_ever(day_id)))


def standing_checks_of_day(session: Session, day_id: int) -> dict[int, CheckRow]:
    """Return the same for all pairings a day ever had."""
    return _standing(session, CheckRow, col(CheckRow.pairing_id).in_(_ever(day_id)))


def _ever(day_id: int) -> Any:
    return select(Pairing.id).where(Pairing.day_id == day_id)


def _standing(session: Session, table: type[S], of: Any) -> dict[int, S]:
    # The newest of each alone: a take that was slipped a thousand times is read as fast as one that never was.
    newest = select(func.max(table.id)).where(of, col(table.undone_at).is_(None)).group_by(col(table.pairing_id))
    return {row.pairing_id: row for row in session.exec(select(table).where(col(table.id).in_(newest)))}


def history(session: Session, pairing_id: int) -> list[CorrectionRow]:
    """Return every correction ever made to a pairing, the oldest first."""
    query = select(CorrectionRow).where(CorrectionRow.pairing_id == pairing_id)
    return list(session.exec(query.order_by(col(CorrectionRow.id))))


def scoped_corrections(session: Session, day_id: int) -> list[ScopedCorrectionRow]:
    """Return the corrections of whole devices that stand, the newest first."""
    query = select(ScopedCorrectionRow).where(
        ScopedCorrectionRow.day_id == day_id, col(ScopedCorrectionRow.undone_at).is_(None)
    )
    return list(session.exec(query.order_by(col(ScopedCorrectionRow.id).desc())))


def of_act(session: Session, day_id: int, act: str) -> list[Undoable]:
    """Return the corrections and checks of a day that were made at once and still stand."""
    made: list[Undoable] = [one for one in scoped_corrections(session, day_id) if one.act == act]
    made += _of_act(session, CorrectionRow, day_id, act)
    made += _of_act(session, CheckRow, day_id, act)
    return made


def acts_standing(session: Session, day_id: int) -> set[str]:
    """Return the names of what was done at once on a day and stands, in part or whole."""
    names = {one.act for one in scoped_corrections(session, day_id)}
    for column, pairing, undone in (
        (CorrectionRow.act, CorrectionRow.pairing_id, CorrectionRow.undone_at),
        (CheckRow.act, CheckRow.pairing_id, CheckRow.undone_at),
    ):
        query = select(column).where(col(pairing).in_(_ever(day_id)), col(undone).is_(None), column != "")
        names |= set(session.exec(query.distinct()))
    return names - {""}


def _of_act(session: Session, table: type[S], day_id: int, act: str) -> list[S]:
    of_day = col(table.pairing_id).in_(_ever(day_id))
    return list(session.exec(select(table).where(table.act == act, of_day, col(table.undone_at).is_(None))))


def undo(session: Session, row: Undoable) -> None:
    """Mark a row undone; it stays for the history. The row given may be one that was read for reading only."""
    own = session.get(type(row), row.id)
    if own is not None:
        own.undone_at = datetime.now(UTC)
