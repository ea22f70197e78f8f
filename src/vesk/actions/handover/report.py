"""The lines of a turnover's report, and what is to be known of the package before anything else."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import Any

from sqlmodel import Session

from vesk.actions.facts import facts_of
from vesk.actions.pairing_status import SET_ASIDE
from vesk.actions.turnover import Item
from vesk.core.wording import counted, signed
from vesk.dailies.located import Located
from vesk.store import turnovers
from vesk.store.tables import Delivery, Turnover


def report_line(
    item: Item, path: str, place: Located | None, delivered: Sequence[Delivery], notes: Sequence[str] = ()
) -> dict[str, Any]:
    """Return the line of one picture file.

    Parameters
    ----------
    item : Item
    path : str
        Of the file, below the day's folder.
    place : Located or None
        None if it cannot be read.
    delivered : sequence of Delivery
        Its files, or the one that says why there is none.
    notes : sequence of str
        What was seen to be wrong while watching it.
    """
    facts = place.facts if place else facts_of(item.picture) if item.picture.facts else None
    scene, take = item.scene_take if facts else ("", "")
    active = [now for now in item.pairings if now.state != SET_ASIDE]
    made = next((one.written for one in delivered if one.written is not None), None)
    residual = (made.residual_s if made else None) or (None, None, None)
    names = [one.name for one in delivered if one.name]
    reasons = list(dict.fromkeys(one.reason for one in delivered if one.reason))
    remarks = list(dict.fromkeys(one.written.remark for one in delivered if one.written and one.written.remark))

    def each(values: list[str]) -> str:
        return " + ".join(values)

    return {
        "scene": scene,
        "take": take,
        "source": item.source,
        "picture": path,
        "start": facts.timecode if facts else "",
        "frames": facts.frames if facts else "",
        "fps": str(facts.fps) if facts else "",
        "sound": each([now.sound.path for now in active]),
        "delivered": "yes" if names else "no",
        "file": each(names),
        "reason": each(reasons) or (made.residual_reason if made else ""),
        "found": each([now.as_recorded.cause if now.as_recorded else "not measured" for now in active]),
        "cause": each([now.verdict.cause if now.verdict else "not measured" for now in active]),
        "slip_s": each([f"{float(now.as_corrected.slip):+.6f}" for now in active]),
        "slip_frames": each([f"{float(now.as_corrected.slip * now.fps):+.3f}" for now in active]),
        "rate_ppm": each([f"{float(now.as_corrected.ppm):+.3f}" for now in active]),
        "retimed": each([now.as_corrected.retimed for now in active]),
        "picture_rate": each(list(dict.fromkeys(_ratio(now.timed_as.fps) for now in active))),
        "placed_by": each([now.placed_by for now in active]),
        "samples": made.samples if made else "",
        "time_reference": made.time_reference if made else "",
        "residual_head_ms": _ms(residual[0]),
        "residual_middle_ms": _ms(residual[1]),
        "residual_tail_ms": _ms(residual[2]),
        "checked_by": each([now.check.made_by for now in active if now.check]),
        "remark": "; ".join([*remarks, *(f"noted: {said}" for said in notes)]),
    }


def package_says(session: Session, row: Turnover, lines: Sequence[dict[str, Any]]) -> str:
    """Return what is to be known of a package first: whether its figures hold; then what differs from the one before.

    Parameters
    ----------
    session : Session
    row : Turnover
        Of this package.
    lines : sequence of dict
        Of its report.
    """
    done = sum(line["delivered"] == "yes" for line in lines)
    held = turnovers.deliveries(session, row.id)
    off = [one for one in held if one.written is not None and one.written.residual_s and not one.written.holds]
    laid = [one for one in held if one.written is not None and one.written.tolerance_s is not None]
    silent = {one.picture_id for one in laid if one.written is not None and one.written.residual_s is None}
    takes = f"{done} of {len(lines)} picture files are in it"
    if off:
        names = ", ".join(sorted({one.name for one in off})[:4])
        first = f"IT DOES NOT HOLD: {names} measured again out of tolerance; {takes}"
    elif not laid:
        files = counted(sum(bool(one.name) for one in held), "file")
        first = f"Nothing of it was laid on a picture, so nothing was measured again; {files}, each whole"
    elif silent:
        first = f"What sound can tell holds, measured again; {len(silent)} could not be measured by sound; {takes}"
    else:
        first = f"Every file holds, measured again; {takes}"
    return " · ".join(part for part in (first, _since(session, row, held)) if part)


def _since(session: Session, row: Turnover, held: Sequence[Delivery]) -> str:
    """Return what differs from the last turnover that was done before this one; empty without one."""
    done = [one for one in turnovers.done(session, row.day_id) if one.id < row.id]
    if not done:
        return ""
    old: dict[tuple[int, str, int], str] = {}
    for one in reversed(done):  # of each file, the last that went out
        old |= _of(turnovers.deliveries(session, one.id))
    new, last = _of(held), _of(turnovers.deliveries(session, done[0].id))
    fresh, gone = len(new.keys() - old.keys()), len(last.keys() - new.keys())
    other = sum(new[key] != old[key] for key in new.keys() & old.keys())
    same = len(new.keys() & old.keys()) - other
    return f"since the turnovers before: {fresh} new, {other} changed, {same} as they were, {gone} not in it any more"


def _of(held: Sequence[Delivery]) -> dict[tuple[int, str, int], str]:
    return {(one.picture_id, one.product, one.part): one.written.content for one in held if one.name and one.written}


def _ratio(rate: Fraction) -> str:
    return f"{rate.numerator}/{rate.denominator}"


def _ms(seconds: float | None) -> str:
    return "" if seconds is None else signed(seconds * 1000, 3).replace("\N{MINUS SIGN}", "-")
