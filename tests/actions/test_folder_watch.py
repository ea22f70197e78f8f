"""A watched folder: what is there and has stopped growing comes in."""

import shutil
import threading
import time

import pytest
from tests.conftest import name_ferry

from vesk.actions import folder_watch, intake
from vesk.store import days, recordings


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    folder = tmp_path / "media"
    shutil.copytree(ferry.folder, folder, ignore=shutil.ignore_patterns("B004_00[12]*", "3*", "A006_00[234567]*"))
    named = name_ferry(db, settings, folder)
    intake.take_in(db, settings, named)
    db.commit()
    return named


def test_news_is_what_an_intake_would_change(db, settings, day, ferry, tmp_path):
    assert not folder_watch.has_news(db, settings, day)  # a broken file is no news again and again
    copied = tmp_path / "media" / "A006 main camera" / "A006_002.mov"
    shutil.copy2(ferry.folder / "A006 main camera" / "A006_002.mov", copied)
    assert folder_watch.has_news(db, settings, day)
    intake.take_in(db, settings, day)
    assert not folder_watch.has_news(db, settings, day)
    copied.unlink()
    assert folder_watch.has_news(db, settings, day)
    link = copied.parent / "other card"
    link.symlink_to("/")
    intake.take_in(db, settings, day)
    assert not folder_watch.has_news(db, settings, day)  # what is told already is no news: it came in for ever
    link.unlink()
    assert folder_watch.has_news(db, settings, day)
    folder_watch.watch(db, settings, day, on=True)
    assert [one.id for one in days.watched(db)] == [day.id]


def test_a_file_that_grows_waits_and_then_comes_in(db, settings, day, ferry, tmp_path):
    whole = (ferry.folder / "A006 main camera" / "A006_002.mov").read_bytes()
    target = tmp_path / "media" / "A006 main camera" / "A006_002.mov"
    stop = threading.Event()

    def copy() -> None:
        with target.open("wb") as file:
            for start in range(0, len(whole), len(whole) // 200 + 1):
                if stop.is_set():
                    break
                file.write(whole[start : start + len(whole) // 200 + 1])
                file.flush()
                time.sleep(0.02)
            file.seek(0)
            file.write(whole)

    copying = threading.Thread(target=copy)
    copying.start()
    try:
        time.sleep(0.2)
        intake.take_in(db, settings, day)
        (row,) = [one for one in recordings.of_day(db, day.id) if one.name == target.name]
        assert (row.state, "still being copied" in row.problem) == ("unreadable", True)
    finally:
        stop.set()
        copying.join()
    assert folder_watch.has_news(db, settings, day)
    intake.take_in(db, settings, day)
    (row,) = [one for one in recordings.of_day(db, day.id) if one.name == target.name]
    assert (row.state, row.facts.frames) == ("ready", 550)
