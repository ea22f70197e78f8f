"""Which device every recording of a day is of, as intake proposes it."""

from __future__ import annotations

from collections.abc import Sequence

from sqlmodel import Session

from vesk.actions import returning
from vesk.actions.facts import facts_of
from vesk.core.intake.devices import DeviceHints, Proposed
from vesk.core.intake.naming import DEFAULT_PATTERNS
from vesk.core.kinds import Kind
from vesk.dailies.sources import folders_of, hints_of, own_sounds_of, propose_sources, source_name
from vesk.store import changes, days, recordings
from vesk.store.tables import Day, Recording


def assign_sources(session: Session, day: Day, *, together: bool = True) -> None:
    """Give every recording without a source one: that of its device, made if it is new.

    Sound that lies beside its picture is of the camera, if they go `together`.
    """
    day_id = day.id
    patterns = tuple(day.patterns) or DEFAULT_PATTERNS
    rows = [row for row in recordings.files_of_day(session, day_id) if row.facts]
    present = sorted(days.sources(session, day_id), key=lambda source: source.id)
    folders = folders_of([(row.path, facts_of(row)) for row in rows])
    own: dict[tuple[int | None, Kind | None], list[DeviceHints]] = {}
    for row in rows:
        hints = hints_of(row.path, facts_of(row), patterns, folders[row.path])
        own.setdefault((row.source_id, row.kind), []).append(hints)
    # Sound that lies beside its picture tells nothing of the camera.
    known = [Proposed(one.folder, one.kind, own.get((one.id, one.kind), []), one.tag) for one in present]
    fresh = [row for row in rows if row.source_id is None and row.state == "ready"]
    if together:
        fresh = _with_their_picture(rows, fresh)
    given, proposed = propose_sources(
        [(row.path, facts_of(row)) for row in fresh], patterns, known, together=together, folders=folders
    )
    new = proposed[len(present) :]
    known_elsewhere = returning.known_devices(session, day) if new else []
    for number, one in enumerate(new, len(present)):
        mine = [row for row, index in zip(fresh, given, strict=True) if index == number]
        theirs = [hints_of(row.path, facts_of(row), patterns) for row in mine]
        before = returning.known_source(known_elsewhere, one.kind, one.tag, theirs)
        taken = {source.tag for source in present} | {other.tag for other in proposed if other is not one}
        tag, name = one.tag, source_name(one.folder, one.kind)
        if before is not None and before.tag not in taken:
            tag, name = before.tag, before.name
        made = days.make_source(session, day_id, tag=tag, name=name, kind=one.kind, folder=one.folder)
        present.append(made)
    for row, index in zip(fresh, given, strict=True):
        row.source_id = present[index].id


def _with_their_picture(rows: Sequence[Recording], fresh: Sequence[Recording]) -> list[Recording]:
    """Give sound files whose picture was here before its device; returns the rest."""
    by_path = {row.path: row for row in rows if row.member_of is None}  # what is taken together has its sound
    for picture, own in own_sounds_of([(path, facts_of(row)) for path, row in by_path.items()]).items():
        for path in own:
            if by_path[path].source_id is None:
                by_path[path].source_id = by_path[picture].source_id
    return [row for row in fresh if row.source_id is None]


def part_devices(session: Session, day: Day) -> None:
    """Give sound that stands by itself, but was filed under a camera for its picture's sake, a device of its own."""
    kinds = {source.id: source.kind for source in days.sources(session, day.id)}
    rows = [row for row in recordings.ready_of_day(session, day.id) if row.source_id in kinds and not row.merged]
    astray = [row for row in rows if row.kind != kinds.get(row.source_id or 0)]
    if astray:
        changes.hold(session, day.id)
        for row in astray:
            row.source_id = None
        session.flush()
        assign_sources(session, day, together=False)


def drop_empty(session: Session, day: Day) -> None:
    """Let go the sources that no recording is of; the rows stay, since reports and clock stretches name them."""
    every = [*recordings.files_of_day(session, day.id), *recordings.merged_of_day(session, day.id)]
    used = {row.source_id for row in every if row.state != recordings.APART}
    for source in days.sources(session, day.id):
        if source.id not in used:
            source.gone = True
            changes.count(session, source)
    session.flush()
