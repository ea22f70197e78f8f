"""Where a recording of the database lies: on disk and in the cache, with the files it is made of."""

from __future__ import annotations

from sqlmodel import Session

from vesk.actions.facts import facts_of
from vesk.dailies.located import Located
from vesk.media import cache, scan
from vesk.settings import Settings
from vesk.store import recordings
from vesk.store.tables import Day, Recording


def located(session: Session, settings: Settings, day: Day, row: Recording) -> Located:
    """Return a recording's place on disk and in the cache."""
    members = tuple(located(session, settings, day, one) for one in recordings.members_of(session, row))
    path = members[0].path if members else scan.placed(settings.here(day.folder), row.path)
    return Located(
        path, facts_of(row), cache.entry_of(settings.cache, row.content), members, row.merged, settings.here(day.folder)
    )
