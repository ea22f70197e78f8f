"""Frames as they are meant to be seen: a telephone held upright, pixels that are wider than high."""

from fractions import Fraction

import av
import numpy as np
import pytest

from vesk.core.errors import MediaError
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


@pytest.mark.parametrize("ending", ["mov", "mts", "mkv"])
def test_a_recording_that_begins_amid_a_group_of_frames_is_shown_at_its_own_numbers(tmp_path, ending):
    """Its first frames lean on one that is not in the file: until the first key the picture of that stands."""
    path, form = tmp_path / f"a.{ending}", {"mov": "mov", "mts": "mpegts", "mkv": "matroska"}[ending]
    with av.open(str(path), "w", format=form) as out:
        video = out.add_stream("libx264", rate=25)
        video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
        video.codec_context.gop_size = 12
        video.options = {"bf": "0"}
        packets = []
        for number in range(60):
            frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), 4 * number, np.uint8), format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1, 25)
            packets += video.encode(frame)
        for packet in [*packets, *video.encode(None)][5:]:
            out.mux(packet)
    grey = grey_frames(path, 0, 20, height=48).mean(axis=(1, 2))
    wanted = [4 * max(number + 5, 12) for number in range(20)]
    assert grey == pytest.approx(wanted, abs=2)
    shown = {number: np.asarray(image.convert("L")).mean() for number, image in frame_images(path, [3, 30], height=48)}
    assert shown == {3: pytest.approx(48, abs=2), 30: pytest.approx(140, abs=2)}


def test_a_damaged_packet_costs_its_own_frames_and_not_the_others(tmp_path):
    path = movie(tmp_path / "a.mov")
    with av.open(str(path)) as opened:
        places = [(packet.pos, packet.size) for packet in opened.demux(video=0) if packet.size]
    data = bytearray(path.read_bytes())
    for damaged, seen in (([1], {0, 2, 3, 4}), (range(len(places)), None)):
        for pos, size in (places[number] for number in damaged):
            data[pos : pos + size] = bytes(size)
        path.write_bytes(bytes(data))
        if seen is None:
            with pytest.raises(MediaError):
                list(numbered_frames(path, lines=48))
        else:
            assert {number for number, _ in numbered_frames(path, lines=48)} >= seen
