"""A file that brings its reader down costs only itself."""

import os
import time
from concurrent.futures import ThreadPoolExecutor
from itertools import combinations
from pathlib import Path
from threading import Thread

import pytest
from pebble.pool.process import PoolManager

from vesk.core.errors import MediaError, StoppedError
from vesk.media import guarded as border
from vesk.media.guarded import guarded, guarded_each, tell, watched

FILE = Path("A006 main camera/A006_004.mov")


def fall_over(_path: Path) -> None:
    os.abort()


def never_end(_path: Path) -> None:
    time.sleep(60)


def want_everything(_path: Path) -> int:
    return len(bytearray(1 << 40))


def complain(path: Path) -> None:
    raise MediaError(path, "it is empty", "Copy it again.")


def name_of(path: Path) -> str:
    return path.name


@pytest.mark.parametrize(
    ("work", "words"),
    [
        (fall_over, "ended the process"),
        (never_end, "longer than 1 s"),
        (want_everything, "too much memory"),
        (complain, "it is empty"),
    ],
)
def test_it_is_told_and_the_next_file_is_read(work, words):
    with pytest.raises(MediaError, match=words) as caught:
        guarded(FILE, 1.0 if work is never_end else 30.0, work, FILE)
    assert "A006_004.mov" in str(caught.value)
    assert guarded(FILE, 30.0, name_of, FILE) == "A006_004.mov"


def by_its_name(path: Path) -> str:
    return {"falls": fall_over, "hangs": never_end, "complains": complain}.get(path.stem, name_of)(path)


def test_of_files_that_are_read_together_each_costs_only_itself():
    names = ["a.mov", "complains.mov", "falls.mov", "hangs.mov", "b.mov"]
    found = guarded_each([Path(name) for name in names], 2.0, by_its_name)
    assert found[0] == "a.mov"
    assert found[4] == "b.mov"
    said = [str(one) for one in found[1:4]]
    assert all(name in one for name, one in zip(names[1:4], said, strict=True))
    assert ["it is empty" in said[0], "ended the process" in said[1], "longer than 2 s" in said[2]] == [True] * 3
    assert guarded_each([], 2.0, by_its_name) == []


def count(_path: Path) -> str:
    for done in range(40):
        tell(done, 40)
        time.sleep(0.05)
    return "counted"


def test_how_far_it_is_is_told_and_it_ends_when_it_is_to_stop():
    heard = []
    assert watched(FILE, 30.0, lambda *told: heard.append(told) or True, count, FILE) == "counted"
    assert heard == sorted(heard)
    assert 0 < heard[-1][0] < 40 == heard[-1][1]
    begun = time.monotonic()
    with pytest.raises(StoppedError, match="was read"):
        watched(FILE, 30.0, lambda done, _total: done < 4, never_end_telling, FILE)
    assert time.monotonic() - begun < 20
    assert guarded(FILE, 30.0, name_of, FILE) == "A006_004.mov"


def whose_turn(_path: Path) -> tuple[int, float, float]:
    begun = time.monotonic()
    time.sleep(0.5)
    return os.getpid(), begun, time.monotonic()


def test_a_process_reads_one_thing_at_a_time_and_there_is_a_second_only_where_one_is_busy(monkeypatch):
    monkeypatch.setattr(border, "_pools", {})
    assert len({guarded(FILE, 30.0, whose_turn, FILE)[0] for _ in range(3)}) == 1
    with ThreadPoolExecutor(5) as several:
        turns = list(several.map(lambda _: guarded(FILE, 30.0, whose_turn, FILE), range(5)))
    assert len({process for process, _, _ in turns}) == 2
    for one, other in combinations(sorted(turns), 2):
        assert one[0] != other[0] or one[2] <= other[1] or other[2] <= one[1]
    for pool in border._pools:
        pool.stop()
        pool.join()


def test_a_pool_that_falls_over_costs_no_file(monkeypatch):
    assert guarded(FILE, 30.0, name_of, FILE) == "A006_004.mov"

    def fall(_manager: PoolManager) -> None:
        falling.undo()
        raise BufferError("a thread of the pool's own")

    monkeypatch.setattr("threading.excepthook", lambda _what: None)
    read = []
    under_way = Thread(target=lambda: read.append(guarded(FILE, 30.0, count, FILE)), daemon=True)
    with pytest.MonkeyPatch.context() as falling:
        under_way.start()
        time.sleep(0.5)
        falling.setattr(PoolManager, "update_status", fall)
        time.sleep(0.5)
        assert [guarded(FILE, 30.0, name_of, FILE) for _ in range(3)] == ["A006_004.mov"] * 3
        under_way.join(30)
        assert read == ["counted"]


def never_end_telling(path: Path) -> None:
    count(path)
    never_end(path)
