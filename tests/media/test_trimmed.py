"""Movies that an edit list trims: what stays in the file and is not shown is none of the recording."""

from fractions import Fraction

import av
import numpy as np
import pytest

from vesk.core.timecode import FrameRate
from vesk.media.frames import grey_frames, numbered_frames
from vesk.media.movie import read_facts
from vesk.media.movie_copy import copy_movie
from vesk.media.movie_sound import sound_blocks
from vesk.media.picture_packets import same_picture
from vesk.media.quicktime import TimecodeTrack
from vesk.simulator.trimming import trim

FRAMES, HEAD, TAIL = 120, 31, 25  # off the keys, which come every twelve frames


@pytest.fixture
def whole(tmp_path):
    """Make a movie whose frames lean on later ones, with timecode and a tone that rises."""
    path = tmp_path / "whole.mov"
    at = np.arange(FRAMES * 1920) / 48_000
    tone = np.asarray(np.sin(2 * np.pi * (200 + 90 * at) * at) * 12_000, np.int16)
    with av.open(str(path), "w") as out:
        video = out.add_stream("libx264", rate=25)
        video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
        video.codec_context.gop_size = 12
        video.options = {"bf": "2"}
        video.metadata["timecode"] = "10:00:00:00"
        audio = out.add_stream("pcm_s16le", rate=48_000, layout="mono")
        for number in range(FRAMES):
            frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), 2 * number, np.uint8), format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1, 25)
            out.mux(video.encode(frame))
            own = tone[None, 1920 * number : 1920 * (number + 1)]
            sound = av.AudioFrame.from_ndarray(np.ascontiguousarray(own), format="s16", layout="mono")
            sound.sample_rate, sound.pts, sound.time_base = 48_000, 1920 * number, Fraction(1, 48_000)
            out.mux(audio.encode(sound))
        out.mux(video.encode(None))
        out.mux(audio.encode(None))
    return path


@pytest.fixture
def trimmed(whole, tmp_path):
    path = tmp_path / "trimmed.mov"
    path.write_bytes(whole.read_bytes())
    trim(path, HEAD / 25, TAIL / 25)
    return path


def heard(path):
    return np.concatenate(list(sound_blocks(path)))[:, 0]


def test_only_what_is_shown_counts_and_its_label_is_that_of_its_first_frame(whole, trimmed):
    facts = read_facts(trimmed)
    shown = FRAMES - HEAD - TAIL
    assert (facts.frames, facts.duration, facts.timecode) == (shown, Fraction(shown, 25), "10:00:01:06")
    assert any(f"leaves out {HEAD + TAIL} of its {FRAMES} frames" in one for one in facts.remarks)
    assert [number for number, _ in numbered_frames(trimmed, lines=48)] == list(range(shown))
    assert np.array_equal(grey_frames(trimmed, 0, FRAMES), grey_frames(whole, HEAD, shown))
    assert np.array_equal(heard(trimmed), heard(whole)[HEAD * 1920 :][: shown * 1920])


@pytest.mark.parametrize(("kept", "label"), [(None, "10:00:01:06"), ((5, 40), "10:00:01:11")])
def test_a_movie_made_of_a_trimmed_one_shows_and_sounds_the_same(whole, trimmed, tmp_path, kept, label):
    made = tmp_path / "made.mov"
    copy_movie(trimmed, made, kept=kept, timecode="" if kept is None else label)
    first, until = kept or (0, FRAMES - HEAD - TAIL)
    facts = read_facts(made)
    more = facts.frames - (until - first)  # its last frames may lean on later ones
    assert facts.timecode == label
    assert 0 <= more <= 2 if kept else more == 0
    assert np.array_equal(
        grey_frames(made, 0, FRAMES)[: until - first], grey_frames(whole, HEAD + first, until - first)
    )
    sound = heard(whole)[(HEAD + first) * 1920 : (HEAD + until) * 1920]
    assert np.array_equal(heard(made)[: sound.size], sound)
    assert kept or same_picture(trimmed, made)


def test_a_movie_of_sound_alone_tells_its_timecode(trimmed):
    data = bytearray(trimmed.read_bytes())
    tracks = [at for at in range(len(data)) if data[at : at + 4] == b"trak"]
    picture = next(at for at in tracks if b"vide" in data[at : at + 400])
    data[picture : picture + 4] = b"free"
    trimmed.write_bytes(bytes(data))
    facts = read_facts(trimmed)
    assert (facts.kind, facts.timecode, facts.timecode_rate) == ("sound", "10:00:01:06", 25)
    assert facts.start(FrameRate(Fraction(24)))[0] == 36_000 + Fraction(31, 25)


@pytest.mark.parametrize(
    ("edits", "at", "frames"),
    [
        ((), 0, 0),
        (((Fraction(4), Fraction(2)),), Fraction(1, 2), 62),
        (((Fraction(1), None), (Fraction(9), Fraction(0))), 0, -25),  # it begins a second after the picture
        (((Fraction(1), Fraction(8)), (Fraction(1), Fraction(3))), 1, 75),
        (((Fraction(0), Fraction(2)),), 60, 1550),
    ],
)
def test_an_edit_list_says_which_label_stands_beside_a_moment(edits, at, frames):
    assert TimecodeTrack(Fraction(25), edits).frames_at(Fraction(at)) == frames
