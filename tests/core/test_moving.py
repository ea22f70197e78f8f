"""Who walks is no clock, and no jump; what a clock does inside a take is followed as far as it goes."""

import numpy as np
import pytest
from sound_material import babble, hearing, read_at

from vesk.core.kinds import MATCHED
from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.follow import follow_guess
from vesk.core.sound.measure import measure
from vesk.core.sound.measurement import Line, TracePoint
from vesk.core.sound.moving import are_heard
from vesk.core.sound.swaying import sways

LATE_S = 0.4371
PPM = 23.0
METRE_S = 1 / 343


def heard_late(voice, late_s):
    """What a microphone hears of a voice that is late by so much at each moment: a function of time, seconds."""
    at = np.arange(voice.size) / WORK_RATE
    return read_at(voice, at - LATE_S - late_s(at - LATE_S))


def recorded(voice, ppm=PPM, gained_s=None):
    """What a recorder whose clock is `ppm` fast, or has gained so much, records of it."""
    at = np.arange(voice.size) / WORK_RATE
    true = at / (1 + ppm * 1e-6)
    if gained_s is not None:
        true = np.interp(at, at + gained_s(at), at)
    return read_at(voice, true)


def between(*points):
    at, value = zip(*points, strict=True)
    return lambda t: np.interp(t, at, value)


def errors(found, seconds, nearest_s=0.0, gained_s=None):
    """How far the line lies from the clocks' own, at several picture times, seconds."""
    made = []
    for at in np.linspace(found.head_s + 0.2, found.tail_s - 0.2, 9):
        world = at - LATE_S
        own = world * (1 + PPM * 1e-6) if gained_s is None else world + gained_s(world)
        made.append(found.line.offset_at(float(at)) - (at - own) - nearest_s)
    return np.array(made)


def walking(metres, seconds=32.0, seed=5):
    voice = babble(seconds, seed)
    late = lambda t: metres(t) * METRE_S  # noqa: E731
    return measure(hearing(heard_late(voice, late), 0.01), hearing(recorded(voice), 0.003, 1))


@pytest.mark.parametrize(
    "metres",
    [
        between((10, 1), (16, 7)),  # a jump of 17 ms, by lines alone
        between((7, 1), (25, 7)),  # a clock 970 ppm off
    ],
)
def test_who_walks_away_is_no_jump_and_no_drift(metres):
    found = walking(metres)
    assert found.decision == MATCHED
    assert found.line.jumps == found.line.unsure == ()
    assert abs(found.line.ppm - PPM) < 4
    assert np.abs(errors(found, 32, METRE_S)).max() < 1.5e-4  # it lies where the nearest stands
    assert found.line.moves[-1][1] == pytest.approx(6 * METRE_S, abs=4e-4)


def test_who_never_stands_is_found_all_the_same_and_the_rate_is_said_to_be_unknown():
    found = walking(lambda t: 2.5 - 1.5 * np.cos(2 * np.pi * t / 17))
    assert found.decision == MATCHED
    assert found.line.jumps == ()
    assert abs(found.line.ppm - PPM) < 2 * found.line.se_ppm < 200
    assert np.abs(errors(found, 32, METRE_S)).max() < 2.5e-3  # of 8.7 that are walked
    assert max(later for _, later in found.line.moves) > 6e-3


@pytest.mark.parametrize(
    ("highest", "expected"),
    [
        (np.linspace(3.4, 8.0, 58), True),  # who paces 1 to 4 m in a room: a line through a fifth of them was believed
        (np.linspace(3.1, 4.2, 58), False),  # hiss
        (np.r_[np.full(52, 3.5), np.full(6, 9.0)], False),  # a door, somebody behind it
        (np.r_[np.full(50, 3.5), np.full(8, 9.0)], True),
    ],
)
def test_somebody_is_heard_elsewhere_by_a_few_windows_clearly_or_by_many(highest, expected):
    assert are_heard(highest, 77) is expected


def test_a_microphone_that_sways_stands_nowhere():
    """Its turning points once were two places to a microsecond; the line lay half a millisecond off, in no band."""
    sways = lambda t: 1.5 + 0.15 * np.sin(2 * np.pi * t / 7.3 + 3) + 0.08 * np.sin(2 * np.pi * t / 2.9 + 1)  # noqa: E731
    found = walking(sways, 40.0, 8)
    assert found.decision == MATCHED
    assert found.line.jumps == found.line.places == ()
    band = [1.96 * found.line.standard_error_at(at) for at in (found.head_s, found.middle_s, found.tail_s)]
    assert np.abs(errors(found, 40, 1.27 * METRE_S)).max() < min(band) < 3e-3


AT = np.arange(0.5, 60, 0.75)
NOISE = 6e-6 * np.random.default_rng(2).normal(size=AT.size)


@pytest.mark.parametrize(
    ("away", "expected"),
    [
        (NOISE, False),
        (np.where(AT % 3 < 1, 1.1e-4, -1.1e-4) + NOISE, False),  # two who sit side by side
        (4e-4 * np.sin(AT / 1.3) + NOISE, True),
        (20 * NOISE, False),  # no neighbour is like another
    ],
)
def test_only_what_wanders_from_window_to_window_sways(away, expected):
    points = [TracePoint(float(t), 0.2 + float(a), 1.0, agrees=True) for t, a in zip(AT, away, strict=True)]
    assert sways(Line(30.0, 0.2, 0.0, 1e-6, 0.1), points) == expected


def test_of_two_who_speak_in_turn_the_near_one_sets_the_line_however_little_is_heard_of_them():
    seconds, rng = 40.0, np.random.default_rng(3)
    near, far = babble(seconds, 11), babble(seconds, 12)
    at = np.arange(near.size) / WORK_RATE
    edges = np.cumsum(rng.uniform(0.8, 3.0, 40))
    gate = (np.searchsorted(edges, at) % 3 == 0).astype(float)
    near, far = near * gate, far * (1 - gate)
    scratch = heard_late(near, lambda t: 0 * t) + heard_late(far, lambda t: 9e-3 + 0 * t)
    found = measure(hearing(scratch, 0.01), hearing(recorded(near + far), 0.003, 1))
    assert found.line.jumps == ()
    assert np.abs(errors(found, seconds)).max() < 1e-4
    told = found.line.places or [(later, 0.0) for _, later in found.line.moves]
    assert max(later for later, _ in told) == pytest.approx(9e-3, abs=2e-4)


def test_a_step_in_a_long_pause_may_be_either_and_one_that_nobody_walks_is_a_jump():
    voice = babble(32.0, 21)
    voice[int(15 * WORK_RATE) : int(18 * WORK_RATE)] = 0.0
    pause = measure(
        hearing(heard_late(voice, lambda t: np.where(t > 16.5, 4e-3, 0.0)), 0.003), hearing(recorded(voice), 0.003, 1)
    )
    assert pause.line.jumps == ()
    (step,) = pause.line.unsure
    assert step.step_s == pytest.approx(4e-3, abs=2e-5)
    assert step.low_s - 0.3 < 16.5 + LATE_S < step.high_s + 0.3
    assert step.high_s < pause.windows[1] < step.high_s + 10  # where a person listens
    voice = babble(32.0, 21)
    talk = measure(
        hearing(heard_late(voice, lambda t: np.where(t > 16.5, 4e-3, 0.0)), 0.003), hearing(recorded(voice), 0.003, 1)
    )
    assert talk.line.unsure == talk.line.moves == ()
    assert [jump.step_s for jump in talk.line.jumps] == [pytest.approx(4e-3, abs=1e-5)]


def test_a_jump_two_seconds_from_the_head_is_found():
    voice = babble(30.0, 31)
    scratch = heard_late(voice, lambda t: np.where(t > 2.0, 11e-3, 0.0))
    found = measure(hearing(scratch, 0.003), hearing(recorded(voice), 0.003, 1))
    (jump,) = found.line.jumps
    assert jump.step_s == pytest.approx(11e-3, abs=2e-5)
    assert jump.at_s == pytest.approx(2.0 + LATE_S, abs=0.3)


def test_a_clock_that_wanders_is_followed_and_a_steady_one_is_a_line():
    seconds = 60.0
    voice = babble(seconds, 41)

    def gained(t):  # a rate of 23 ppm that swings by 4
        return 23e-6 * t + 4e-6 * 45 / (2 * np.pi) * (1 - np.cos(2 * np.pi * t / 45))

    scratch = hearing(heard_late(voice, lambda t: 0 * t), 0.005)
    wandering = measure(scratch, hearing(recorded(voice, gained_s=gained), 0.003, 1))
    assert wandering.line.wander_s > 1.5e-5
    off = np.abs(errors(wandering, seconds, gained_s=gained))
    assert off.max() < 6e-6
    held = [wandering.line.standard_error_at(at) for at in np.linspace(1, 59, 9)]
    assert off.max() < 3 * max(held) < 4e-5
    steady = measure(scratch, hearing(recorded(voice), 0.003, 1))
    assert steady.line.bends == ()


def test_what_is_not_shared_is_not_followed():
    for seed in range(2):
        one, other = hearing(babble(20.0, 50 + seed), 0.01), hearing(babble(20.0, 60 + seed), 0.01)
        found = follow_guess(one, other, Candidate(0.2, 0.0, 99.0), tried=1)
        assert found is None or found.log10_false_alarm > -1
