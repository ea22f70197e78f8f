"""What the longer commands do around their work: the demo's days, which benchmark runs, whose database is adopted."""

import sys
from types import SimpleNamespace

import pytest

from vesk.cli import demo
from vesk.cli.main import main
from vesk.core.errors import RefusedError
from vesk.services import cluster, keeping, state, supervisor
from vesk.store import days, progress, reports


@pytest.fixture
def small(monkeypatch):
    """Shoot one day that holds a report and nothing else."""
    shot = []

    def shoot(chosen, media, processes):
        shot.append((chosen, processes >= 1))
        (media / demo.REPORT).parent.mkdir(parents=True)
        (media / demo.REPORT).write_text("file,scene\n31A_01.wav,31A\n", encoding="utf-8")
        return [1, 2, 3]

    monkeypatch.setattr("vesk.simulator.shoot.shoot", shoot)
    monkeypatch.setattr("vesk.simulator.scenario.load", lambda path: path.name)
    return shot


def test_the_demo_shoots_its_days_once_and_names_them_with_what_reports_say(db, settings, small, capsys):
    demo._prepare(settings, supervisor.Steps())
    assert [chosen for chosen, _ in small] == [one.scenario for one in demo.DAYS]
    named = days.all_days(db)
    assert [(day.number, str(days.rate_of(day))) for _, day in named] == [(6, "25"), (7, "23.976"), (8, "29.97 DF")]
    first = named[0][1]
    assert [one.tag for one in days.sources(db, first.id)] == ["A", "B", "C", "D", "E", "S1", "S2"]
    assert {one.tag: one.distance_mm for one in days.sources(db, first.id)}["B"] == 22_000
    assert [row.name for row in reports.of_day(db, first.id)] == [demo.REPORT]
    assert [progress.find(db, "intake", day.id).state for _, day in named] == ["waiting"] * 3
    capsys.readouterr()
    demo._prepare(settings, supervisor.Steps())  # a second start finds it all
    assert len(small) == len(demo.DAYS)
    assert len(days.all_days(db)) == 3
    assert "are there" in capsys.readouterr().out


def test_a_demo_that_runs_is_not_thrown_away_and_one_that_does_not_is(settings, monkeypatch):
    (settings.var / "media").mkdir(parents=True)
    monkeypatch.setattr(state, "alive", lambda _values: True)
    with pytest.raises(RefusedError, match="The demo is running"):
        demo._throw_away(settings)
    assert (settings.var / "media").is_dir()
    data = settings.var / "elsewhere"
    data.mkdir()
    stopped = []
    monkeypatch.setattr(state, "alive", lambda _values: False)
    monkeypatch.setattr(keeping, "find", lambda _var: SimpleNamespace(data=data))
    monkeypatch.setattr(cluster, "stop", stopped.append)
    demo._throw_away(settings)
    assert (len(stopped), settings.var.exists()) == (1, False)


@pytest.mark.parametrize(
    ("words", "ran"),
    [
        (["bench", "pages", "--scale", "0.5"], [("pages", 0.5)]),
        (["benchmark", "faults"], [("faults", 1.0)]),
        (
            ["bench"],
            [
                ("walk", None),
                ("intake", None),
                *(
                    (name, 1.0)
                    for name in (
                        "measuring",
                        "day",
                        "clocks",
                        "closures",
                        "hard_takes",
                        "handover",
                        "readers",
                        "pages",
                        "watching",
                        "scale",
                    )
                ),
            ],
        ),
    ],
)
def test_a_benchmark_runs_by_its_name_and_faults_only_when_asked_for(monkeypatch, words, ran):
    done = []
    monkeypatch.setattr(sys, "path", [*sys.path])
    monkeypatch.setattr(
        "vesk.cli.benchmark.import_module", lambda name: SimpleNamespace(main=lambda given: done.append((name, given)))
    )
    assert main(words) == 0
    assert done == ran


def test_a_database_is_adopted_by_a_vesk_that_does_not_run(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv("VESK_VAR", str(tmp_path))
    asked = []

    def adopt(var, data):
        asked.append((var, data))
        return SimpleNamespace(data=data or var / "postgres")

    monkeypatch.setattr(cluster, "adopt", adopt)
    monkeypatch.setattr(state, "take", lambda _var: False)
    assert main(["adopt"]) == 1
    assert "Vesk is running" in capsys.readouterr().err
    monkeypatch.setattr(state, "take", lambda _var: True)
    assert main(["adopt", "/some/data", "--demo"]) == 0
    assert [(var.name, str(data)) for var, data in asked] == [("demo", "/some/data")]
    assert "/some/data is the one of" in capsys.readouterr().out
