"""Settings are checked where they are read, each with a sentence; logs say who, when, on what, and are rotated."""

import logging
from pathlib import Path

import pytest

from vesk import logs
from vesk.core.errors import RefusedError
from vesk.settings import from_environment


def test_what_is_not_set_has_a_default_and_what_is_set_reaches_another_process():
    found = from_environment({"VESK_MEDIA": '["/a b", "/c"]', "VESK_HOSTS": "x y", "OTHER": "1"})
    assert (found.media_roots, found.hosts, found.cache_gb) == ((Path("/a b"), Path("/c")), ("x", "y"), 200.0)
    assert from_environment(found.environment()) == found
    assert from_environment({"VESK_MEDIA": "/one"}).media_roots == (Path("/one"),)


@pytest.mark.parametrize(
    ("variables", "says"),
    [
        ({"VESK_MEDAI": "/a"}, "VESK_MEDAI is no setting"),
        ({"VESK_MEDIA": "[oops"}, "VESK_MEDIA is set to '[oops'; it is a folder"),
        ({"VESK_DATABASE": "mysql://x"}, "VESK_DATABASE is set to 'mysql://x'; it is a PostgreSQL address"),
        ({"VESK_CACHE_GB": "much"}, "VESK_CACHE_GB is set to 'much'; it is a number of gigabytes"),
        ({"VESK_CACHE_GB": "0"}, "a number of gigabytes above 0"),
    ],
)
def test_what_cannot_be_is_refused_with_its_name(variables, says):
    with pytest.raises(RefusedError) as told:
        from_environment(variables)
    assert says in str(told.value)


@pytest.fixture
def root_logger():
    root = logging.getLogger()
    before = root.handlers[:], root.level
    yield root
    for handler in root.handlers:
        handler.close()
    root.handlers[:], root.level = before
    logging.captureWarnings(capture=False)


def test_a_log_says_when_who_and_on_what_and_is_rotated(tmp_path, monkeypatch, root_logger):
    monkeypatch.setattr(logs, "MOST_BYTES", 2_000)
    monkeypatch.setattr("sys.excepthook", lambda *_: None)
    logs.keep(tmp_path, "worker-1")
    token = logs.JOB.set("measure 12")
    for number in range(200):
        logging.getLogger("vesk.jobs").info("piece %d", number)
    logs.JOB.reset(token)
    files = sorted((tmp_path / "logs").iterdir())
    assert [path.name for path in files] == ["worker-1.log", *(f"worker-1.log.{n}" for n in range(1, logs.KEPT + 1))]
    assert all(path.stat().st_size <= 2_000 for path in files)
    last = files[0].read_text(encoding="utf-8").splitlines()[-1]
    assert last[4] == "-"
    assert last.endswith("INFO    worker-1 [measure 12] vesk.jobs: piece 199")
