"""Conflicting posts: several people change one thing at once, each on what the page showed all of them.

Of those who saw the same version one counts, the others are told so (409) with what is there now; what is kept is what
the one who counted said. Nobody gets an error of Vesk's own.
"""

from __future__ import annotations

import io
import threading
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date
from fractions import Fraction
from typing import Any

from sqlmodel import Session, select

from vesk.actions import merging, pairing, reports
from vesk.actions.known import known_of_day
from vesk.core.facts import Facts
from vesk.core.kinds import PICTURE, SOUND, ReportKind
from vesk.core.timecode import FrameRate, Timecode
from vesk.settings import Settings
from vesk.store import days, overrides, pairings, turnovers
from vesk.store import reports as kept
from vesk.store.session import open_session
from vesk.store.tables import CheckRow, ClockPeriod, CorrectionRow, Day, Recording, Source, SyncPointRow
from vesk.web import create_app

PAL = FrameRate(Fraction(25))
_TABLE = "file,scene,take,more\na.wav,7,1,x\n"


@dataclass
class Round:
    """One kind of change by several people at once."""

    kind: str
    statuses: Counter[int] = field(default_factory=Counter)
    lost: int = 0

    @property
    def counted(self) -> int:
        """How many were told that theirs counts."""
        return sum(count for status, count in self.statuses.items() if status < 400)

    @property
    def wrong(self) -> int:
        """How many were told anything but yes or 409."""
        return sum(count for status, count in self.statuses.items() if status >= 400 and status != 409)


@dataclass(frozen=True)
class Change:
    """A kind of change: where person n posts what, and what is there afterwards (None: asked for, not said)."""

    post: Callable[[int], tuple[str, dict[str, Any]]]
    there: Callable[[Session], Any] = lambda _session: None
    said: Callable[[int], Any] = lambda _person: None


def _facts(kind: str, label: str, **more: Any) -> Facts:
    start = Timecode.parse(label, PAL).seconds
    both = {"kind": kind, "container": "mov", "sample_rate": 48_000, "channels": 2, "duration": Fraction(20)}
    own: dict[str, Any] = {"timecode": label, "timecode_rate": PAL.fps, "fps": PAL.fps, "frames": 500, "codec": "h264"}
    if kind == SOUND:
        own = {"container": "wav", "time_reference": int(start * 48_000)}
    return Facts(**{**both, "samples": 960_000, **own, **more})


class PaperDay:
    """A day in the database alone, with something of every kind that people change."""

    def __init__(self, session: Session, settings: Settings, number: int) -> None:
        production = days.production_named(session, "The Lantern Ferry")
        self.day = Day(
            production_id=production.id, number=number, shot_on=date(2027, 3, 21), folder=f"/nowhere/{number}",
            fps=PAL.fps, tolerance=Fraction(1, 4),
        )  # fmt: skip
        session.add(self.day)
        session.flush()
        self.rows: dict[str, Recording] = {}
        self.sources: dict[str, Source] = {}
        for path, facts in (
            ("A/a.mov", _facts(PICTURE, "09:00:00:00")),
            ("A/b.mov", _facts(PICTURE, "10:00:00:00")),
            ("E/c1.mov", _facts(PICTURE, "12:00:00:00")),
            ("E/c2.mov", _facts(PICTURE, "13:00:20:00")),
            ("S1/a.wav", _facts(SOUND, "09:00:01:00")),
            ("S2/b.wav", _facts(SOUND, "10:00:01:00")),
        ):
            self._add(session, path, facts)
        session.flush()
        joined = {self.rows[path].id: 1 for path in ("E/c1.mov", "E/c2.mov")}
        self.run = merging.merge_by_hand(session, settings, self.day, joined, "run")
        pairing.pair_day(session, self.day)
        self.pairing = pairings.of_day(session, self.day.id)[0]
        self.report = reports.take_up(session, settings, self.day, name="r.csv", text=_TABLE, kind=ReportKind.SOUND)
        self.sync_point = SyncPointRow(
            recording_id=self.rows["A/a.mov"].id, how="seen", kind="clap", frame=9, proposed_frame=9, likely=1.0
        )
        session.add(self.sync_point)
        session.commit()
        self.oddity = next(iter(known_of_day(session, self.day).oddities)).key
        session.commit()

    def _add(self, session: Session, path: str, facts: Facts) -> None:
        tag, name = path.split("/")
        if tag not in self.sources:
            self.sources[tag] = days.make_source(
                session, self.day.id, tag=tag, name=f"source {tag}", kind=facts.kind, folder=tag
            )
        self.rows[path] = Recording(
            day_id=self.day.id, source_id=self.sources[tag].id, path=path, name=name, size=1000 + len(path),
            modified_ns=1, content=f"w{len(self.rows):032x}", kind=facts.kind, duration=facts.duration,
            facts=facts,
        )  # fmt: skip
        session.add(self.rows[path])

    def changes(self) -> dict[str, Change]:
        """Return every kind of change that pages offer."""
        day, pair, a, b = self.day.id, self.pairing.id, self.rows["A/a.mov"].id, self.rows["A/b.mov"].id
        bench, together, source = f"/bench/{pair}", f"/days/{day}/intake/together", self.sources["S1"].id
        seen = {"version": self.pairing.version}
        own = {"version": self.sources["S1"].version}
        both = {"recording": [f"{a}:1", f"{b}:1"]}
        sounds = {"recording": [f"{self.rows[p].id}:1" for p in ("S1/a.wav", "S2/b.wav")]}

        def slip(session: Session) -> Any:
            row = pairings.standing_corrections(session, [pair or 0]).get(pair or 0)
            return row and float(row.slip * 25)

        def fact(name: str) -> Callable[[Session], Any]:
            return lambda session: overrides.standing_of_day(session, day or 0)[a or 0][name].value

        def column(of: type, key: Any, name: str) -> Callable[[Session], Any]:
            return lambda session: getattr(session.get(of, key), name)

        def count(of: type) -> Callable[[Session], Any]:
            wanted = {CheckRow: CheckRow.pairing_id == pair, CorrectionRow: CorrectionRow.pairing_id == pair}
            return lambda session: len(session.exec(select(of).where(wanted[of])).all())

        return {
            "slip and rate": Change(
                lambda n: (f"{bench}/own", {**seen, "slip_frames": f"{n}.5"}), slip, lambda n: n + 0.5
            ),
            "slip by steps": Change(
                lambda n: (f"{bench}/slip", {**seen, "frames": f"{n + 1}"}), slip, lambda n: n + 1.0
            ),
            "check": Change(lambda _: (f"{bench}/check", seen), count(CheckRow), lambda _: 1),
            "pairing set aside": Change(
                lambda n: (f"{bench}/aside", {**seen, "reason": f"because {n}"}),
                lambda session: pairings.get(session, pair or 0).reason, lambda n: f"because {n}",
            ),
            "a source's name": Change(
                lambda n: (f"/sources/{source}", {**own, "name": f"name {n}", "distance_m": "1"}),
                column(Source, source, "name"), lambda n: f"name {n}",
            ),
            "a source's clock": Change(
                lambda n: (f"/sources/{source}/clock", {**own, "clock": ("header", "LTC", "none")[n % 3]}),
                column(Source, source, "clock"), lambda n: ("header", "LTC", "none")[n % 3],
            ),
            "a source's tag": Change(
                lambda n: (f"/sources/{source}/all", {**own, "tag": f"X{n}"}), column(Source, source, "tag"),
                lambda n: f"X{n}",
            ),
            "a stretch of the day": Change(
                lambda n: (f"/sources/{source}/stretch", {
                    **own, "since": "09:00", "before": f"1{n % 9}:00", "clock": "none"}),
                lambda session: [
                    int(row.before // 3600) for row in session.exec(
                        select(ClockPeriod).where(ClockPeriod.source_id == source))
                ], lambda n: [10 + n % 9],
            ),
            "two sources made one": Change(lambda _: (f"/sources/{source}/merge", {**own, "into": "S2"})),
            "a camera that serves": Change(
                lambda _: (f"/sources/{self.sources['A'].id}/kind", {
                    "version": self.sources["A"].version, "kind": "sound"})
            ),
            "a fact put right": Change(
                lambda n: (together, {**both, "do": "put", "field": "scene", "value": f"{n}X"}), fact("scene"),
                lambda n: f"{n}X",
            ),
            "recordings set aside": Change(
                lambda n: (together, {**both, "do": "aside", "value": f"MOS {n}"}), fact("aside"), lambda n: f"MOS {n}"
            ),
            "recordings moved": Change(lambda n: (together, {**both, "do": "move", "to": f"K{n}"})),
            "recordings moved to another": Change(lambda _: (together, {**sounds, "do": "move", "to": "S2"})),
            "a run made by hand": Change(lambda _: (together, {**both, "do": "run"})),
            "a run taken apart": Change(lambda _: (f"/recordings/{self.run.id}/apart", {"version": self.run.version})),
            "file-name patterns": Change(
                lambda n: (f"/days/{day}/names", {"version": 1, "patterns": f"{n}{{scene}}"}),
                column(Day, day, "patterns"), lambda n: [f"{n}{{scene}}"],
            ),
            "an oddity meant so": Change(
                lambda n: (f"/days/{day}/intake/oddity", {"key": self.oddity, "note": f"so {n}"}),
                lambda session: overrides.accepted(session, day or 0)[self.oddity].note, lambda n: f"so {n}",
            ),
            "watching": Change(lambda _: (f"/days/{day}/intake/watch", {"on": "1"})),
            "a report taken up": Change(
                lambda n: (f"/days/{day}/reports", {
                    "kind": "sound", "report": (io.BytesIO(f"file,scene\na.wav,{n}\n".encode()), "new.csv")}),
                lambda session: [row.lines for row in kept.of_day(session, day or 0) if row.name == "new.csv"],
                lambda n: [[["a.wav", str(n)]]],
            ),
            "a report's columns": Change(
                lambda n: (f"/reports/{self.report.id}", {
                    "version": 1, "kind": "sound", "column-0": "file", f"column-{1 + n % 3}": "note"}),
                lambda session: kept.get(session, self.report.id).mapping["note"],
                lambda n: ("scene", "take", "more")[n % 3],
            ),
            "a report left out": Change(lambda _: (f"/reports/{self.report.id}", {"version": 1, "do": "remove"})),
            "a clap decided": Change(
                lambda n: (f"/sync-points/{self.sync_point.id}", {"version": 1, "frame": f"{20 + n}"}),
                column(SyncPointRow, self.sync_point.id, "frame"), lambda n: 20 + n,
            ),
        }  # fmt: skip


def conflict(app: Any, settings: Settings, kind: str, change: Change, people: int) -> Round:
    """Let several people post one kind of change at once."""
    told, ready = Round(kind), threading.Barrier(people)
    answers: dict[int, int] = {}

    def one(person: int) -> None:
        url, form = change.post(person)
        client = app.test_client()
        ready.wait()
        answers[person] = client.post(url, data=form).status_code

    threads = [threading.Thread(target=one, args=(person,)) for person in range(people)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    told.statuses.update(answers.values())
    winners = [person for person, status in answers.items() if status < 400]
    with open_session(settings.sqlalchemy_url) as session:
        if len(winners) != 1 or change.there(session) != change.said(winners[0]):
            told.lost = max(1, len(winners) - 1)
    return told


def make_app(settings: Settings) -> Any:
    """Return the application without tokens, as these people have theirs."""
    app = create_app(settings)
    app.config["WTF_CSRF_ENABLED"] = False
    return app


def conflicts(settings: Settings, *, people: int = 8, rounds: int = 1) -> list[Round]:
    """Let `people` conflict over every kind of change, `rounds` times, each on a day of its own."""
    app, told, number = make_app(settings), [], 0
    with open_session(settings.sqlalchemy_url) as session:
        kinds = list(PaperDay(session, settings, 0).changes())
    for _ in range(rounds):
        for kind in kinds:
            number += 1
            with open_session(settings.sqlalchemy_url) as session:
                change = PaperDay(session, settings, number).changes()[kind]
            told.append(conflict(app, settings, kind, change, people))
        told.append(_two_days(app, settings, people, number))
        told.append(_turnovers(app, settings, people, number))
    return told


def _two_days(app: Any, settings: Settings, people: int, number: int) -> Round:
    """One day named by several double clicks is one day."""
    form = {
        "production": "The Lantern Ferry",
        "number": "77",
        "shot_on": "2027-03-18",
        "rate": "25",
        "folder": str(settings.media_roots[0] / f"named-{number}"),
    }
    (settings.media_roots[0] / f"named-{number}").mkdir(parents=True, exist_ok=True)

    def there(session: Session) -> int:
        return sum(day.folder == form["folder"] for _, day in days.all_days(session))

    change = Change(lambda _: ("/new", form), there, lambda _: 1)
    return conflict(app, settings, "a day named", change, people)


def _turnovers(app: Any, settings: Settings, people: int, number: int) -> Round:
    """One turnover asked for by several double clicks is one turnover."""
    with open_session(settings.sqlalchemy_url) as session:
        paper = PaperDay(session, settings, number + 1000)
        session.add(CheckRow(pairing_id=paper.pairing.id, made_by="somebody"))
        session.commit()
        day = paper.day.id

    change = Change(
        lambda _: (f"/days/{day}/turnover", {}), lambda session: len(turnovers.of_day(session, day)), lambda _: 1
    )
    return conflict(app, settings, "a turnover asked for", change, people)


def lines(told: list[Round]) -> list[str]:
    """Return a table of what came out, by kind."""
    kinds: dict[str, list[Round]] = {}
    for one in told:
        kinds.setdefault(one.kind, []).append(one)
    return [_line(kind, own) for kind, own in kinds.items()] + [_line("all together", told)]


def _line(kind: str, own: list[Round]) -> str:
    posts, counted = sum(one.statuses.total() for one in own), sum(one.counted for one in own)
    stale, wrong = sum(one.statuses[409] for one in own), sum(one.wrong for one in own)
    lost = sum(one.lost for one in own)
    return f"{kind:28} {posts:6} posts {counted:5} counted {stale:6} told 409 {wrong:4} anything else {lost:4} lost"
