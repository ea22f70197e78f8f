"""Which correction lays a pairing: its own, else its device's; and what that does to it."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from vesk.core.conform.correction import Correction
from vesk.core.conform.device import DeviceCorrection
from vesk.core.timecode import wrap_day
from vesk.store.tables import CheckRow, CorrectionRow, DeviceCorrectionRow, Pairing, Recording


def standing_for(
    standing: Sequence[DeviceCorrectionRow],
    picture: Recording,
    sound: Recording,
    own: CorrectionRow | None,
    check: CheckRow | None,
    length: Fraction,
) -> DeviceCorrectionRow | None:
    """Return the device's correction that lays a pairing: none under its own, nor one made after it was checked."""
    if own is not None or not standing:
        return None
    if check is not None and check.correction_id is None:
        if check.device_correction_id is None:
            return None
        checked = next((one for one in standing if one.id == check.device_correction_id), None)
        if checked is not None:
            return checked
    return next((one for one in standing if is_of(one, picture, sound, length)), None)


def is_of(one: DeviceCorrectionRow, picture: Recording, sound: Recording, length: Fraction) -> bool:
    """Say whether a pairing of two recordings lies in the scope of a device's correction."""
    if (one.picture_source_id, one.sound_source_id) != (picture.source_id, sound.source_id):
        return False
    if picture.start is None or sound.start is None:
        return False
    after = one.since is None or wrap_day(picture.start - one.since, length) >= 0
    return after and (one.before is None or wrap_day(picture.start - one.before, length) < 0)


def by_device(one: DeviceCorrectionRow, row: Pairing, picture: Recording, length: Fraction) -> Correction:
    """Return what a device's correction does to one pairing."""
    found = DeviceCorrection(one.slip, one.drift, one.ppm, one.anchor)
    return found.on_take(row.offset, picture.start or Fraction(0), length)


def as_corrected(row: CorrectionRow | None) -> Correction:
    """Return what a take's own correction does; without one, nothing."""
    if row is None:
        return Correction()
    jumps = tuple((Fraction(at), Fraction(step)) for at, step in row.jumps)
    return Correction(row.slip, row.ppm, row.anchor, jumps)
