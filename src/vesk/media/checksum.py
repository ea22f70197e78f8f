"""Know a file by its content: a hash of all its bytes, and, until those were read, by how it lies on disk."""

from __future__ import annotations

import hashlib
import os
from dataclasses import dataclass
from pathlib import Path

import xxhash

from vesk.core.errors import MediaError
from vesk.core.progress import OnProgress, unwatched

_PIECE = 1 << 16
_BLOCK = 8 << 20
WHOLE, UNREAD = "w", "u"
_TRIES = 3


def whole_hash(path: Path, on_progress: OnProgress = unwatched) -> str:
    """Return a 128-bit hash of every byte of a file (XXH3), marked as such.

    One that only gets another link, owner or mode meanwhile, or whose time was set back, is read once more.

    Raises
    ------
    MediaError
        If it cannot be read to its end, or changes while it is read.
    """
    last = ""
    for _ in range(_TRIES):
        try:
            content, before, after = _read(path, on_progress)
        except OSError as error:
            gone = not path.exists()
            reason = "it is not there any more" if gone else f"it cannot be read ({error.strerror or error})"
            raise MediaError(path, reason, "Connect the disk or copy it again.") from error
        if before == after or (content == last and _written(before) == _written(after)):
            return content
        if _written(before) != _written(after):
            break
        last = content
    raise MediaError(path, "it changed while it was read", "Let it be copied to its end, and take it in again.")


def _read(path: Path, on_progress: OnProgress) -> tuple[str, tuple[int, ...], tuple[int, ...]]:
    """Read a file once: its hash, and how it lay before and after."""
    digest, done = xxhash.xxh3_128(), 0
    with path.open("rb", buffering=0) as file:
        before = os.fstat(file.fileno())
        while block := file.read(_BLOCK):
            digest.update(block)
            done += len(block)
            on_progress(done >> 20, before.st_size >> 20)
        after = os.fstat(file.fileno())
    return f"{WHOLE}{digest.hexdigest()}", _told(before), _told(after)


def _told(stat: os.stat_result) -> tuple[int, ...]:
    return stat.st_size, stat.st_mtime_ns, stat.st_ino, stat.st_ctime_ns


def _written(told: tuple[int, ...]) -> tuple[int, ...]:
    """Return of how a file lies what writing to it changes: all but the time at which its state changed."""
    return told[:-1]


@dataclass(frozen=True, slots=True)
class AsRead:
    """A file whose content is known, and how it lay when that was read."""

    path: Path
    content: str
    told: tuple[int, ...]

    @classmethod
    def of(cls, path: Path, content: str) -> AsRead:
        """Note how a file lies now that is known to hold `content`."""
        return cls(path, content, _told(path.stat()))

    def holds(self) -> bool:
        """Say whether nobody wrote to it since; where only its state changed, every byte is read for that."""
        try:
            now = _told(self.path.stat())
            return now == self.told or (_written(now) == _written(self.told) and whole_hash(self.path) == self.content)
        except (OSError, MediaError):
            return False


def unread(path: Path) -> str:
    """Return a name for a file not read to its end yet: no two files share it, and a changed one has another."""
    stat = path.stat()
    told = [os.fsencode(path.resolve()), *(str(value).encode() for value in _told(stat))]
    return UNREAD + hashlib.blake2b(b"\n".join(told), digest_size=16).hexdigest()


def is_whole(content: str) -> bool:
    """Say whether a content hash is one of every byte."""
    return content.startswith(WHOLE)


def content_of(path: Path, cache: Path, *, anew: bool = False, on_progress: OnProgress = unwatched) -> str:
    """Return the hash of every byte of a file, remembered for as long as it lies as it does.

    A file is taken for unchanged only where its name, size, inode, and the times of its last change and of its last
    change of state are the same; the kernel sets the last of these, and no program can set it back.

    Parameters
    ----------
    path : Path
    cache : Path
        Where it is remembered.
    anew : bool
        Read it again all the same.
    on_progress : OnProgress
        Told the MiB that were read.
    """
    known = cache / "known" / unread(path)
    if not anew:
        try:
            kept = known.read_text(encoding="ascii")
        except OSError:
            kept = ""
        if is_whole(kept) and len(kept) == 33:
            return kept
    content = whole_hash(path, on_progress)
    try:
        known.parent.mkdir(parents=True, exist_ok=True)
        part = known.with_name(f"{known.name}.{os.getpid()}.part")
        part.write_text(content, encoding="ascii")
        part.replace(known)
    except OSError:
        pass  # remembering is a convenience: a full disk shows where it matters
    return content


def pieces(path: Path) -> bytes:
    """Return a digest of a file's size and three pieces of it: files in which it differs are no copies.

    To be sure of those in which it does not, compare them whole.

    Raises
    ------
    OSError
        If it cannot be read.
    """
    size = path.stat().st_size
    digest = hashlib.blake2b(str(size).encode(), digest_size=16)
    with path.open("rb") as file:
        for at in (0, max(0, size // 2 - _PIECE // 2), max(0, size - _PIECE)):
            file.seek(at)
            digest.update(file.read(_PIECE))
    return digest.digest()
