"""Samples of any recording, by range: from the file where that is quick, else from a copy in the cache."""

from __future__ import annotations

import os
from pathlib import Path
from typing import BinaryIO, Protocol, Self

import numpy as np
import soundfile
from numpy.typing import NDArray

from vesk.core.errors import MediaError
from vesk.media import wave

_AGAIN = "It is damaged, or was cut while it was read: copy it again from the card."


class Samples(Protocol):
    """Random access to a recording's samples, whatever files they lie in; silence outside them.

    Attributes
    ----------
    sample_rate, channels, frames : int
    """

    sample_rate: int
    channels: int
    frames: int

    def read(self, start: int, count: int) -> NDArray[np.float32]:
        """Read samples ``start`` to ``start + count`` as float32 (count, channels)."""
        ...

    def close(self) -> None:
        """Let go of the files."""
        ...

    def __enter__(self) -> Self: ...

    def __exit__(self, *_: object) -> None: ...


class SoundReader:
    """One sound file's `Samples`. Opened read-only.

    Attributes
    ----------
    sample_rate, channels, frames : int
        Of the file; Hz, and samples of each channel.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._raw: BinaryIO | None = None
        self._file: soundfile.SoundFile | None = None
        try:
            header = _by_layout(path)
            if header is not None:
                self._raw, self._header = path.open("rb"), header
                self.sample_rate, self.channels, self.frames = header.sample_rate, header.channels, header.samples
                return
            # As bytes: a name need not be text.
            self._file = soundfile.SoundFile(os.fsencode(path), "r")
        except FileNotFoundError as error:
            raise MediaError(path, "it is not there any more", "Connect the disk, or take it in again.") from error
        except (soundfile.LibsndfileError, OSError) as error:
            reason = "it is not there any more" if not path.exists() else "its sound cannot be read"
            raise MediaError(path, reason, "Connect the disk or copy it again.") from error
        self.sample_rate = int(self._file.samplerate)
        self.channels = int(self._file.channels)
        self.frames = int(self._file.frames)

    def read(self, start: int, count: int) -> NDArray[np.float32]:
        """Read samples ``start`` to ``start + count`` as float32 (count, channels).

        Raises
        ------
        MediaError
            If the file gives fewer than it said when it was opened: silence in their place would be a lie.
        """
        low, high = max(0, start), min(self.frames, start + count)
        if high <= low:
            return np.zeros((count, self.channels), np.float32)
        try:
            got = self._read(low, high - low)
        except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
            raise MediaError(self.path, "its sound cannot be read to its end", _AGAIN) from error
        if got.shape[0] != high - low:
            raise MediaError(self.path, f"its sound ends at sample {low + got.shape[0]} of {self.frames}", _AGAIN)
        if high - low == count:
            return got
        out = np.zeros((count, self.channels), np.float32)
        out[low - start : high - start] = got
        return out

    def _read(self, start: int, count: int) -> NDArray[np.float32]:
        if self._raw is not None:
            return wave.read_samples(self._raw, self._header, start, count)
        assert self._file is not None  # noqa: S101 - one of the two is open
        self._file.seek(start)
        return np.asarray(self._file.read(count, dtype="float32", always_2d=True))

    def close(self) -> None:
        """Close the file."""
        for one in (self._file, self._raw):
            if one is not None:
                one.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _by_layout(path: Path) -> wave.WaveHeader | None:
    """Return the header of a WAV whose samples the library would not find by its chunks; None of any other file."""
    with path.open("rb") as file:
        if file.read(4) not in wave.FORMS:
            return None
    try:
        header = wave.read_header(path)
    except MediaError:
        return None
    return header if header.by_layout else None
