"""A movie's frames, decoded: with square pixels, the right way up, scaled down. Opened read-only, always."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from av import VideoFrame
from av.video.reformatter import VideoReformatter
from numpy.typing import NDArray

from vesk.media.movie import decoded, numbered, numbering, opened, picture_stream, shown_frames

_STEPS_BACK_S = (0.0, 12.0, float("inf"))  # where no index tells, a search may land too late
_WIDEST = 4.0  # of a pixel, to its height: beyond, what a header tells of it is nonsense


class _Upright:
    """Makes frames of a picture as they are meant to be seen; all by one scaler: making one costs more than using it.

    Parameters
    ----------
    video : stream
        It knows how wide a pixel is; each frame how it is to be turned (a telephone is held upright).
    lines : int
        That they have at most.
    kind : str
        Their pixel format; of `yuv420p` both sides are even.
    """

    def __init__(self, video: Any, lines: int, kind: str) -> None:
        wide = float(video.sample_aspect_ratio or 1)
        self._wide = wide if 1 / _WIDEST < wide < _WIDEST else 1.0
        self._lines, self._kind = lines, kind
        self._step = 2 if kind == "yuv420p" else 1
        self._how = "FAST_BILINEAR" if kind == "yuv420p" else None
        self._scaler = VideoReformatter()

    def __call__(self, frame: Any) -> Any:
        turns = round(frame.rotation / 90) % 4  # quarters of a turn, to the left
        wide, high = frame.width * self._wide, frame.height
        scale = min(1.0, self._lines / (wide if turns % 2 else high))
        width, height = (self._step * max(1, round(side * scale / self._step)) for side in (wide, high))
        kind = "rgb24" if turns and self._kind == "yuv420p" else self._kind
        small = self._scaler.reformat(frame, width, height, kind, interpolation=self._how)
        if not turns:
            return small
        turned = VideoFrame.from_ndarray(np.ascontiguousarray(np.rot90(small.to_ndarray(), turns)), format=kind)
        turned.pts, turned.time_base = frame.pts, frame.time_base
        return turned if kind == self._kind else turned.reformat(format=self._kind)


def numbered_frames(path: Path, *, lines: int) -> Iterator[tuple[int, Any]]:
    """Decode all of a movie's frames in order, each with its number, yuv420p with so many lines at most."""
    with opened(path) as container:
        video = picture_stream(container, path)
        upright = _Upright(video, lines, "yuv420p")
        for number, frame in numbered(video, decoded(container, video)):
            yield number, upright(frame)


def _frames_at(path: Path, indices: list[int], *, lines: int, kind: str) -> Iterator[tuple[int, Any]]:
    """Decode the frames that are shown at these numbers, counted from the first; those past the end are left out.

    Before the first that can be decoded by itself stands that one: a recording may begin amid a group of frames.
    """
    with opened(path) as container:
        video = picture_stream(container, path)
        upright = _Upright(video, lines, kind)
        base, scale = numbering(video)
        far = 2 * scale / float(video.time_base)  # two seconds of frames: to seek is quicker
        frames: Any = None
        shown: tuple[int, Any] | None = None
        following: tuple[int, Any] | None = None
        for index in sorted({i for i in indices if i >= 0}):
            if shown is None or index < shown[0] or index - shown[0] > far:
                for before_s in _STEPS_BACK_S:
                    target = base + int(max(0.0, index / scale - before_s / float(video.time_base)))
                    _seek(container, video, target)
                    frames = numbered(video, decoded(container, video))
                    shown, following = None, next(frames, None)
                    if target == base or (following is not None and following[0] <= index):
                        break
            while following is not None and following[0] <= index:
                shown, following = following, next(frames, None)
            held = following if shown is None else shown
            if held is None or (following is None and index > held[0] and index >= shown_frames(video)):
                continue
            yield index, upright(held[1])


def _seek(container: Any, video: Any, target: int) -> None:
    """Go to the last frame before a stamp that can be decoded by itself, or to the first one of all."""
    try:
        container.seek(target, stream=video, backward=True)
    except PermissionError:  # the library's word for: there is none before
        container.seek(target, stream=video, backward=False)


def frame_images(path: Path, indices: list[int], *, height: int) -> Iterator[tuple[int, Any]]:
    """Decode exact frames, counted from the first.

    Yields
    ------
    (index, image)
        The image is a PIL image of at most `height` lines, of the frame that is shown at that number; indices past the
        end are left out.
    """
    for index, frame in _frames_at(path, indices, lines=height, kind="rgb24"):
        yield index, frame.to_image()


def grey_frames(path: Path, first: int, count: int, *, height: int = 144) -> NDArray[np.uint8]:
    """Decode consecutive frames as grey pictures (frames, height, width); fewer at the picture's end."""
    frames = _frames_at(path, list(range(first, first + count)), lines=height, kind="gray8")
    pictures = [frame.to_ndarray() for _, frame in frames]
    return np.stack(pictures) if pictures else np.zeros((0, height, 1), np.uint8)
