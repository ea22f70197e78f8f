"""Walk a folder of media: every file once, in a settled order, never outside it."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from vesk.core.errors import MediaError
from vesk.media.probe import BESIDE_ENDINGS


@dataclass(frozen=True, slots=True)
class Found:
    """A file, or a place that could not be read (`problem` says why)."""

    path: Path
    problem: str = ""


def allowed(folder: Path, roots: tuple[Path, ...]) -> Path:
    """Return the folder's real path if it lies under an allowed media root.

    Raises
    ------
    MediaError
        If it does not, or is no folder.
    """
    real = folder.expanduser().resolve()
    if not any(real == root or root in real.parents for root in (r.resolve() for r in roots)):
        names = ", ".join(str(root) for root in roots) or "none is set"
        raise MediaError(folder, "it is outside the folders Vesk may read", f"Allowed: {names}.")
    if not real.is_dir():
        raise MediaError(folder, "there is no such folder", "Connect the disk or look at the spelling.")
    return real


def shown(path: Path, root: Path) -> str:
    """Return a file's path below the folder as text: bytes that are no text are written as escapes."""
    name = str(path.relative_to(root)) if root in path.parents else path.name
    return name.encode("utf-8", "backslashreplace").decode("utf-8")


def walk(folder: Path, *, paperwork: bool = False) -> Iterator[Found]:
    """Walk a folder's files; hidden ones, links that leave the folder, and, unless asked, paperwork are passed over."""
    problems: list[OSError] = []
    root = folder.resolve()
    for place, folders, files in os.walk(root, onerror=problems.append):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in sorted(files):
            path = Path(place, name)
            if name.startswith(".") or (not paperwork and path.suffix.lower() in BESIDE_ENDINGS):
                continue
            if path.is_symlink() and root not in path.resolve().parents:
                yield Found(path, "it is a link that leads out of the folder; it is not followed")
                continue
            yield Found(path)
    for problem in problems:
        reason = f"this folder cannot be read ({problem.strerror}); look at its permissions"
        yield Found(Path(problem.filename), reason)
