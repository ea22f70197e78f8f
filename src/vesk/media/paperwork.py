"""Text that comes with a day's media: reports as tables."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from vesk.core.errors import MediaError
from vesk.media import scan

ENDINGS = {".csv", ".tsv"}
MOST_BYTES = 4 << 20


def decode(data: bytes) -> str:
    """Return text from bytes: UTF-16 with its mark, UTF-8, else Latin-1, which no byte contradicts."""
    if data[:2] in {b"\xff\xfe", b"\xfe\xff"}:
        return data.decode("utf-16", "replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def read_text(path: Path) -> str:
    """Read a text file.

    Raises
    ------
    MediaError
        If it cannot be read, or is larger than any report.
    """
    try:
        with path.open("rb") as file:
            data = file.read(MOST_BYTES + 1)
    except OSError as error:
        raise MediaError(
            path, f"it cannot be opened ({error.strerror or error})", "Look at its permissions."
        ) from error
    if len(data) > MOST_BYTES:
        raise MediaError(path, "it is larger than any report", "Is it the right file?")
    return decode(data)


def tables(folder: Path) -> Iterator[Path]:
    """Yield the tables that lie beside a day's media, never outside its folder."""
    for item in scan.walk(folder, paperwork=True):
        if not item.problem and item.path.suffix.lower() in ENDINGS:
            yield item.path
