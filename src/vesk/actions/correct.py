"""Correct, check and set aside pairings; undo. No file is ever touched."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction

from sqlmodel import Session

from vesk.actions import pairing_status
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.core.conform.correction import Correction
from vesk.core.errors import RefusedError
from vesk.core.kinds import Kind, Origin
from vesk.core.timemap import exact_seconds
from vesk.core.wording import signed
from vesk.settings import Settings
from vesk.store import changes, days, journal, pairings
from vesk.store.tables import CheckRow, CorrectionRow, Pairing

MAX_PPM = 2000
MAX_SLIP_S = 24 * 3600
MAX_REASON = 300


def _name(now: PairingStatus) -> str:
    return f"{now.picture.name} with {now.sound.name}"


def _held(
    session: Session, pairing_id: int, version: int, now: PairingStatus | None = None
) -> tuple[Pairing, PairingStatus]:
    """Return a pairing held for change, and how it stands; its rows there are for reading.

    Who does the same to many says how each stands `now`, reckoned once for all.
    """
    pairing = pairings.get_for_change(session, pairing_id, version)
    if now is not None and now.pairing.version == version:
        return pairing, now
    return pairing, Overview(session, days.get_day(session, pairing.day_id)).status_of(pairing_id)


def _add(
    session: Session,
    settings: Settings,
    pairing: Pairing,
    now: PairingStatus,
    correction: Correction,
    origin: Origin,
    act: str = "",
) -> None:
    session.add(
        CorrectionRow(
            pairing_id=now.pairing.id, slip=correction.slip, ppm=correction.ppm, anchor=correction.anchor,
            jumps=[[str(at), str(step)] for at, step in correction.jumps], retimed=correction.retimed,
            origin=origin, act=act, made_by=settings.person,
        )
    )  # fmt: skip
    changes.count(session, pairing)
    if act:
        return  # who does several things at once writes one line
    frames = signed(float(correction.slip * now.fps), 3)
    rate = f" and a rate of {signed(float(correction.ppm), 2)} ppm" if correction.ppm else ""
    what = f"{_name(now)}: slip of {frames} f ({signed(float(correction.slip) * 1000, 2)} ms){rate}"
    for at, step in correction.jumps:
        what += f", a jump of {signed(float(step) * 1000, 2)} ms mended at {float(at):.2f} s of the sound"
    what += ", the sound is the truth: the picture is retimed" if correction.retimed == Kind.PICTURE else ""
    what += ", as proposed" if origin == Origin.PROPOSAL else ""
    journal.note(session, day_id=pairing.day_id, by=settings.person, what=what, pairing_id=pairing.id)


def _refuse_disagreeing(now: PairingStatus) -> None:
    """Refuse what needs a person's own look.

    Raises
    ------
    RefusedError
        If its evidence disagrees.
    """
    if now.contradiction is not None and now.verdict is not None:
        raise RefusedError(
            f"{_name(now)}: {now.verdict.brief}: its evidence disagrees, so it is not done together with others. "
            "Answer it above the list, or decide it on the bench."
        )


def take_proposal(
    session: Session,
    settings: Settings,
    pairing_id: int,
    *,
    version: int,
    together: bool = False,
    act: str = "",
    now: PairingStatus | None = None,
) -> None:
    """Take the proposed correction; where several are taken `together`, not of one whose evidence disagrees.

    What is done with others at once has the name of that `act`, and says how each stood before it.
    """
    pairing, now = _held(session, pairing_id, version, now)
    if together:
        _refuse_disagreeing(now)
    proposal = now.proposal
    if proposal is None:
        raise RefusedError("Nothing is proposed: no common sound was found. Slip by hand, or choose another partner.")
    _add(session, settings, pairing, now, proposal, Origin.PROPOSAL, act)


def set_own(
    session: Session,
    settings: Settings,
    pairing_id: int,
    *,
    version: int,
    slip: Fraction | Callable[[PairingStatus], Fraction],
    ppm: Fraction | None = None,
    retimed: Kind | None = None,
    origin: Origin = Origin.OWN,
    together: bool = False,
    act: str = "",
    now: PairingStatus | None = None,
) -> None:
    """Set one's own slip (seconds from where timecode lays it), rate, and whose rate gives way; None keeps these.

    A slip that follows from how the pairing stands is a function of that.
    """
    pairing, now = _held(session, pairing_id, version, now)
    if together:
        _refuse_disagreeing(now)
    before = now.as_corrected
    slip = slip if isinstance(slip, Fraction) else slip(now)
    rate = before.ppm if ppm is None else ppm
    in_bounds(slip, rate)
    anchor = before.anchor
    if not now.is_corrected:
        # The rate turns about the head of what the two share.
        head = exact_seconds(now.points[0])
        anchor = head - now.pairing.offset
    made = Correction(slip, rate, anchor, before.jumps, retimed or before.retimed)
    _add(session, settings, pairing, now, made, origin, act)


def mend_steps(session: Session, settings: Settings, pairing_id: int, *, version: int) -> None:
    """Mend the steps in pauses that may have been somebody who moved: a person listened, and says they are jumps.

    Raises
    ------
    RefusedError
        If it has no such step.
    """
    pairing, now = _held(session, pairing_id, version)
    made = now.judged.as_jump
    if made is None:
        raise RefusedError("There is no step to mend here: nothing in it may be a jump that is not told as one.")
    _add(session, settings, pairing, now, made, Origin.OWN)


def in_bounds(slip: Fraction, ppm: Fraction) -> None:
    """Refuse a slip (seconds) or a rate that no recording can want.

    Raises
    ------
    RefusedError
        If one is beyond a day, or beyond what clocks and labels do.
    """
    if abs(ppm) > MAX_PPM:
        raise RefusedError(f"A rate lies within ±{MAX_PPM} ppm.")
    if abs(slip) > MAX_SLIP_S:
        raise RefusedError("A slip is shorter than a day.")


def undo(session: Session, settings: Settings, pairing_id: int, *, version: int) -> str:
    """Undo the last thing done to a pairing: its check, else its newest correction, else that it was set aside."""
    pairing, now = _held(session, pairing_id, version)
    if now.is_displaced and now.rivalry is not None and pairing.state != pairings.SET_ASIDE:
        raise RefusedError(f"Nobody set it aside: {now.rivalry.settled}. Say so if this is the one.")
    if now.state == pairing_status.SET_ASIDE:
        pairing.state, pairing.reason = (pairings.MEASURED if pairing.measured_as else pairings.PROPOSED), ""
        what = "brought back"
    elif now.state == pairing_status.CHECKED and now.check is not None:
        pairings.undo(session, now.check)
        what = "check undone"
    elif now.correction is not None:
        pairings.undo(session, now.correction)
        what = "correction undone"
    elif now.scoped:
        raise RefusedError(
            "It lies by a correction for several takes: undo that on the Day page, or "
            "set a slip of its own here, which stands above it."
        )
    else:
        raise RefusedError("There is nothing to undo here.")
    changes.count(session, pairing)
    journal.note(
        session,
        day_id=pairing.day_id,
        by=settings.person,
        what=f"{_name(now)}: {what}",
        pairing_id=pairing_id,
    )
    return what


def check(
    session: Session,
    settings: Settings,
    pairing_id: int,
    *,
    version: int,
    together: bool = False,
    act: str = "",
    now: PairingStatus | None = None,
) -> None:
    """Mark as checked: a person states that head, middle and tail hold; of several `together`, none that disagrees."""
    pairing, now = _held(session, pairing_id, version, now)
    if together:
        _refuse_disagreeing(now)
    if now.state == pairing_status.SET_ASIDE:
        raise RefusedError("It is set aside. Bring it back first.")
    if now.state == pairing_status.CHECKED:
        raise RefusedError("It is checked already.")
    correction = now.correction.id if now.correction else None
    of = pairings.contents(now.picture, now.sound)
    session.add(
        CheckRow(
            pairing_id=pairing_id, correction_id=correction, of=of, made_by=settings.person, act=act,
            scoped=[one.id for one in now.scoped],
        )
    )  # fmt: skip
    changes.count(session, pairing)
    if act:
        return
    errors = now.errors
    left = (
        "not measured"
        if errors is None
        else "left at head, middle, tail: " + ", ".join(f"{signed(e * float(now.fps), 2)} f" for e in errors.all)
    )
    journal.note(
        session,
        day_id=pairing.day_id,
        by=settings.person,
        what=f"{_name(now)}: checked ({left})",
        pairing_id=pairing_id,
    )


def set_aside(session: Session, settings: Settings, pairing_id: int, *, version: int, reason: str) -> None:
    """Set a pairing aside, with the reason."""
    if not reason.strip():
        raise RefusedError("Say why it is set aside; the report will carry it.")
    if len(reason) > MAX_REASON:
        raise RefusedError(f"A reason has {MAX_REASON} characters at most.")
    pairing, now = _held(session, pairing_id, version)
    pairing.state, pairing.reason = pairings.SET_ASIDE, reason.strip()
    changes.count(session, pairing)
    journal.note(
        session,
        day_id=pairing.day_id,
        by=settings.person,
        what=f"{_name(now)}: set aside ({reason.strip()})",
        pairing_id=pairing_id,
    )
