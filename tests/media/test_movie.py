"""Movies: facts, exact frames and sample-true sound, from files the simulator made."""

from dataclasses import replace
from fractions import Fraction
from types import SimpleNamespace

import av
import numpy as np
import pytest
from tests.conftest import SHORT, make_shoot

from vesk.actions.handover.products import label_of
from vesk.core.errors import MediaError
from vesk.core.kinds import Flaw
from vesk.core.timecode import FrameRate, Timecode
from vesk.media import cache, frames, movie_sound, probe
from vesk.media.movie import read_facts
from vesk.media.peaks import FIRST_LEVEL, read_peaks
from vesk.media.quicktime import TimecodeTrack, timecode_track
from vesk.media.sound import SoundReader


@pytest.fixture(scope="module")
def short(tmp_path_factory):
    text = SHORT.format(rate="23.976", jam="09:00:00", start="10:00:00:00")
    return make_shoot(text, tmp_path_factory.mktemp("short"))


@pytest.fixture
def mov(short):
    return next(short.folder.rglob("*.mov"))


def test_facts_come_from_the_file(mov, short):
    facts = probe.read_facts(mov)
    assert facts.fps == Fraction(24000, 1001)
    assert facts.frames == 215  # 9 s hold 215 whole frames
    assert facts.duration == Fraction(215 * 1001, 24000)
    assert (facts.timecode, facts.drop, facts.codec) == ("10:00:00:00", False, "h264")
    assert (facts.sample_rate, facts.channels, facts.bits) == (48_000, 1, 16)
    assert facts.samples == round(Fraction(215 * 1001, 24000) * 48_000)
    assert (facts.scene, facts.take) == ("40", "1")
    assert facts.first_frame(48_000) == 1_729_728_000
    sound = probe.read_facts(next(short.folder.rglob("*.wav")))
    assert sound.timecode_rate == Fraction(24000, 1001)
    assert sound.track_names == ("mix", "boom")
    assert (sound.scene, sound.take, sound.tape) == ("40", "1", "SR07")
    # The recorder began 1.513 s before 10:00:00:00, which is 36036 s of real time at 24000/1001.
    assert sound.time_reference == round((36036 - 1.513) * 48_000)


def test_frames_are_the_frames_asked_for(mov):
    """Against decoding every frame in order."""
    with av.open(str(mov)) as container:
        inorder = [frame.to_ndarray(format="gray") for frame in container.decode(video=0)]
    wanted = [0, 1, 11, 12, 13, 100, 55, 214]
    got = dict(frames.frame_images(mov, wanted, height=216))
    assert sorted(got) == sorted(wanted)
    for index, image in got.items():
        grey = np.asarray(image.convert("L"), dtype=float)
        distance = [float(np.abs(grey - other).mean()) for other in inorder[max(0, index - 3) : index + 4]]
        assert int(np.argmin(distance)) == min(index, 3), index


def test_kept_sound_is_the_movies_sound_sample_for_sample(mov, tmp_path):
    facts = probe.read_facts(mov)
    store = cache.CacheEntry(tmp_path / "kept")
    cache.listen(mov, facts, store)
    with av.open(str(mov)) as container:
        packets = b"".join(bytes(packet) for packet in container.demux(audio=0))
    raw = np.frombuffer(packets, "<i2").astype(np.float32) / 32768
    with SoundReader(store.sound) as reader:
        assert reader.frames == facts.samples
        assert np.array_equal(reader.read(0, reader.frames)[:, 0], raw)
        assert not reader.read(-5, 5).any()
        assert np.array_equal(reader.read(-2, 4)[2:, 0], raw[:2])
    size = 1 << FIRST_LEVEL
    peaks = read_peaks(store.peaks, FIRST_LEVEL, 100, 3, [0])
    for n in range(3):
        part = raw[(100 + n) * size : (101 + n) * size]
        assert tuple(peaks[n, 0]) == (round(part.min() * 32767), round(part.max() * 32767))
    high = read_peaks(store.peaks, FIRST_LEVEL + 6, 1, 1, [0])[0, 0]
    part = raw[size * 64 : size * 128]
    assert tuple(high) == (round(part.min() * 32767), round(part.max() * 32767))


def test_the_same_scenario_makes_the_same_bytes(short, tmp_path):
    text = SHORT.format(rate="23.976", jam="09:00:00", start="10:00:00:00")
    again = make_shoot(text, tmp_path)
    for path in sorted(short.folder.rglob("*.*")):
        assert (again.folder / path.relative_to(short.folder)).read_bytes() == path.read_bytes(), path.name


def test_the_clap_is_heard_when_the_truth_says(short):
    """The simulator's truth against its own files: the loudest sample of the recorder, carried over by the truth."""
    truth = short.truth["pairs"][0]
    with SoundReader(next(short.folder.rglob("*.wav"))) as reader:
        mix = reader.read(0, 4 * 48_000)[:, 0]
    onset = int(np.argmax(np.abs(mix) > 0.3 * np.abs(mix).max())) / 48_000
    camera = short.truth["recordings"][0]
    # Sound travels 0.5 m to the recorder's microphone; on picture the sticks are seen closed one frame after.
    seen = (truth["offset_s"] + onset - 0.5 / 343) * 24000 / 1001
    assert int(seen) + 1 == camera["clap_frame"]


def half_counted(path, fps, label):
    """Make a movie whose timecode track counts every other frame, as a generator does that counts to 30 at most."""
    with av.open(str(path), "w") as out:
        video = out.add_stream("mpeg4", rate=fps)
        video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
        video.metadata["timecode"] = label
        for number in range(20):
            frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), number, np.uint8), format="rgb24")
            frame.pts, frame.time_base = number, 1 / fps
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
    data = bytearray(path.read_bytes())
    at = data.index(b"stsd", data.index(b"gmhd")) + 12 + 28  # how long a label lasts, then how many there are
    lasts = int.from_bytes(data[at : at + 4], "big")
    assert data[at + 4] == FrameRate(fps).nominal
    data[at : at + 4] = (2 * lasts).to_bytes(4, "big")
    first = Timecode.parse(label, FrameRate(fps, ";" in label)).frame
    where = data.index(first.to_bytes(4, "big"))
    data[at + 4] //= 2
    data[where : where + 4] = (first // 2).to_bytes(4, "big")
    path.write_bytes(bytes(data))
    return path


@pytest.mark.parametrize(
    ("fps", "label", "told", "late", "made"),
    [
        (Fraction(50), "10:00:00:24", "10:00:00:12", Fraction(12, 25), "10:00:00:24"),
        (Fraction(60000, 1001), "10:00:10;40", "10:00:10;20", None, "10:00:10;40"),
    ],
)
def test_timecode_that_counts_every_other_frame_is_read_so_and_counted_out_in_a_movie_made_of_it(
    tmp_path, fps, label, told, late, made
):
    facts = read_facts(half_counted(tmp_path / "a.mov", fps, label))
    assert (facts.fps, facts.timecode, facts.timecode_rate) == (fps, told, fps / 2)
    if late is not None:
        assert facts.start(FrameRate(Fraction(25)))[0] == 36_000 + late
    take = SimpleNamespace(active=(), begins=0, from_s=Fraction(0), kept=None, picture=SimpleNamespace(facts=facts))
    assert label_of(take, Fraction(1)) == made


def test_timecode_that_says_it_drops_at_a_rate_that_drops_none_is_read_as_it_counts(tmp_path):
    path = half_counted(tmp_path / "a.mov", Fraction(50), "10:00:00:24")
    data = bytearray(path.read_bytes())
    data[data.index(b"stsd", data.index(b"gmhd")) + 12 + 23] |= 1  # the flag of drop-frame
    path.write_bytes(bytes(data))
    facts = read_facts(path)
    assert (facts.timecode, facts.timecode_rate, facts.drop) == ("10:00:00:12", 25, False)


@pytest.mark.parametrize(("ending", "share"), [("mp4", 0.6), ("mp4", 0.2), ("mp4", 0), ("mkv", 0.3)])
def test_a_copy_that_was_cut_short_is_told_and_what_is_there_is_used(tmp_path, ending, share):
    whole, cut, rng = tmp_path / f"whole.{ending}", tmp_path / f"cut.{ending}", np.random.default_rng(1)
    with av.open(str(whole), "w", options={"movflags": "faststart"} if ending == "mp4" else {}) as out:
        video = out.add_stream("mpeg4", rate=25)
        video.width, video.height, video.pix_fmt = 96, 64, "yuv420p"
        audio = out.add_stream("aac", rate=48_000, layout="mono")
        for number in range(100):
            frame = av.VideoFrame.from_ndarray(rng.integers(0, 255, (64, 96, 3), dtype=np.uint8), format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1, 25)
            out.mux(video.encode(frame))
            noise = np.asarray(0.1 * rng.normal(size=(1, 1920)), np.float32)
            sound = av.AudioFrame.from_ndarray(noise, format="fltp", layout="mono")
            sound.sample_rate, sound.pts, sound.time_base = 48_000, 1920 * number, Fraction(1, 48_000)
            out.mux(audio.encode(sound))
        out.mux(video.encode(None))
        out.mux(audio.encode(None))
    data = whole.read_bytes()
    assert Flaw.CUT_SHORT not in read_facts(whole).flaws
    cut.write_bytes(data[: int(len(data) * share) or data.index(b"mdat") + 99])
    if not share:
        with pytest.raises(MediaError, match="cut short before its first frame"):
            read_facts(cut)
        return
    facts = read_facts(cut)
    assert Flaw.CUT_SHORT in facts.flaws
    told = f"cut short, {facts.frames} of 100 frames are there" if ending == "mp4" else "before its header says"
    assert any(told in one for one in facts.remarks)
    shown = [number for number, _ in frames.numbered_frames(cut, lines=48)]
    heard = sum(block.shape[0] for block in movie_sound.sound_blocks(cut))
    assert abs(len(shown) - facts.frames) <= 1
    assert ending == "mkv" or abs(heard - facts.samples) <= 2048
    assert facts.duration == Fraction(facts.frames, 25)


def test_a_movie_that_is_cut_off_in_its_boxes_counts_nothing(tmp_path):
    whole = half_counted(tmp_path / "a.mov", Fraction(50), "10:00:00:24").read_bytes()
    found = timecode_track(tmp_path / "a.mov")
    assert (found.rate, found.first) == (25, 900_012)
    for end in range(0, len(whole), 7):
        (tmp_path / "b.mov").write_bytes(whole[:end])
        told = timecode_track(tmp_path / "b.mov")
        assert told in {None, TimecodeTrack(Fraction(25)), found, replace(found, first=None)}
    deep = b"".join((8 * (5_000 - n)).to_bytes(4, "big") + b"moov" for n in range(5_000))
    (tmp_path / "b.mov").write_bytes(deep)
    assert timecode_track(tmp_path / "b.mov") is None
