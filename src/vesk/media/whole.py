"""Files that stand whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from vesk.core.errors import StorageError


def let_go(path: Path) -> None:
    """Take a half-written file away, if the disk lets us: what went wrong before is what is told."""
    with suppress(OSError):
        path.unlink(missing_ok=True)


@contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """Give a place beside `path` to write to; at the end it gets its name in one step, or nothing stays.

    Raises
    ------
    StorageError
        If it cannot be written.
    """
    part = path.with_name(f"{path.name}.{os.getpid()}.part")
    try:
        yield part
        part.replace(path)
    except OSError as error:
        let_go(part)
        raise StorageError(path, error.strerror or str(error)) from error
    except BaseException:
        let_go(part)
        raise


def have_folder(path: Path) -> Path:
    """Return a folder that is there, made where it was not.

    Raises
    ------
    StorageError
        If it cannot be made.
    """
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise StorageError(path, error.strerror or str(error)) from error
    return path
