"""A file that brings its reader down costs only itself."""

import os
import time
from pathlib import Path

import pytest

from vesk.core.errors import MediaError
from vesk.media.guarded import guarded

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
