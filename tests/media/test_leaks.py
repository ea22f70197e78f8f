"""Timecode that leaks into the microphone beside it, louder than whoever speaks: what is left is matched."""

from fractions import Fraction

import numpy as np
import pytest
from scipy import signal as filters
from sound_material import babble, hearing

from vesk.core.facts import Facts
from vesk.core.kinds import MATCHED, PICTURE
from vesk.core.sound.measure import measure_channels
from vesk.core.timecode import FrameRate, Timecode
from vesk.media import cache
from vesk.simulator.ltc import signal

FS, SECONDS = 48_000, 24
PAL = FrameRate(Fraction(25))
COUNT = FS * SECONDS


def code(label="10:00:00:00", ppm=0.0):
    return 0.3 * signal(Timecode.parse(label, PAL).frame + 0.37, COUNT, PAL, FS * (1 + ppm * 1e-6))


def through_wires(sound):
    leak = filters.lfilter(*filters.butter(1, [120, 14_000], "band", fs=FS), np.roll(sound, 2))
    return leak / np.sqrt(np.mean(leak**2))


def listened(folder, *rows):
    """Listen to channels, 16 bits each, as to a camera's sound."""
    sound = (np.round(np.stack(rows, axis=1) * 32767) / 32767).astype(np.float32)
    facts = Facts(PICTURE, "wav", Fraction(SECONDS), sample_rate=FS, channels=len(rows), samples=COUNT)
    store = cache.entry_of(folder, "ab12")
    cache.listen_to(iter(np.array_split(sound, 3)), facts, store)
    return cache.heard(store), cache.matching_channels(facts, store), store


@pytest.mark.parametrize(("over_db", "scratch_at"), [(10, 1), (30, 0), (40, 1)])
def test_a_scratch_that_timecode_drowns_is_matched_by_what_is_left(tmp_path, over_db, scratch_at):
    rng = np.random.default_rng(3)
    voice = filters.resample_poly(babble(SECONDS, 5), 3, 1)[:COUNT]
    voice /= np.sqrt(np.mean(voice**2))
    said = voice + 0.05 * rng.normal(size=COUNT)
    scratch = 0.1 * (through_wires(code()) + 10 ** (-over_db / 20) * said)
    rows = [code() + 1e-4 * rng.normal(size=COUNT), scratch]
    heard, matched_on, store = listened(tmp_path, *(rows if scratch_at else rows[::-1]))
    assert list(heard.ltc) == [1 - scratch_at]
    assert list(heard.leaks_db) == list(matched_on) == [scratch_at]
    sound = hearing(filters.resample_poly(voice, 1, 3).astype(np.float32) * 0.1, 0.003, 1)
    found = measure_channels([cache.hearing(store, scratch_at)], [sound])
    assert found.decision == MATCHED
    assert abs(found.line.offset_s) < 5e-6


def test_a_second_box_and_a_copy_are_no_scratch(tmp_path):
    for other in (code("10:00:41:00", ppm=3.0), 0.4 * code()):
        heard, matched_on, _ = listened(tmp_path / str(other[5]), code(), other)
        assert (sorted(heard.ltc), heard.leaks_db, matched_on) == ([0, 1], {}, ())
