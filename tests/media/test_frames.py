"""Frames as they are meant to be seen: a telephone held upright, pixels that are wider than high."""

from fractions import Fraction

import av
import numpy as np
import pytest

from vesk.media.frames import frame_images, grey_frames, numbered_frames

TURNED = {-90: (0, 1, -1, 0), 90: (0, -1, 1, 0), 180: (-1, 0, 0, -1)}  # how a movie says it, quarters to the left


def movie(path, *, pixel=None, turned=0):
    """Make a movie of 96 by 48 pixels whose upper left corner is bright."""
    with av.open(str(path), "w") as out:
        video = out.add_stream("mpeg4", rate=25)
        video.width, video.height, video.pix_fmt = 96, 48, "yuv420p"
        if pixel:
            video.codec_context.sample_aspect_ratio = pixel
        for number in range(5):
            picture = np.zeros((48, 96, 3), np.uint8)
            picture[:24, :48] = 255
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1, 25)
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
    if turned:
        data = bytearray(path.read_bytes())
        at = data.index(b"tkhd") + 44  # of its matrix (ISO/IEC 14496-12, 8.3.2)
        for place, one in zip((0, 4, 12, 16), TURNED[turned], strict=True):
            data[at + place : at + place + 4] = (one << 16).to_bytes(4, "big", signed=True)
        path.write_bytes(bytes(data))
    return path


@pytest.mark.parametrize(
    ("turned", "size", "bright"),
    [(0, (72, 36), (0, 0)), (-90, (18, 36), (0, 1)), (90, (18, 36), (1, 0)), (180, (72, 36), (1, 1))],
)
def test_a_picture_is_shown_the_right_way_up(tmp_path, turned, size, bright):
    path = movie(tmp_path / "a.mov", turned=turned)
    _, image = next(frame_images(path, [2], height=36))
    grey, (_, light) = grey_frames(path, 2, 1, height=36)[0], next(numbered_frames(path, lines=36))
    assert image.size == size == grey.shape[::-1] == (light.width, light.height)
    for one in (np.asarray(image.convert("L")), grey, light.to_ndarray(format="gray")):
        halves = [[half.mean() for half in np.array_split(row, 2, axis=1)] for row in np.array_split(one, 2)]
        assert np.unravel_index(np.argmax(halves), (2, 2)) == bright


def test_pixels_wider_than_high_are_shown_so(tmp_path):
    path = movie(tmp_path / "a.mov", pixel=Fraction(4, 3))
    _, image = next(frame_images(path, [2], height=36))
    assert image.size == (96, 36)
