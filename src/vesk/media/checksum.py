"""Know a file by its content."""

from __future__ import annotations

import hashlib
from pathlib import Path

_PIECE = 1 << 16


def fast_hash(path: Path) -> str:
    """Return a hash over a file's size and three pieces of it: quick on any size, the same wherever it lies."""
    size = path.stat().st_size
    digest = hashlib.blake2b(str(size).encode(), digest_size=16)
    with path.open("rb") as file:
        for at in (0, max(0, size // 2 - _PIECE // 2), max(0, size - _PIECE)):
            file.seek(at)
            digest.update(file.read(_PIECE))
    return digest.hexdigest()
