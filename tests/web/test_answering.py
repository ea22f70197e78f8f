"""A disk that hangs costs what was asked of it, and nothing else."""

import threading
import time

import pytest

from vesk.core.errors import BusyError, MediaError
from vesk.media import answering


def test_what_hangs_is_given_up_and_what_answers_is_given_or_raised(monkeypatch):
    assert answering.within("/media", lambda: 42) == 42
    with pytest.raises(MediaError, match="gone"):
        answering.within("/media", lambda: (_ for _ in ()).throw(MediaError("/media", "it is gone")))
    hangs = threading.Event()
    monkeypatch.setattr(answering, "_AT_ONCE", threading.BoundedSemaphore(2))
    for _ in range(2):
        begun = time.monotonic()
        with pytest.raises(BusyError, match="/mnt/far"):
            answering.within("/mnt/far", hangs.wait, 0.05)
        assert time.monotonic() - begun < 2
    with pytest.raises(BusyError):  # both threads hang: nobody else is sent after them
        answering.within("/media", lambda: 42, 0.05)
    assert threading.active_count() < 40
    hangs.set()
    assert answering.within("/media", lambda: 42) == 42  # it answers again


def test_a_page_of_media_that_hangs_leaves_the_others_alone(app, client, monkeypatch):
    monkeypatch.setattr(answering, "_OPEN", threading.BoundedSemaphore(1))
    monkeypatch.setattr(answering, "WAIT_S", 0.05)
    with answering.reading():
        answer = client.get("/media/1/frame/1.jpg")
        assert (answer.status_code, "does not answer" in answer.text) == (503, True)
        assert client.get("/home").status_code == 200
    assert client.get("/media/1/frame/1.jpg").status_code == 404
