"""serve, work, status and stop as a person runs them: real processes, their logs, and what dies among them."""

import json
import os
import re
import signal
import subprocess
import sys
import urllib.request
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.conftest import PROJECT, end, named_day, until

from vesk.jobs.tasks import ask_intake
from vesk.store import recordings


@pytest.fixture
def vesk(settings, tmp_path):
    """Return a function that starts a command with this test's database and folder."""
    (tmp_path / "media").mkdir()
    environment = {
        **os.environ,
        "VESK_DATABASE": settings.database_url,
        "VESK_VAR": str(tmp_path / "own"),
        "PYTHONPATH": str(PROJECT / "src"),
        "PYTHONUNBUFFERED": "1",
    }
    started = []

    def run(*words, wait=True, **more):
        process = subprocess.Popen(
            [sys.executable, "-m", "vesk", *words],
            env={**environment, **more},
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        started.append(process)
        if not wait:
            return process
        out, err = process.communicate(timeout=300)
        return process.returncode, out, err

    yield run
    end([process for process in started if process.poll() is None])
    for process in started:
        process.stdout.close()
        process.stderr.close()


def children(tmp_path):
    return json.loads((tmp_path / "own" / "run.json").read_text())["children"]


def test_serve_is_seen_by_status_works_mends_itself_and_ends_by_stop(vesk, db, settings, tmp_path):
    assert vesk("status")[0] == 3
    serving = vesk("serve", "--media", str(tmp_path / "media"), "--workers", "1", wait=False)
    line = until(lambda: next((one for one in iter(serving.stdout.readline, "") if "Vesk is at" in one), None), 40)
    address = re.search(r"http://127\.0\.0\.1:\d+/", line)[0]
    with urllib.request.urlopen(address + "new") as answer:
        assert str(tmp_path / "media") in answer.read().decode()
    code, out, _ = vesk("status")
    assert (code, address in out, out.count(" runs")) == (0, True, 2)
    code, _, err = vesk("serve", "--media", str(tmp_path / "media"))
    assert (code, "Vesk is running already" in err) == (1, True)
    # It works: a file that lies there comes in, and the worker's log says which job that was.
    (tmp_path / "media" / "S1").mkdir()
    tone = (0.1 * np.sin(np.arange(48_000) / 9)).astype(np.float32)
    soundfile.write(tmp_path / "media" / "S1" / "1_01.wav", tone, 48_000, subtype="PCM_24")
    day = named_day(db, settings, tmp_path / "media", number=9)
    ask_intake(db, day.id)
    db.commit()

    def came_in():
        db.rollback()
        return [row.heard for row in recordings.of_day(db, day.id) if row.heard]

    assert until(came_in, 60)[0].levels[0].peak_db > -30
    log = tmp_path / "own" / "logs" / "worker-1.log"
    assert until(lambda: re.search(r"INFO +worker-1 \[intake 1\] vesk\.jobs\.tracked: done in", log.read_text()), 20)
    # What dies is started again, and the rest goes on.
    before = children(tmp_path)
    os.kill(before["web"], signal.SIGKILL)
    after = until(lambda: (now := children(tmp_path))["web"] != before["web"] and now, 30)
    assert after["worker-1"] == before["worker-1"]
    code, out, _ = vesk("stop")
    assert (code, out) == (0, "serve ended\n")
    assert serving.wait(120) == 0
    assert vesk("status")[:2] == (3, "Nothing runs.\n")
    assert vesk("stop")[:2] == (0, "Nothing ran.\n")
    assert not any(Path(f"/proc/{number}").exists() for number in after.values())


def test_workers_alone_run_and_end_when_told(vesk, tmp_path):
    working = vesk("work", "--count", "1", wait=False)
    assert "1 workers run" in working.stdout.readline()
    until((tmp_path / "own" / "logs" / "worker-1.log").exists, 20)
    working.send_signal(signal.SIGINT)
    assert working.wait(120) == 0


@pytest.mark.parametrize(
    ("words", "more", "says"),
    [
        (("serve", "--media", "/no/such/folder"), {}, "/no/such/folder: there is no such folder."),
        (("status",), {"VESK_MEDAI": "/x"}, "VESK_MEDAI is no setting of Vesk's."),
        (("work",), {"VESK_DATABASE": ""}, "No database runs here."),
    ],
)
def test_what_cannot_start_says_why_on_one_line(vesk, words, more, says):
    code, _, err = vesk(*words, **more)
    assert (code, err.count("\n")) == (1, 1)
    assert says in err
