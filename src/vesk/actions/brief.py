"""How a day stands, in short: what is left to answer, and a few words. Reckoned once, kept until something is done."""

from __future__ import annotations

from dataclasses import dataclass

from sqlmodel import Session

from vesk.actions.deciding import decisions
from vesk.actions.overview import Overview
from vesk.core.kinds import PICTURE
from vesk.store import briefs, days


@dataclass(frozen=True, slots=True)
class Brief:
    """How a day stands.

    Attributes
    ----------
    answers : int
        Questions left to a person.
    says : str
    is_fresh : bool
        Whether nothing was done to the day since.
    is_open : bool
        Whether work goes on there.
    """

    answers: int
    says: str
    is_fresh: bool
    is_open: bool


def of_days(session: Session) -> dict[int, Brief]:
    """Return what is known in short of every day, at once; of one never reckoned, nothing fresh."""
    kept = briefs.every(session)
    made = {}
    for number, now in briefs.marks(session).items():
        row = kept.get(number)
        fresh = row is not None and row.mark == now.mark
        made[number] = Brief(row.answers if row else 0, row.says if row else "", fresh, now.is_open)
    return made


def reckon(session: Session, day_id: int) -> Brief:
    """Reckon how a day stands, and keep it."""
    now = briefs.marks(session)[day_id]  # before anything is read: what is done meanwhile makes it stale
    view = Overview(session, days.get_day(session, day_id))
    made = Brief(len(decisions(view)), _stands(view), is_fresh=True, is_open=now.is_open)
    briefs.keep(session, day_id, mark=now.mark, answers=made.answers, says=made.says)
    return made


def _stands(view: Overview) -> str:
    """Say in a few words how a day stands."""
    takes = {row.id for row in view.recordings if row.kind == PICTURE and row.state == "ready" and not row.aside}
    paired = {now.picture.id for now in view.statuses} & takes
    needing = {now.picture.id for now in view.statuses if now.needs_person} & takes
    parts = [
        f"{len(takes)} camera {'take' if len(takes) == 1 else 'takes'}",
        f"{len(paired - needing)} hold{'s' if len(paired - needing) == 1 else ''}",
    ]
    parts += [f"{len(needing)} need{'s' if len(needing) == 1 else ''} you"] if needing else []
    parts += [f"{len(takes - paired)} without sound"] if takes - paired else []
    return ", ".join(parts)
