"""Walk a folder of media: every file once, in a settled order, never outside it."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from vesk.core.errors import MediaError
from vesk.core.kinds import Unusable
from vesk.media.probe import BESIDE_ENDINGS

_ESCAPE = re.compile(r"\\(?:\\|x([89A-F][0-9A-F]))")


@dataclass(frozen=True, slots=True)
class Found:
    """A file, or a place that is not read: `problem` says why, and `kind` what that means for the day."""

    path: Path
    problem: str = ""
    kind: Unusable = Unusable.DAMAGED


def allowed(folder: Path, roots: tuple[Path, ...]) -> Path:
    """Return the folder's real path if it lies under an allowed media root.

    Raises
    ------
    MediaError
        If it does not, or is no folder.
    """
    try:
        real = folder.expanduser().resolve()
        known = real.is_dir()
    except (OSError, RuntimeError, ValueError) as error:  # a link to itself, a name too long, no such user
        raise MediaError(folder, f"it cannot be opened ({error})", "Look at the spelling.") from error
    if not any(real == root or root in real.parents for root in (r.resolve() for r in roots)):
        names = ", ".join(str(root) for root in roots) or "none is set"
        raise MediaError(folder, "it is outside the folders Vesk may read", f"Allowed: {names}.")
    if not known:
        raise MediaError(folder, "there is no such folder", "Connect the disk or look at the spelling.")
    return real


def shown(path: Path, root: Path) -> str:
    r"""Return a file's path below the folder as text that can be kept and read back by `placed`.

    Bytes that are no text stand as ``\xE9``, and a backslash is doubled.
    """
    return as_text(str(path.relative_to(root)) if root in path.parents else path.name)


def as_text(name: str) -> str:
    r"""Return a file name as text, reversibly.

    Examples
    --------
    >>> as_text("b\udce9bé.wav"), as_text("31A_01.wav")
    ('b\\xE9bé.wav', '31A_01.wav')
    """
    escaped = name.replace("\\", "\\\\")
    return "".join(f"\\x{ord(c) - 0xDC00:02X}" if 0xDC80 <= ord(c) <= 0xDCFF else c for c in escaped)


def placed(root: Path, path: str) -> Path:
    r"""Return where a file is that is `shown` as `path`.

    Examples
    --------
    >>> placed(Path("/day"), "S1/31A_01.wav"), placed(Path("/day"), as_text("b\udce9.wav")).name == "b\udce9.wav"
    (PosixPath('/day/S1/31A_01.wav'), True)
    """

    def back(found: re.Match[str]) -> str:
        return "\\" if found[1] is None else chr(0xDC00 + int(found[1], 16))

    return Path(root, _ESCAPE.sub(back, path))


def walk(folder: Path, *, paperwork: bool = False) -> Iterator[Found]:
    """Walk a folder's files; hidden ones and, unless asked, paperwork are passed over.

    Links that lead out are told, and what was handed over from here and lies below the folder, which is not looked
    into: the day's own recordings would come in once more, conformed. A package that is the folder itself is walked.
    """
    problems: list[OSError] = []
    root = folder.resolve()
    for place, folders, files in os.walk(root, onerror=problems.append):
        made = (place.endswith(UNFINISHED) and NOTE in files) or (REPORT in files and _is_package(Path(place, REPORT)))
        if made and Path(place) != root:
            folders.clear()
            yield Found(Path(place), _PACKAGE, Unusable.HANDED_OVER)
            continue
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        for name in [name for name in folders if Path(place, name).is_symlink()]:
            yield Found(Path(place, name), "it is a link to a folder; it is not followed. Copy the folder itself here")
        for name in sorted(files):
            path = Path(place, name)
            if name.startswith(".") or (not paperwork and path.suffix.lower() in BESIDE_ENDINGS):
                continue
            yield Found(path, "" if within(path, root) else _LEADS_OUT if _resolves(path) else _LOOP)
    for problem in problems:
        reason = f"this folder cannot be read ({problem.strerror}); look at its permissions"
        yield Found(Path(os.fsdecode(problem.filename)), reason)


REPORT = "report.csv"  # of every package
UNFINISHED, NOTE = " (unfinished)", "UNFINISHED.txt"  # behind a package's name until it is whole, and in it
_REPORT_TELLS = {"picture", "sound", "delivered", "checked_by", "residual_head_ms"}
_PACKAGE = "it is what was handed over from here, conformed already; it is left out"


def _is_package(report: Path) -> bool:
    """Say whether a report is of what was handed over: by the names of its columns."""
    try:
        with report.open(encoding="utf-8", errors="replace") as file:
            return set(file.readline(10_000).strip().split(",")) >= _REPORT_TELLS
    except OSError:
        return False


_LEADS_OUT = "it is a link that leads out of the folder; it is not followed"
_LOOP = "it is a link that leads to itself; there is no file behind it"


def _resolves(path: Path) -> bool:
    try:
        path.resolve()
    except (OSError, RuntimeError):
        return False
    return True


def within(path: Path, root: Path) -> bool:
    """Say whether a file really lies below a folder, links followed. Asked at every opening: links change."""
    try:
        return root in path.resolve().parents
    except (OSError, RuntimeError):
        return False
