"""Look through the folders that may be read, to choose one: what lies in each, counted."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from natsort import natsorted

from vesk.media import scan
from vesk.media.probe import MOVIE_ENDINGS, SOUND_ENDINGS

MOST_COUNTED = 20_000  # entries looked at below one folder: a whole disk is not walked to show a number
MOST_SHOWN = 500


@dataclass(frozen=True, slots=True)
class Counted:
    """A folder with what lies in it and below.

    Attributes
    ----------
    path : Path
    name : str
    movies, sounds : int
        Files that look like recordings, by their endings.
    more : bool
        Whether there is more than was counted.
    problem : str
        Why it cannot be looked into; empty when it can.
    """

    path: Path
    name: str
    movies: int
    sounds: int
    more: bool
    problem: str


@dataclass(frozen=True, slots=True)
class Looked:
    """What looking at a folder shows.

    Attributes
    ----------
    here : Counted or None
        The folder; None where the allowed ones are shown.
    above : Path or None
        The one it lies in; None at the top.
    folders : list of Counted
        Those in it.
    chosen : bool
        Whether it was asked for, rather than looked into because there is no other.
    others : bool
        Whether more than one folder may be read.
    """

    here: Counted | None
    above: Path | None
    folders: list[Counted]
    chosen: bool
    others: bool


def look(folder: Path | None, roots: tuple[Path, ...]) -> Looked:
    """Look at a folder below the allowed ones; None: at these themselves, into it where it is one.

    Raises
    ------
    MediaError
        If it is not one that may be read.
    """
    there = [root for root in roots if root.is_dir()]
    if folder is None and len(there) != 1:
        return Looked(None, None, [_counted(root, str(root)) for root in there], chosen=False, others=len(there) > 1)
    real = scan.allowed(folder or there[0], roots)
    top = real in {root.resolve() for root in roots}
    inside = natsorted((path for path in _entries(real) if _is_folder(path)), key=lambda path: path.name)
    found = [_counted(path, path.name) for path in inside[:MOST_SHOWN]]
    above = None if top else real.parent
    return Looked(
        _counted(real, real.name), above, found, chosen=folder is not None, others=len(there) > 1
    )  # fmt: skip


def _is_folder(path: Path) -> bool:
    """Say whether a folder is one to choose: no hidden one, no link, and its name is text."""
    hidden = path.name.startswith(".") or path.is_symlink()
    return not hidden and path.is_dir() and scan.as_text(str(path)) == str(path)


def _entries(folder: Path) -> Iterator[Path]:
    try:
        with os.scandir(folder) as entries:
            yield from [Path(entry.path) for entry in entries]
    except OSError:
        return


def _counted(folder: Path, name: str) -> Counted:
    movies = sounds = seen = 0
    problems: list[OSError] = []
    for _place, folders, files in os.walk(folder, onerror=problems.append):
        folders[:] = sorted(one for one in folders if not one.startswith("."))
        for one in files:
            seen += 1
            ending = Path(one).suffix.lower()
            movies += ending in MOVIE_ENDINGS and not one.startswith(".")
            sounds += ending in SOUND_ENDINGS and not one.startswith(".")
        if seen > MOST_COUNTED:
            break
    own = next((one for one in problems if os.fsdecode(one.filename or b"") == str(folder)), None)
    problem = f"it cannot be looked into ({own.strerror})" if own else ""
    return Counted(folder, name, movies, sounds, seen > MOST_COUNTED, problem)
