"""Movies with good sound: the picture's packets are the original's, the sound is exact, and strangers read the same."""

import json
import subprocess
from fractions import Fraction

import av
import numpy as np
import pytest
import soundfile

from vesk.core.errors import MediaError, StoppedError
from vesk.media.movie import read_facts
from vesk.media.movie_copy import LaidTrack, carried_by, copy_movie
from vesk.media.movie_sound import sound_blocks
from vesk.media.picture_packets import same_part, same_picture
from vesk.media.wave import read_header
from vesk.media.wave_copy import copy_wave

RATES = [(Fraction(25), "10:00:00:00"), (Fraction(24000, 1001), "23:59:58:10"), (Fraction(30000, 1001), "00:59:58;02")]


def make(path, fps=Fraction(25), *, codec="libx264", label="10:00:00:00", sound="pcm_s16le", streams=(1,), frames=60):
    """Make a short movie with a picture that changes, B-frames where its coder has them, and sound of its own."""
    rng = np.random.default_rng(3)
    options = {"movflags": "use_metadata_tags"} if path.suffix == ".mov" else {}
    with av.open(str(path), "w", options=options) as out:
        video = out.add_stream(codec, rate=fps)
        video.width, video.height, video.pix_fmt = 128, 72, "yuv420p"
        if codec == "libx264":
            video.options = {"bf": "2", "g": "12"}
        video.metadata["timecode"] = label
        tracks = []
        for channels in streams if sound else ():
            one = out.add_stream(sound, rate=48_000)
            one.codec_context.layout = {1: "mono", 2: "stereo"}[channels]
            tracks.append((one, channels))
        out.metadata["scene"] = "31A"
        for n in range(frames):
            image = np.full((72, 128, 3), (4 * n) % 256, np.uint8)
            frame = av.VideoFrame.from_ndarray(image, format="rgb24").reformat(format="yuv420p")
            frame.pts, frame.time_base = n, 1 / fps
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
        for one, channels in tracks:
            whole = (rng.standard_normal((round(frames / fps * 48_000), channels)) * 3000).astype(np.int16)
            frame = av.AudioFrame.from_ndarray(whole.reshape(1, -1), format="s16", layout=one.codec_context.layout.name)
            frame.sample_rate, frame.pts, frame.time_base = 48_000, 0, Fraction(1, 48_000)
            for packed in av.AudioResampler(
                format=one.codec_context.format, layout=one.codec_context.layout, rate=48_000
            ).resample(frame):
                for part in _parts(packed, one):
                    out.mux(one.encode(part))
            out.mux(one.encode(None))
    return path


def _parts(frame, stream):
    """Give a coder that takes so many samples at once as many."""
    size = stream.codec_context.frame_size
    if not size:
        return [frame]
    fifo = av.AudioFifo()
    fifo.write(frame)
    return fifo.read_many(size) + [one for one in [fifo.read(0)] if one is not None]


@pytest.fixture
def laid(tmp_path):
    """Return good sound, three channels of it, as long as sixty frames at 25."""
    wave = (np.random.default_rng(8).integers(-(2**23), 2**23, (round(60 / 25 * 48_000), 3)) << 8).astype(np.int32)
    soundfile.write(tmp_path / "laid.wav", wave, 48_000, subtype="PCM_24")
    return tmp_path / "laid.wav"


def told(path):
    """Return what a program that is not ours says of a movie, by kind of track."""
    out = subprocess.run(["mediainfo", "--Output=JSON", str(path)], check=True, capture_output=True).stdout
    found = {}
    for track in json.loads(out)["media"]["track"]:
        found.setdefault(track["@type"], []).append(track)
    return found


@pytest.mark.parametrize(("fps", "label"), RATES)
@pytest.mark.parametrize("ending", [".mov", ".mp4"])
def test_the_picture_passes_packet_by_packet_and_good_sound_begins_with_its_first_frame(
    tmp_path, laid, fps, label, ending
):
    source = make(tmp_path / f"A001{ending}", fps, label=label, sound="aac" if ending == ".mp4" else "pcm_s16le")
    before = source.read_bytes()
    carried = carried_by(source, "h264")
    assert (carried.ending, bool(carried.remark)) == (".mov", ending == ".mp4")
    target = tmp_path / f"made{carried.ending}"
    copy_movie(source, target, tracks=[LaidTrack(laid, (0, 1), "mix"), LaidTrack(laid, (2,), "boom")])
    assert source.read_bytes() == before
    assert same_picture(source, target)
    facts = read_facts(target)
    assert (facts.timecode, facts.fps, facts.frames, facts.channels) == (label, fps, 60, 4)
    heard = np.concatenate(list(sound_blocks(target)))
    good, _ = soundfile.read(laid, dtype="float32", always_2d=True)
    assert np.array_equal(heard[: len(good), :3], good)
    scratch = np.concatenate(list(sound_blocks(source)))
    count = min(len(scratch), len(heard))
    assert np.abs(heard[:count, 3] - scratch[:count, 0]).max() < 1e-6  # behind it, as it lay
    stranger = told(target)
    assert stranger["Video"][0]["FrameCount"] == "60"
    assert [one["Channels"] for one in stranger["Audio"]] == ["2", "1", "1"]
    assert [one.get("BitDepth") for one in stranger["Audio"]][:2] == ["24", "24"]
    assert [one.get("Default", "Yes") for one in stranger["Audio"]] == ["Yes", "No", "No"]  # one sound at a time
    assert stranger["Other"][0]["TimeCode_FirstFrame"] == label


def test_the_scratch_may_stay_away_and_another_timecode_may_count(tmp_path, laid):
    source = make(tmp_path / "A001.mov", streams=(1, 1))
    target = tmp_path / "made.mov"
    copy_movie(source, target, tracks=[LaidTrack(laid, (0,), "mix")], scratch=False, timecode="13:40:00:05")
    assert read_facts(target).channels == 1
    assert read_facts(target).timecode == "13:40:00:05"
    assert told(target)["Other"][0]["TimeCode_FirstFrame"] == "13:40:00:05"
    assert read_facts(target).scene == "31A"


@pytest.mark.parametrize(("fps", "plays"), [(Fraction(24000, 1001), 25), (Fraction(30000, 1001), 30), (25, 24)])
def test_a_picture_that_is_retimed_plays_at_its_rate_in_packets_as_they_were(tmp_path, laid, fps, plays):
    source = make(tmp_path / "A001.mov", Fraction(fps), label="10:00:00:10")
    stretch = Fraction(fps) / plays
    target = tmp_path / "made.mov"
    copy_movie(source, target, tracks=[LaidTrack(laid, (0,), "mix")], timecode="10:00:00:11", stretch=stretch)
    assert same_picture(source, target, stretch)
    assert not same_picture(source, target)
    facts = read_facts(target)
    assert (facts.fps, facts.timecode, facts.timecode_rate, facts.channels) == (plays, "10:00:00:11", plays, 1)
    stranger = told(target)
    assert float(stranger["Video"][0]["FrameRate"]) == plays
    assert [(one["FrameRate"], one["TimeCode_FirstFrame"]) for one in stranger["Other"]] == [
        (f"{plays}.000", "10:00:00:11")
    ]
    copy_movie(source, target, tracks=[LaidTrack(laid, (0,), "mix")], kept=(24, 48), stretch=stretch)
    assert same_part(source, target, (24, 48), stretch)


def test_an_mxf_of_a_coder_it_holds_stays_one_and_another_becomes_a_mov(tmp_path, laid):
    source = make(tmp_path / "A001.mxf", codec="mpeg2video")
    assert carried_by(source, "mpeg2video").ending == ".mxf"
    assert carried_by(source, "h264").ending == ".mov"
    target = tmp_path / "made.mxf"
    copy_movie(source, target, tracks=[LaidTrack(laid, (0,), "mix")], scratch=False)
    assert same_picture(source, target)
    heard = np.concatenate(list(sound_blocks(target)))
    good, _ = soundfile.read(laid, dtype="float32", always_2d=True)
    assert np.array_equal(heard[: len(good), 0], good[:, 0])
    assert read_facts(target).timecode == "10:00:00:00"


def test_a_container_that_counts_in_other_ticks_holds_the_same_picture_and_another_picture_does_not(tmp_path, laid):
    source = make(tmp_path / "A001.mkv", RATES[1][0])  # it counts milliseconds
    assert carried_by(source, "h264").ending == ".mov"
    copy_movie(source, tmp_path / "made.mov", tracks=[LaidTrack(laid, (0,), "mix")], timecode="10:00:00:00")
    assert same_picture(source, tmp_path / "made.mov")
    # It leaves out when its first frames are decoded, and rounds when all are shown: nothing is lost, all is exact.
    (stranger,) = told(tmp_path / "made.mov")["Video"]
    assert (stranger["FrameCount"], stranger["FrameRate_Mode"], stranger["FrameRate"]) == ("60", "CFR", "23.976")
    copy_movie(source, tmp_path / "part.mov", tracks=[LaidTrack(laid, (0,), "mix")], kept=(5, 20))
    assert same_part(source, tmp_path / "part.mov", (5, 20))
    shorter = make(tmp_path / "A002.mov", RATES[1][0], frames=59)
    slower = make(tmp_path / "A003.mov", RATES[0][0])
    assert not same_picture(source, shorter)
    assert not same_picture(tmp_path / "made.mov", slower)


def test_timecode_is_silenced_and_nothing_else_of_the_sound_changes(tmp_path):
    source = make(tmp_path / "C001.mov", streams=(2, 1))
    target = tmp_path / "made.mov"
    copy_movie(source, target, timecode="13:40:00:05", silent={1})
    own, made = (np.concatenate(list(sound_blocks(path))) for path in (source, target))
    assert not made[:, 1].any()
    assert np.array_equal(made[:, [0, 2]], own[:, [0, 2]])
    copy_movie(source, target, silent={2})  # a track of its own is left out
    assert np.array_equal(np.concatenate(list(sound_blocks(target))), own[:, :2])
    coded = make(tmp_path / "C002.mp4", sound="aac", streams=(2,))
    with pytest.raises(MediaError, match="cannot be silenced"):
        copy_movie(coded, target, silent={1})


def test_what_is_stopped_or_damaged_leaves_nothing_that_looks_finished(tmp_path, laid):
    source = make(tmp_path / "A001.mov")
    target = tmp_path / "made.mov"
    with pytest.raises(StoppedError, match="stopped"):
        copy_movie(source, target, tracks=[LaidTrack(laid, (0,), "mix")], go_on=lambda: False)
    assert {one.name for one in tmp_path.iterdir()} == {"A001.mov", "laid.wav"}
    source.write_bytes(source.read_bytes()[:3000])
    with pytest.raises(MediaError):
        copy_movie(source, target, tracks=[LaidTrack(laid, (0,), "mix")])
    assert {one.name for one in tmp_path.iterdir()} == {"A001.mov", "laid.wav"}


@pytest.mark.parametrize("subtype", ["PCM_24", "PCM_16", "FLOAT"])
def test_a_wave_gets_its_true_time_reference_and_every_other_byte_of_sound_stays(tmp_path, subtype):
    source, target = tmp_path / "S1.wav", tmp_path / "made.wav"
    soundfile.write(source, np.random.default_rng(2).standard_normal((4801, 3)) * 0.1, 48_000, subtype=subtype)
    before = source.read_bytes()
    copy_wave(source, target, time_reference=(5 << 32) + 17, silent={2})
    assert source.read_bytes() == before
    assert read_header(target).bext.time_reference == (5 << 32) + 17
    own, made = (soundfile.read(path, dtype="float64", always_2d=True)[0] for path in (source, target))
    assert np.array_equal(own[:, :2], made[:, :2])
    assert not made[:, 2].any()
    copy_wave(target, source.with_name("again.wav"), time_reference=4)
    assert read_header(source.with_name("again.wav")).bext.time_reference == 4
    assert source.with_name("again.wav").stat().st_size == target.stat().st_size


def test_a_copy_of_a_long_wave_says_its_length_where_rf64_says_it(tmp_path):
    source, target = tmp_path / "S1.wav", tmp_path / "made.wav"
    soundfile.write(source, np.ones((480, 1), np.float32) * 0.25, 48_000, format="RF64", subtype="PCM_24")
    assert source.read_bytes()[:4] == b"RF64"
    copy_wave(source, target, time_reference=99)
    data = target.read_bytes()
    assert (data[:4], data[4:8]) == (b"RF64", b"\xff" * 4)
    assert int.from_bytes(data[20:28], "little") == len(data) - 8  # with the `bext` that was put in
    assert read_header(target).bext.time_reference == 99
    assert np.array_equal(soundfile.read(source)[0], soundfile.read(target)[0])
    with pytest.raises(StoppedError):
        copy_wave(source, tmp_path / "other.wav", time_reference=0, go_on=lambda: False)
    assert not (tmp_path / "other.wav").exists()


def greys(path):
    """Return how bright each frame is that is shown: what is decoded only for others is not."""
    with av.open(str(path)) as container:
        return [round(float(one.to_ndarray(format="gray").mean())) for one in container.decode(video=0)]


@pytest.mark.parametrize("kept", [(12, 30), (17, 40), (0, 5), (31, 60), (7, 8)])
@pytest.mark.parametrize("ending", [".mov", ".mp4"])
def test_a_part_begins_with_its_first_frame_and_with_its_sound(tmp_path, kept, ending):
    source = make(tmp_path / f"A001{ending}", sound="aac" if ending == ".mp4" else "pcm_s16le")
    first, last = kept
    good = (np.random.default_rng(8).integers(-(2**23), 2**23, (1920 * (last - first), 1)) << 8).astype(np.int32)
    soundfile.write(tmp_path / "laid.wav", good, 48_000, subtype="PCM_24")
    target = tmp_path / "made.mov"
    copy_movie(
        source, target, tracks=[LaidTrack(tmp_path / "laid.wav", (0,), "mix")], kept=kept, timecode="10:00:00:00"
    )
    assert same_part(source, target, kept)
    assert not same_part(source, target, (kept[0] - 1 if kept[0] else 1, kept[1]))
    # Decoded by the edit list: the frames that were asked for, whole, and at most two more.
    shown, every = greys(target), greys(source)
    assert last - first <= len(shown) <= last - first + 2
    assert np.array_equal(shown, every[first : first + len(shown)])
    heard = np.concatenate(list(sound_blocks(target)))
    sound, _ = soundfile.read(tmp_path / "laid.wav", dtype="float32", always_2d=True)
    assert np.array_equal(heard[: len(sound), :1], sound)
    scratch = np.concatenate(list(sound_blocks(source)))[first * 1920 :]
    count = min(len(scratch), len(sound))
    likeness = 0.5 if ending == ".mp4" else 0.999  # noise that is coded is made anew by every decoder
    assert np.corrcoef(heard[:count, 1], scratch[:count, 0])[0, 1] > likeness
    assert told(target)["Other"][0]["TimeCode_FirstFrame"] == "10:00:00:00"


@pytest.mark.parametrize("kept", [(30, 50), (46, 60), (40, 47), (80, 100)])
def test_a_part_of_a_picture_that_lost_frames_begins_where_its_sound_does(tmp_path, kept):
    # Numbers count what was lost: packet 30 is not frame 30, and the part would begin before its sound.
    lost = {*range(10, 20), 45, 46, 47, 58, 59}
    with av.open(str(tmp_path / "phone.mov"), "w") as out:
        stream = out.add_stream("mpeg4", rate=25, options={"qscale": "2"})
        stream.width, stream.height, stream.pix_fmt, stream.codec_context.gop_size = 128, 72, "yuv420p", 6
        for number in sorted({*range(100)} - lost):
            frame = av.VideoFrame.from_ndarray(np.full((72, 128, 3), 20 + 2 * number, np.uint8), format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1, 25)
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    source, target = tmp_path / "phone.mov", tmp_path / "made.mov"
    copy_movie(source, target, kept=kept)
    assert same_part(source, target, kept)

    def shown(path, first=0):
        """Return how bright what is shown is, a frame of the rate after the other, by time stamps."""
        with av.open(str(path)) as container:
            video = container.streams.video[0]
            frames = [(float(one.pts * video.time_base), float(one.to_ndarray(format="gray").mean()))
                      for one in container.decode(video)]  # fmt: skip
        times = (first + np.arange(kept[1] - kept[0]) + 0.5) / 25
        return [next(grey for at, grey in reversed(frames) if at <= time) for time in times]

    assert shown(target) == shown(source, kept[0])
    with pytest.raises(MediaError, match="it has no frames"):
        copy_movie(source, tmp_path / "beyond.mov", kept=(90, 101))


def test_a_part_that_leans_on_what_mxf_cannot_hide_goes_out_as_mov(tmp_path, laid):
    source = make(tmp_path / "A001.mxf", codec="mpeg2video")
    with pytest.raises(MediaError, match="which MXF cannot hide"):
        copy_movie(source, tmp_path / "made.mxf", tracks=[LaidTrack(laid, (0,), "mix")], kept=(5, 20))
    carried = carried_by(source, "mpeg2video", (5, 20))
    assert (carried.ending, carried_by(source, "mpeg2video", (0, 20)).ending) == (".mov", ".mxf")
    assert "cannot hide" in carried.remark
    copy_movie(source, tmp_path / "made.mov", tracks=[LaidTrack(laid, (0,), "mix")], kept=(5, 20))
    assert same_part(source, tmp_path / "made.mov", (5, 20))
    with pytest.raises(MediaError, match="has no frames 50 to 90"):
        copy_movie(source, tmp_path / "made.mxf", tracks=[LaidTrack(laid, (0,), "mix")], kept=(50, 90))
    assert not (tmp_path / "made.mxf").exists()
