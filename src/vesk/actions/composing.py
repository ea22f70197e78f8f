"""Which corrections lay a pairing: its own, else the sum of its device's, its stretch's and its run's."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from fractions import Fraction

from vesk.core.conform.correction import Correction
from vesk.core.conform.device import DeviceCorrection, summed
from vesk.core.kinds import Scope
from vesk.core.timecode import wrap_day
from vesk.store.tables import CheckRow, CorrectionRow, Pairing, Recording, ScopedCorrectionRow

Parts = tuple[ScopedCorrectionRow, ...]


def own_of(own: CorrectionRow | None, parts: Parts, check: CheckRow | None) -> CorrectionRow | None:
    """Return a take's own correction where it stands: not under one for several takes that a person set above it."""
    if own is None or (check is not None and check.correction_id == own.id):
        return own
    return None if any(one.over and one.made_at > own.made_at for one in parts) else own


def parts_for(
    standing: Sequence[ScopedCorrectionRow],
    picture: Recording,
    sound: Recording,
    own: CorrectionRow | None,
    check: CheckRow | None,
    length: Fraction,
) -> Parts:
    """Return the corrections for several takes that hold for a pairing, in the order in which they add up.

    Of one scope the newest counts. What was checked stays as it lay then, for as long as that stands.
    """
    if not standing:
        return ()
    if own is None and check is not None and check.correction_id is None:
        checked = [one for one in standing if one.id in check.scoped]
        if len(checked) == len(check.scoped):
            return in_order(checked)
    newest: dict[Scope, ScopedCorrectionRow] = {}
    for one in standing:  # the newest first
        if one.scope not in newest and is_of(one, picture, sound, length):
            newest[one.scope] = one
    return in_order(newest.values())


def in_order(rows: Iterable[ScopedCorrectionRow]) -> Parts:
    """Return corrections in the order in which they add up: device, stretch, run."""
    order = list(Scope)
    return tuple(sorted(rows, key=lambda one: order.index(one.scope)))


def is_of(one: ScopedCorrectionRow, picture: Recording, sound: Recording, length: Fraction) -> bool:
    """Say whether a pairing of two recordings lies in the scope of a correction."""
    if one.scope == Scope.RUN:
        return one.recording_id in {picture.id, sound.id}
    if (one.picture_source_id, one.sound_source_id) != (picture.source_id, sound.source_id):
        return False
    if picture.start is None or sound.start is None:
        return False
    after = one.since is None or wrap_day(picture.start - one.since, length) >= 0
    return after and (one.before is None or wrap_day(picture.start - one.before, length) < 0)


def by_part(one: ScopedCorrectionRow, row: Pairing, picture: Recording, length: Fraction) -> Correction:
    """Return what one correction for several takes does to one pairing."""
    found = DeviceCorrection(one.slip, one.drift, one.ppm, one.anchor, one.retimed)
    made = found.on_take(row.offset, picture.start or Fraction(0), length)
    return replace(made, jumps=_jumps(one.jumps)) if one.jumps else made


def by_parts(parts: Parts, row: Pairing, picture: Recording, length: Fraction) -> Correction:
    """Return what several do to one pairing together; of none, nothing."""
    if not parts:
        return Correction()
    return summed(row.offset, [by_part(one, row, picture, length) for one in parts])


def as_corrected(row: CorrectionRow) -> Correction:
    """Return what a take's own correction does."""
    return Correction(row.slip, row.ppm, row.anchor, _jumps(row.jumps), row.retimed)


def _jumps(kept: Sequence[Sequence[str]]) -> tuple[tuple[Fraction, Fraction], ...]:
    return tuple((Fraction(at), Fraction(step)) for at, step in kept)
