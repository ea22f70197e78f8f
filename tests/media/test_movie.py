"""Movies: facts, exact frames and sample-true sound, from files the simulator made."""

from fractions import Fraction

import av
import numpy as np
import pytest
from tests.conftest import SHORT, make_shoot

from vesk.media import cache, movie, probe
from vesk.media.peaks import FIRST_LEVEL, read_peaks
from vesk.media.sound import SoundReader


@pytest.fixture(scope="module")
def short(tmp_path_factory):
    text = SHORT.format(rate="23.976", jam="09:00:00", start="10:00:00:00")
    return make_shoot(text, tmp_path_factory.mktemp("short"), processes=1)


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
    got = dict(movie.frame_images(mov, wanted, height=216))
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
    again = make_shoot(text, tmp_path, processes=1)
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
