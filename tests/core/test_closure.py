"""Claps seen, and what several of them say of a camera's internal sound delay."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.clocks.sound_delay import ClapPair, sound_delay
from vesk.core.picture.closure import OPEN, contact_between, find_closure
from vesk.simulator.slates import HARDER, KINDS, WITHOUT, moment, slate


def clapper(count: int, closed: int, seed: int = 0) -> np.ndarray:
    """Grey frames in which a bar falls, is shut on frame `closed` and stays so; something else keeps moving."""
    rng = np.random.default_rng(seed)
    frames = 90 + rng.normal(0, 1.5, (count, 96, 160))
    for k in range(count):
        high = 60 if k >= closed else 60 - min(40, 8 * (closed - k))
        frames[k, high - 8 : high, 20:90] = 220
        left = 110 + (k * 3) % 30
        frames[k, 70:85, left : left + 10] = 30  # a hand that never rests
    return np.clip(frames, 0, 255).astype(np.uint8)


@pytest.mark.parametrize("closed", [9, 14, 20])
def test_the_first_closed_frame_is_proposed(closed):
    found = find_closure(clapper(30, closed, closed))
    assert found.frame == closed
    assert found.likely > 0.6
    assert found.contact_s(25.0, 100) == (pytest.approx((99 + closed) / 25), pytest.approx((100.5 + closed) / 25))


@pytest.mark.parametrize("kind", KINDS)
def test_what_moved_and_then_stopped_in_one_place_is_the_closing(kind):
    """A slate that comes into view changes more than its sticks do: 0 of 6 right by size alone."""
    right = 0
    for seed in range(20):
        frames, closed = slate(kind, seed)
        found = find_closure(frames)
        right += found is not None and abs(found.frame - closed) <= (1 if kind == "blurred" else 0)
    assert right >= 19


@pytest.mark.slow
def test_how_likely_a_clap_is_says_how_often_it_is_one_and_what_merely_stops_is_none():
    """By how clearly it stood out, who sat down was a clear clap in every case."""
    told = []
    for kind in (*KINDS, *HARDER, *WITHOUT):
        for seed in range(300, 312):
            frames, closed = (moment(kind, seed), -9) if kind in WITHOUT else slate(kind, seed)
            found = find_closure(frames)
            right = found is not None and abs(found.frame - closed) <= (1 if kind == "blurred" else 0)
            told.append((found.likely if found else 0.0, right))
    likely, right = np.array(told).T
    sure, unlikely = likely >= 0.9, likely < 0.2
    assert right[sure].mean() >= 0.95
    assert sure.sum() > 0.7 * right.sum()  # and most are called so
    assert right[unlikely].mean() < 0.1


def test_nothing_that_stops_is_no_clap():
    still = np.clip(90 + np.random.default_rng(3).normal(0, 1.5, (30, 96, 160)), 0, 255).astype(np.uint8)
    assert find_closure(still) is None


def test_several_claps_narrow_the_delay_to_a_part_of_a_frame():
    rng = np.random.default_rng(4)
    late, fps = 0.0437, 25.0
    claps = []
    for contact in rng.uniform(1, 60, 8):
        frame = int(np.floor(contact * fps)) + 1
        claps.append(ClapPair(contact + late, *contact_between(frame, fps)))
    found = sound_delay([*claps, ClapPair(10.0, 9.0, 9.04)])  # and one that was read wrongly
    assert (found.agreeing, found.claps) == (8, 9)
    assert found.low_s <= late <= found.high_s
    assert found.high_s - found.low_s < 0.04


@given(
    st.integers(1, 1000),
    st.floats(0, 1, exclude_max=True),
    st.sampled_from([23.976, 25.0, 59.94]),
    st.floats(0.02, OPEN),
    st.booleans(),
)
def test_contact_lies_in_its_interval_whatever_the_shutter(frame, part, fps, exposure, blurred):
    """A contact while an exposure lasts is seen on that frame, blurred, or only on the next: both are answered for."""
    contact = (frame + part) / fps
    shows = frame if part < exposure and blurred else frame + 1
    low, high = contact_between(shows, fps)
    assert low <= contact <= high
