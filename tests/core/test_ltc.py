"""Timecode as sound: every rate, bad levels, breaks; against the counting rule and the signal's own truth."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sound_material import babble

from vesk.core.ltc.crosstalk import crosstalk_db
from vesk.core.ltc.edges import find_edges
from vesk.core.ltc.frames import read_frames
from vesk.core.ltc.listen import LtcListener, decode, shows_ltc
from vesk.core.timecode import FrameRate, Timecode
from vesk.simulator import paths
from vesk.simulator.ltc import signal, word

FS = 48_000
RATES = ["23.976", "24", "25", "29.97", "29.97 DF", "30"]


def box(label: str, rate: str = "25", *, seconds: float = 12, ppm: float = 0.0, part: float = 0.37, user="00000000"):
    """Return the signal, its rate, and frames after midnight at sample 0."""
    own = FrameRate.parse(rate)
    first = Timecode.parse(label, own).frame + part
    return signal(first, int(seconds * FS), own, FS * (1 + ppm * 1e-6), user_bits=user), own, first


def off_us(track, first: float, ppm: float = 0.0) -> float:
    """Return by how much the decoded frames begin late, microseconds."""
    run = track.longest
    frames = (run.first.frame - first) % track.rate.frames_per_day
    return (run.first_sample / FS - frames / float(track.rate.fps) * (1 + ppm * 1e-6)) * 1e6


def test_a_word_by_hand():
    """23:59:58;29: the standard's own layout, bit by bit."""
    bits = word(Timecode.parse("23:59:58;29", FrameRate.parse("29.97 DF")), "8000000F")
    value = lambda low, width: sum(bits[low + k] << k for k in range(width))  # noqa: E731
    assert [value(*at) for at in ((0, 4), (8, 2), (16, 4), (24, 3), (32, 4), (40, 3), (48, 4), (56, 2))] == [
        9, 2, 8, 5, 9, 5, 3, 2,
    ]  # fmt: skip
    assert (bits[10], value(4, 4), value(60, 4)) == (1, 15, 8)
    assert sum(bits) % 2 == 0
    assert "".join(map(str, bits[64:])) == "0011111111111101"


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("ppm", [0.0, 41.0])
def test_every_rate_to_a_microsecond_and_a_hundredth_ppm(rate, ppm):
    label = "09:59:57;02" if "DF" in rate else "09:59:57:02"
    sound, own, first = box(label, rate, ppm=ppm, seconds=30, user="12AB34CD")
    track = decode((-0.4 * sound + 0.05).astype(np.float32), FS)
    assert (track.rate, track.label, track.user_bits) == (own, label, "12AB34CD")
    assert len(track.runs) == 1
    assert track.longest.missing == 0
    assert abs(off_us(track, first, ppm)) < 1.0
    assert track.ppm == pytest.approx(ppm, abs=0.01)
    assert float(track.start * own.fps) == pytest.approx(first, abs=2e-4)


@pytest.mark.parametrize(("level_db", "snr_db", "lost"), [(-40, 20, 0), (-45, 20, 0), (-6, 6, 25)])
def test_quiet_and_noisy_without_a_wrong_frame(level_db, snr_db, lost):
    sound, own, first = box("10:00:00:00", seconds=20, part=0.0)
    noise = np.random.default_rng(3).normal(size=sound.size) * 10 ** (-snr_db / 20)
    dirty = ((sound + noise) * 10 ** (level_db / 20)).astype(np.float32)
    track = decode(dirty, FS)
    assert track.rate == own
    assert 498 - track.frames <= lost  # those whose first and last change are inside
    # Each frame by itself, before they are compared: right, or not read at all.
    read = read_frames(find_edges(dirty, FS), FS)
    told = ((read.hour * 60 + read.minute) * 60 + read.second) * 25 + read.number
    agree = np.abs(told - first - read.start / FS * 25) < 0.1
    assert agree.mean() > 0.995
    assert abs(off_us(track, first)) < 5


@pytest.mark.parametrize("path", ["aac", "narrow", "44.1 kHz", "192 kHz"])
def test_through_coders_filters_and_other_sample_rates(path):
    sound, own, first = box("10:00:00:00", seconds=10)
    rate = FS
    if path == "aac":
        sound = paths.through_aac(sound * 0.3, FS, 96)
    elif path == "narrow":
        sound = paths.narrow(sound * 0.3, FS, 100, 8000)
    else:
        rate = {"44.1 kHz": 44_100, "192 kHz": 192_000}[path]
        sound = signal(first, 10 * rate, own, rate)
    track = decode(np.asarray(sound, np.float32), rate)
    run = track.longest
    assert run.frames + run.missing >= 245
    assert run.missing <= 4
    late = run.first_sample / rate - (run.first.frame - first) / 25
    assert abs(late) < 100e-6
    assert track.label == "10:00:00:00"


def test_a_late_start_a_gap_and_a_break_are_told():
    one, _, _ = box("10:00:00:00", seconds=20, part=0.0)
    other, _, _ = box("11:30:00:00", seconds=10, part=0.0)
    voice = np.repeat(babble(13, 71), 3)[: 13 * FS].astype(np.float32)
    gap = one.copy()
    gap[8 * FS : 9 * FS] = 0.0
    track = decode(np.concatenate([voice, gap * 0.1, other * 0.1]).astype(np.float32), FS)
    # A loud voice up to its first frame may cost that frame.
    assert [str(run.first)[:-1] for run in track.runs] == ["10:00:00:0", "11:30:00:0"]
    assert 24 <= track.runs[0].missing <= 28
    begins = 13 * FS + track.runs[0].first.frame % 25 * FS / 25
    assert track.runs[0].first_sample == pytest.approx(begins, abs=1)
    (broken,) = track.breaks
    assert str(broken.expected)[:10] == "10:00:20:0"
    assert broken.at_sample == pytest.approx(33 * FS, abs=FS / 25 + 2)
    assert float(track.start) == pytest.approx(36_000 - 13, abs=1e-4)


def test_midnight_is_counted_on():
    sound, own, first = box("23:59:57;00", "29.97 DF", seconds=8, part=0.0)
    track = decode(sound, FS)
    assert len(track.runs) == 1
    assert str(track.longest.last) < "00:00:06"
    assert float(track.start * own.fps) == pytest.approx(first, abs=2e-4)


@pytest.mark.parametrize("kind", ["voice", "hum", "silence", "noise", "clicks"])
def test_what_is_no_timecode_is_none(kind):
    t = np.arange(6 * FS) / FS
    rng = np.random.default_rng(4)
    sound = {
        "voice": np.repeat(babble(6, 72), 3)[: t.size],
        "hum": np.sign(np.sin(2 * np.pi * 1000 * t)) * 0.3,
        "silence": np.zeros(t.size),
        "noise": rng.normal(size=t.size) * 0.2,
        "clicks": (rng.random(t.size) < 0.02) * 1.0,
    }[kind].astype(np.float32)
    assert decode(sound, FS) is None
    assert not shows_ltc(sound[:FS], FS)


@settings(max_examples=20)
@given(st.lists(st.integers(1_000, 300_000), min_size=1, max_size=12))
def test_however_it_is_cut_into_blocks_the_track_is_the_same(sizes):
    sound, own, first = box("10:00:00:00", seconds=6, part=0.25)
    listener = LtcListener(FS)
    at = 0
    for size in [20_000, *sizes, sound.size]:  # shorter than an excerpt, timecode cannot show
        listener.feed(sound[at : at + size])
        at += size
    track = listener.finish()
    assert track.rate == own
    assert len(track.runs) == 1
    assert track.longest.missing == 0
    assert float(track.start * own.fps) == pytest.approx(first, abs=2e-4)


def test_leakage_into_the_scratch_is_told_by_its_level():
    code = box("10:00:00:00", seconds=5)[0] * 0.5
    voice = (np.repeat(babble(5, 73), 3)[: code.size] * 0.2).astype(np.float32)
    assert crosstalk_db(code, voice) is None
    leaked = np.roll(code, 3) * np.float32(10 ** (-46 / 20))
    assert crosstalk_db(code, voice + leaked) == pytest.approx(-46, abs=1.5)
