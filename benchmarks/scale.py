"""A whole production: 30 days, 12 000 recordings. What each page and the search cost the server, database included."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from pages import large_day, served, timed
from sqlmodel import select

from vesk.core.told import Told
from vesk.store.session import open_session
from vesk.store.tables import Recording
from vesk.web import create_app

DAYS, RECORDINGS = 30, 400
SEARCHES = ("A0012", "scene 48 take 3", "S1", "B day 12", "nothing is called so", "0")


def main(scale: float) -> int:
    """Make the production, ask for every page first and again, search; print."""
    count = max(3, round(DAYS * scale))
    with tempfile.TemporaryDirectory() as place, served(Path(place)) as (settings, own):
        app = create_app(settings)
        app.config["WTF_CSRF_ENABLED"] = False
        client = app.test_client()
        begun = time.monotonic()
        with open_session(settings.sqlalchemy_url, by_person=False) as session:
            made = [large_day(session, RECORDINGS, number=n + 1) for n in range(count)]
            day, pair = made[count // 2]
            for row in session.exec(select(Recording)):
                row.told = Told(scene=row.facts.scene, take=row.facts.take) if row.facts else None
            session.commit()
            number = day.id
            size = session.connection().exec_driver_sql("SELECT pg_database_size(current_database())").scalar()
            print(f"the database holds {int(size or 0) / 1e6:.0f} MB")
        print(
            f"a production of {count} days, {count * RECORDINGS} recordings, made in {time.monotonic() - begun:.0f} s"
        )
        print(f"{'':34}{'page, CPU ms':>13}{'database':>13}{'queries':>9}{'seen ms':>9}")
        pages = {
            "home": "/home", "the first day that asks": "/", "day": f"/days/{number}/",
            "journal": f"/days/{number}/journal",
            "intake": f"/days/{number}/intake", "clocks": f"/days/{number}/clocks",
            "turnover": f"/days/{number}/turnover", "bench": f"/bench/{pair}", "progress": f"/days/{number}/progress",
        }  # fmt: skip
        for again in ("first", "again"):
            for name, url in pages.items():
                print(_line(f"{name}, {again}", own, _asked(client, url), 1 if again == "first" else 5))
        for words in SEARCHES:
            print(_line(f"find {words!r}", own, _asked(client, "/find", words), 5))
    return 0


def _asked(client: object, url: str, words: str = "") -> Callable[[], None]:
    def ask() -> None:
        answer = client.get(url, query_string={"words": words} if words else None, follow_redirects=True)  # type: ignore[attr-defined]
        assert answer.status_code == 200, (url, answer.status_code)

    return ask


def _line(name: str, own: object, ask: Callable[[], None], times: int) -> str:
    begun = time.perf_counter()
    queries = [0]
    figures = timed(own, queries, ask, times)  # type: ignore[arg-type]
    return f"{name:34}{figures[:-9]}{'':9}{(time.perf_counter() - begun) / times * 1e3:9.0f}"
