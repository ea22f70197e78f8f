"""The turnover of a day: what can be made and what stands in the way; asking for it (`package` makes it)."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path

from sqlmodel import Session

from vesk.actions import gathering
from vesk.actions.intake import told_slate
from vesk.actions.pairing_status import CHECKED, SET_ASIDE, PairingStatus
from vesk.core.errors import RefusedError, StaleError
from vesk.core.handover.recipe import OF_TAKE, Recipe, Which
from vesk.core.kinds import PICTURE, WorkState
from vesk.core.timecode import unwrapped
from vesk.dailies.searching import why_alone
from vesk.media.probe import MOVIE_ENDINGS
from vesk.settings import Settings
from vesk.store import changes, days, journal, recordings, turnovers, watched
from vesk.store.tables import Day, Recording, Source, Turnover


@dataclass(frozen=True, slots=True)
class Item:
    """One camera take before a turnover: its pairings, and what stands in the way (empty when ready)."""

    picture: Recording
    source: str
    pairings: tuple[PairingStatus, ...]
    obstacle: str
    kept: tuple[int, int] | None = None  # which of its frames go out, the second not any more; None: all

    @property
    def circled(self) -> bool:
        """Whether any of its recordings is circled."""
        return any(row.told is not None and row.told.circled for row in self._telling)

    @property
    def rests_on(self) -> str:
        """All that its files follow from, so that it can be told whether they still do."""
        kept = [] if self.kept is None else [["frames", *self.kept]]
        return json.dumps(kept + [
            [now.pairing.id, now.correction.id if now.correction else None, [one.id for one in now.scoped],
             now.check.id if now.check else None, str(now.pairing.offset), now.late_s, now.pairing.channels,
             now.picture.content, now.sound.content, *self.scene_take]
            for now in self.pairings if now.state == CHECKED
        ])  # fmt: skip

    @property
    def scene_take(self) -> tuple[str, str]:
        """Scene and take: the recorder's, else the camera's."""
        return told_slate(self._telling)

    @property
    def _telling(self) -> list[Recording]:
        return [*(p.sound for p in self.pairings if not p.aside), self.picture]


def items(session: Session, day: Day, recipe: Recipe | None = None) -> list[Item]:
    """Return every camera take of a day with what stands in its way, also that a recipe does not ask for it."""
    rows, sources = recordings.of_day(session, day.id), days.sources(session, day.id)
    listed = items_of(day, gathering.of_day(session, day), rows, sources)
    return listed if recipe is None else asked_for(session, day, recipe, listed)


def asked_for(session: Session, day: Day, recipe: Recipe, listed: list[Item]) -> list[Item]:
    """Return takes with, as an obstacle, that a recipe does not ask for them.

    Parameters
    ----------
    session, day
    recipe : Recipe
    listed : list of Item
    """
    ranges = watched.ranges_of_day(session, day.id) if recipe.ranges else {}
    listed = [
        replace(one, kept=(kept.first, kept.last)) if (kept := ranges.get(one.picture.id)) else one for one in listed
    ]
    if recipe.which == Which.CIRCLED:
        return [
            one
            if one.obstacle or one.circled
            else replace(one, obstacle="not circled: this turnover has circled takes")
            for one in listed
        ]
    if recipe.which != Which.CHANGED:
        return listed
    known: dict[int, tuple[str, str]] = {}
    for before in reversed(turnovers.done(session, day.id)):  # of each take, the last that went out
        said = f"unchanged since the turnover of {before.made_at:%Y-%m-%d %H:%M}"
        held = turnovers.deliveries(session, before.id)
        of_takes = [one for one in held if one.product in OF_TAKE]
        known |= {one.picture_id: (one.written.of_take, said) for one in of_takes if one.written}
    return [_unless_unchanged(one, *known.get(_first_file(session, one.picture), ("", ""))) for one in listed]


def _first_file(session: Session, picture: Recording) -> int:
    """Return the number of a take's first picture file: what was handed over is kept by it."""
    while picture.merged and picture.members:
        picture = recordings.get(session, picture.members[0])
    return picture.id


def _unless_unchanged(item: Item, of_take: str, said: str) -> Item:
    return replace(item, obstacle=said) if not item.obstacle and said and of_take == item.rests_on else item


def items_of(day: Day, statuses: list[PairingStatus], rows: list[Recording], sources: list[Source]) -> list[Item]:
    """Return the same of what was read of a day."""
    by_picture: dict[int, list[PairingStatus]] = {}
    for now in statuses:
        by_picture.setdefault(now.pairing.picture_id, []).append(now)
    tags: dict[int | None, str] = {source.id: source.tag for source in sources}
    made = []
    for row in rows:
        # A movie that could never be read is a take all the same: the report must not lose it.
        unread = not row.kind and Path(row.name).suffix.lower() in MOVIE_ENDINGS
        if row.kind == PICTURE or unread:
            own = tuple(by_picture.get(row.id, ()))
            made.append(Item(row, tags.get(row.source_id, ""), own, _obstacle(row, own)))
    line = unwrapped((item.picture.start for item in made if item.picture.start is not None), days.rate_of(day).day)

    def order(item: Item) -> tuple[bool, Fraction, str]:
        start = item.picture.start
        return start is None, line(start or Fraction(0)), item.picture.path

    return sorted(made, key=order)


def _obstacle(picture: Recording, own: tuple[PairingStatus, ...]) -> str:
    if picture.state != "ready":
        return picture.problem
    if not own:
        alone = why_alone(picture.unpaired, picture.searched)
        word, why = ("set aside", picture.aside) if picture.aside else ("unpaired", alone)
        return f"{word}: {why}" if why else word
    active = [now for now in own if now.state != SET_ASIDE]
    if not active:
        return f"set aside: {own[0].aside}"
    for now in active:
        if now.sound.state != "ready":
            return now.sound.problem
    waiting = [now for now in active if now.state != CHECKED]
    if waiting:
        return f"not checked yet: {', '.join(now.sound.name for now in waiting)} ({waiting[0].state})"
    return ""


def plan(
    session: Session, settings: Settings, day: Day, recipe: Recipe | None = None, *, named: str = "", root: str = ""
) -> Turnover:
    """Open a turnover for the day, by a recipe; the worker makes it.

    `root` is the folder that it goes into, one of those allowed; Vesk's own where none is named.

    Raises
    ------
    StaleError
        If one is being made.
    """
    changes.hold(session, day.id)
    if any(row.state in {"waiting", "running"} for row in turnovers.of_day(session, day.id)):
        raise StaleError("A turnover of this day is being made already.")
    stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S-%f")[:-3]
    folder = _allowed_root(settings, root) / f"day-{day.number}-{day.id}" / stamp
    row = Turnover(day_id=day.id, folder=str(folder), made_by=settings.person, recipe=recipe, named=named)
    session.add(row)
    session.flush()
    journal.note(session, day_id=day.id, by=settings.person, what=f"asked for a turnover into {folder}")
    return row


def _allowed_root(settings: Settings, root: str) -> Path:
    """Return where packages go.

    Raises
    ------
    RefusedError
        If it is none of the folders that packages may go to, or is not there.
    """
    if not root:
        return settings.turnovers
    found = next((one for one in settings.output_roots if str(one) == root), None)
    if found is None:
        raise RefusedError(f"{root} is none of the folders that packages may go to. Choose one of the list.")
    if found != settings.turnovers and not found.is_dir():
        raise RefusedError(f"{root} is not there: connect the disk, or choose another folder.")
    return found


def go_on(session: Session, settings: Settings, turnover_id: int) -> Turnover:
    """Go on with a turnover that was stopped or failed: what was made and still holds is kept.

    Raises
    ------
    StaleError
        If it is being made, or done.
    """
    row = turnovers.get(session, turnover_id)
    changes.hold(session, row.day_id)
    if row.state not in {"stopped", "failed"}:
        raise StaleError(f"That turnover is {'done' if row.state == 'done' else 'being made'} already.")
    row.state, row.problem = WorkState.WAITING, ""
    session.add(row)
    journal.note(session, day_id=row.day_id, by=settings.person, what=f"goes on with the turnover into {row.folder}")
    return row
