"""The database that is there: named, or Vesk's own, which runs already or is started for as long as it is needed."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

from vesk.core.errors import RefusedError
from vesk.services import cluster, keeping, state, supervisor
from vesk.settings import Settings


def of_running(settings: Settings) -> Settings | None:
    """Return settings that name the database that runs, and the folders its Vesk may read; None: none runs."""
    if settings.database_url:
        return settings
    own = keeping.find(settings.var)
    if own is None or not cluster.running(own):
        return None
    values = state.read(settings.var)
    roots = tuple(Path(part) for part in values.get("media", []))
    return replace(settings, database_url=own.url(), media_roots=settings.media_roots or roots)


@contextmanager
def database(settings: Settings, *, as_it_is: bool = False) -> Iterator[Settings]:
    """Give settings that name a database, brought to the present schema; one that was started for this is ended.

    `as_it_is` leaves the schema alone: an older Vesk may be running on it.

    Raises
    ------
    RefusedError
        If there is none at all.
    """
    found = of_running(settings)
    if found is not None:
        _bring_up(found, as_it_is=as_it_is)
        yield found
        return
    own = keeping.find(settings.var)
    if own is None:
        raise RefusedError(f"There is no database at {settings.var} yet. Start ./vesk serve once, or name one.")
    supervisor.take_folder(settings)
    cluster.start(own)
    try:
        named = replace(settings, database_url=own.url())
        _bring_up(named, as_it_is=as_it_is)
        yield named
    finally:
        cluster.stop(own)


def _bring_up(settings: Settings, *, as_it_is: bool) -> None:
    if not as_it_is:
        from vesk.store import migrate  # noqa: PLC0415 - heavy

        migrate.to_head(settings.sqlalchemy_url)
