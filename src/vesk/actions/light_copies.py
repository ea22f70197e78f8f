"""Light copies of a day's pictures: which are wanted first, and making one."""

from __future__ import annotations

from sqlmodel import Session

from vesk.actions.facts import facts_of
from vesk.actions.locating import located
from vesk.actions.measuring import learn_contents, lies_as_taken_in
from vesk.actions.overview import Overview
from vesk.core.kinds import PICTURE
from vesk.core.progress import WHOLE, OnProgress, part_of, unwatched
from vesk.dailies.located import make_light
from vesk.media import cache
from vesk.media.guarded import watched
from vesk.media.movie import UNKNOWN
from vesk.settings import Settings
from vesk.store import changes, days, recordings
from vesk.store.tables import Day, Recording

_READ = 5  # hundredths of a job: reading a file whole, where nobody did yet
_LEAST_WAIT_S, _SLOWEST = 300.0, 8.0  # seconds, and seconds a second of picture: large ones are slow to decode


def can_be_made(row: Recording) -> bool:
    """Say whether a recording has a picture that can be shown."""
    return (
        row.kind == PICTURE and row.state == recordings.READY and row.facts is not None
        and row.facts.codec != UNKNOWN and bool(row.facts.frames)
    )  # fmt: skip


def is_made(settings: Settings, row: Recording) -> bool:
    """Say whether a recording's light copy is there."""
    return cache.entry_of(settings.cache, row.content).light_index.exists()


def wanted(session: Session, settings: Settings, day: Day) -> list[Recording]:
    """Return the pictures whose light copy is still to be made: first those of takes that need a person."""
    view = Overview(session, day)
    first: dict[int, int] = {}
    for now in view.statuses:
        first[now.picture.id] = min(first.get(now.picture.id, 1), 0 if now.needs_person else 1)
    rows = [row for row in view.recordings if can_be_made(row) and not is_made(settings, row)]
    return sorted(rows, key=lambda row: first.get(row.id, 2))


def make(session: Session, settings: Settings, recording_id: int, on_progress: OnProgress = unwatched) -> None:
    """Make a recording's light copy behind the border, if there is none.

    Raises
    ------
    MediaError
        If its file cannot be read, or is another than was taken in.
    StorageError
        If Vesk's own folder cannot be written.
    """
    row = recordings.get(session, recording_id)
    if not can_be_made(row):
        return
    learn_contents(session, settings, [recording_id], part_of(on_progress, 0, _READ))
    row = recordings.get(session, recording_id)
    place = located(session, settings, days.get_day(session, row.day_id), row)
    if not place.members:
        lies_as_taken_in(place, row)
    changes.rest(session)
    if not place.entry.light_index.exists():
        wait = _LEAST_WAIT_S + float(facts_of(row).duration) * _SLOWEST
        watched(place.path, wait, part_of(on_progress, _READ, WHOLE), make_light, place)
    cache.touch(place.entry)
