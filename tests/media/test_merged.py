"""Several files read as one: every sample where it belongs, and refused where they differ."""

from fractions import Fraction

import numpy as np
import pytest

from vesk.core.errors import RefusedError
from vesk.core.facts import Facts
from vesk.core.kinds import RUN, SET, Kind
from vesk.media.merged import Series, SideBySide, merge_facts
from vesk.media.sound import SoundReader
from vesk.media.wave import write_wave


@pytest.fixture
def opened(tmp_path):
    readers = []

    def write(name, sound, rate=48_000):
        path = tmp_path / name
        write_wave(path, iter([sound]), sample_rate=rate, channels=sound.shape[1])
        readers.append(SoundReader(path))
        return readers[-1]

    yield write
    for reader in readers:
        reader.close()


def ramp(start, count, channels=1):
    return np.repeat(((start + np.arange(count)) / 2**20).astype(np.float32)[:, None], channels, axis=1)


def test_a_series_reads_across_its_joints(opened):
    parts = [opened("a.wav", ramp(0, 1000)), opened("b.wav", ramp(1000, 500)), opened("c.wav", ramp(1500, 700))]
    series = Series(parts, [Fraction(n, 48_000) for n in (1000, 500, 700)])
    assert series.frames == 2200
    assert np.allclose(series.read(0, 2200), ramp(0, 2200), atol=2**-23)
    assert np.allclose(series.read(900, 700), ramp(900, 700), atol=2**-23)
    outside = series.read(-100, 2400)
    assert not outside[:100].any()
    assert not outside[2300:].any()


def test_sound_shorter_than_its_picture_is_silent_to_the_next_part_and_longer_is_cut(opened):
    parts = [opened("a.wav", ramp(0, 900)), opened("b.wav", ramp(5000, 1100))]
    series = Series(parts, [Fraction(1000, 48_000), Fraction(1000, 48_000)])
    read = series.read(0, 2000)[:, 0]
    assert not read[900:1000].any()
    assert np.allclose(read[1000:], ramp(5000, 1000)[:, 0], atol=2**-23)


def test_half_samples_at_a_joint_do_not_add_up(opened):
    # 1601.6 samples a frame: five parts of one frame end on 8 008 exactly.
    parts = [opened(f"{n}.wav", ramp(0, 1602)) for n in range(5)]
    assert Series(parts, [Fraction(1001, 30_000)] * 5).frames == 8008


def test_side_by_side_keeps_the_order_of_channels(opened):
    parts = [opened("a.wav", ramp(0, 100, 2)), opened("b.wav", ramp(500, 60))]
    read = SideBySide(parts).read(0, 100)
    assert read.shape == (100, 3)
    assert np.allclose(read[:60, 2], ramp(500, 60)[:, 0], atol=2**-23)
    assert not read[60:, 2].any()


def sound(**more):
    return Facts(**{"kind": "sound", "container": "wav", "duration": Fraction(1), "sample_rate": 48_000, "channels": 1,
                    "samples": 48_000, **more})  # fmt: skip


def test_facts_of_a_set_count_channels_and_say_which_end_early():
    named = merge_facts([sound(channels=2), sound(track_names=("boom",)), sound()], SET, ["T", "T_Tr1", "T_Tr2"])
    assert named.track_names == ("mix left", "mix right", "boom", "Tr2")
    facts = merge_facts([sound(track_names=("mix",)), sound(samples=24_000), sound()], SET)
    assert (facts.channels, facts.samples, facts.duration) == (3, 48_000, 1)
    assert facts.track_names == ("mix", "track 2", "track 3")
    assert "1 of 3 tracks end up to 0.50 s early" in facts.remarks[0]


@pytest.mark.parametrize(
    ("other", "how", "words"),
    [
        (sound(sample_rate=44_100), RUN, "sample rate"),
        (sound(sample_rate=44_100), SET, "sample rate"),
        (sound(channels=2), RUN, "number of channels"),
        (Facts(kind=Kind.PICTURE, container="mov", duration=Fraction(1)), RUN, "kind"),
    ],
)
def test_what_cannot_be_one_recording_is_refused(other, how, words):
    with pytest.raises(RefusedError, match=words):
        merge_facts([sound(), other], how)


def test_pictures_do_not_lie_side_by_side():
    picture = Facts(kind=Kind.PICTURE, container="mov", duration=Fraction(1), fps=Fraction(25), frames=25)
    with pytest.raises(RefusedError, match="parts of a run"):
        merge_facts([picture, picture], SET)
    assert merge_facts([picture, picture], RUN).frames == 50
