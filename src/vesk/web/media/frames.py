"""Decode picture frames in a process of their own, never in the web process."""

from __future__ import annotations

from vesk.dailies.located import Located, decode_frames
from vesk.media import answering
from vesk.media.cache import FrameSize
from vesk.media.guarded import guarded

_WAIT_S = 15


def ensure_frames(place: Located, indices: list[int], size: FrameSize) -> None:
    """Have frames decoded and kept; a damaged file costs only itself, a disk that hangs five seconds."""
    if not all(place.entry.frame(index, size).exists() for index in indices):
        answering.look(*place.files)
        guarded(place.path, _WAIT_S, decode_frames, place, indices, size)
