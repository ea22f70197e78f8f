"""What was measured of pairings, read where not remembered, and what follows: what each claims and tells the day."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlmodel import Session

from vesk.actions import solving
from vesk.actions.remembered import Remembered
from vesk.core.day.day import Match
from vesk.core.kinds import MATCHED, REFUSED
from vesk.core.pairing.rivals import Claim
from vesk.core.sound.measurement import Measurement
from vesk.store import pairings
from vesk.store.tables import Pairing, Recording

_FOUND: Remembered[str, Measurement] = Remembered(4000)


def forget_measured() -> None:
    """Let go of what was read: it is read anew when asked for."""
    _FOUND.forget()


def is_measured(row: Pairing, picture: Recording, sound: Recording) -> bool:
    """Say whether a pairing was measured on its recordings as they are now."""
    return row.measured_as is not None and row.measured_of in {"", pairings.contents(picture, sound)}


@dataclass(frozen=True, slots=True)
class Measured:
    """What was measured of a pairing, with its name, what it claims and what it tells the day; by its row."""

    row: Pairing
    found: tuple[str, Measurement] | None
    claim: Claim | None
    by_label: Claim | None  # where nothing common was heard, and labels alone lay it
    match: Match | None


def all_measured(
    session: Session, rows: Sequence[Pairing], members: Mapping[int, Recording], kept: dict[int, Measured]
) -> dict[int, Measured]:
    """Return what was measured of pairings and what follows, reckoned for those whose row is another than before."""
    news = [row for row in rows if row.id not in kept or kept[row.id].row is not row]
    found = _read(session, news, members)
    claims = {int(claim.key): claim for claim in _claims(news, members, found)}
    for row in news:
        own = found.get(row.id)
        aside = members[row.picture_id].aside or members[row.sound_id].aside
        match = None if own is None or aside else solving.match(row, own[1])
        before = kept[row.id].match if row.id in kept else None
        match = before if before == match else match  # the same object: what rests on it is known by that
        kept[row.id] = Measured(row, own, claims.get(row.id), _by_label(row, members, own), match)
    return {row.id: kept[row.id] for row in rows}


def _by_label(row: Pairing, members: Mapping[int, Recording], found: tuple[str, Measurement] | None) -> Claim | None:
    picture, sound = members[row.picture_id], members[row.sound_id]
    if row.state == pairings.SET_ASIDE or found is None or found[1].decision != REFUSED or found[1].unheard:
        return None
    offset = float(row.offset)
    return Claim(
        str(row.id), str(picture.id), str(sound.id), str(picture.source_id), str(sound.source_id),
        max(0.0, offset), min(float(picture.duration), offset + float(sound.duration)), offset, 0.0,
        picture.start, sound.start,
    )  # fmt: skip


def _read(
    session: Session, rows: Sequence[Pairing], members: Mapping[int, Recording]
) -> dict[int, tuple[str, Measurement]]:
    """Return what was measured of pairings, those that stand, with its name; read where not remembered by it."""
    names = {
        row.id: row.measured_as
        for row in rows
        if row.measured_as is not None and is_measured(row, members[row.picture_id], members[row.sound_id])
    }
    found = {number: (name, _FOUND.find(name)) for number, name in names.items()}
    unread = pairings.measurements(session, {number for number, (_, own) in found.items() if own is None})
    for number, (name, own) in unread.items():  # the name it has now: it may have been measured again just then
        _FOUND.keep(name, own)
        found[number] = (name, own)
    return {number: (name, own) for number, (name, own) in found.items() if own is not None}


def _claims(
    rows: Sequence[Pairing], members: Mapping[int, Recording], measured: Mapping[int, tuple[str, Measurement]]
) -> list[Claim]:
    claims = []
    for row in rows:
        _, found = measured.get(row.id, ("", None))
        if row.state == pairings.SET_ASIDE or found is None or found.line is None or found.decision == REFUSED:
            continue
        picture, sound = members[row.picture_id], members[row.sound_id]
        if picture.aside or sound.aside:
            continue
        claims.append(
            Claim(
                str(row.id), str(picture.id), str(sound.id), str(picture.source_id), str(sound.source_id),
                found.head_s, found.tail_s, found.line.offset_s, -found.log10_false_alarm, picture.start, sound.start,
                is_open=found.decision != MATCHED,
            )
        )  # fmt: skip
    return claims
