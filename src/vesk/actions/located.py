"""A recording with its file, its facts, and what is kept of it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from vesk.core.errors import MediaError
from vesk.media import cache, checksum, probe
from vesk.media.facts import PICTURE, Facts


@dataclass(frozen=True, slots=True)
class Located:
    """A recording on disk."""

    path: Path
    facts: Facts
    kept: cache.Kept

    @property
    def sound_path(self) -> Path:
        """The file whose samples can be read by range."""
        return cache.sound_path(self.path, self.facts, self.kept)

    def ensure_heard(self) -> None:
        """Compute and keep its features and peaks, if that was not done before."""
        if not self.facts.channels:
            what = "scratch sound" if self.facts.kind == PICTURE else "sound"
            raise MediaError(self.path, f"it has no {what}", "It cannot be measured by sound.")
        cache.listen(self.path, self.facts, self.kept)


def locate(path: Path, cache_folder: Path) -> Located:
    """Read a file's facts and find its place in the cache."""
    facts = probe.read_facts(path)
    return Located(path, facts, cache.kept(cache_folder, checksum.fast_hash(path)))
