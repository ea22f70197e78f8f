"""Decode picture frames in a process of their own, never in the web process."""

from __future__ import annotations

from functools import partial

from vesk.dailies.located import Located, decode_frames
from vesk.media.guarded import guarded

_WAIT_S = 15


def ensure_frames(place: Located, indices: list[int], *, large: bool = False) -> None:
    """Have frames decoded and kept; a damaged file costs only itself."""
    if not all(place.entry.frame(index, large=large).exists() for index in indices):
        guarded(place.path, _WAIT_S, partial(decode_frames, large=large), place, indices)
