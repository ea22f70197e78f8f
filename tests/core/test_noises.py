"""What a set sounds like beside the talk: nothing of it makes a place that is none."""

import numpy as np
import pytest
import soxr
from tests.core.sound_material import delayed, hearing

from vesk.core.kinds import MATCHED
from vesk.core.sound import finding
from vesk.core.sound.coarse import Candidate
from vesk.core.sound.echo import Alike
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure
from vesk.core.sound.verify import Verified
from vesk.simulator import noises
from vesk.simulator.paths import reverberant, with_noise
from vesk.simulator.voices import RATE, speech

OFFSET_S = -0.5403  # the sound's first sample lies before the picture's


@pytest.mark.parametrize("seed", [0, *(pytest.param(n, marks=pytest.mark.slow) for n in (3, 4))])
def test_a_machine_20_db_over_the_talk_is_laid_stroke_upon_stroke(seed):
    """Its strokes lie 42 ms apart and hardly differ: a search keeps one of the places that lie so near.

    What shows beside that was taken for echoes, and sound laid on the first of them: 81 to 202 ms away.
    """
    talk = soxr.resample(speech(40, seed), RATE, WORK_RATE)[: 40 * WORK_RATE]
    strokes = noises.engine(talk.size, WORK_RATE, seed=seed, wander=0.002)
    picture, there = with_noise(talk, strokes, -20), with_noise(talk, delayed(strokes, 0.003), -20)
    found = measure(hearing(picture, 0.003, 1), hearing(delayed(there, -OFFSET_S), 0.003, 2))
    assert found.decision == MATCHED, found.reason
    assert found.line.offset_at(found.middle_s) == pytest.approx(OFFSET_S - 0.003, abs=1e-4)


def test_a_rhythm_that_stands_as_high_elsewhere_is_no_evidence_and_its_other_places_are_looked_at(monkeypatch):
    """Wheels over the joints of their rails: the second of these places once stood alone, at -9.4."""
    says = {0.0: -0.2, 0.7: -6.4, 1.4: -7.6, -0.7: -2.2}

    def verify(_picture, _sound, candidate, *, tried, glance=False):
        del tried
        alarm = says[candidate.offset_s]
        if glance and candidate.offset_s == 1.4:
            return None  # the liveliest windows show nothing
        at, spoke = np.array([0.0, 30.0]), np.array([9.0, 9.0])
        return Verified(candidate.offset_s, 0.0, 0.0, -alarm, 50.0, alarm, 0.0, 0.3, 1, 1.0, at, spoke)

    monkeypatch.setattr(finding, "verify", verify)
    so_far, stage = finding._SoFar(1), finding._Stage(by_wave=False, around_s=None, rates=(0.0,))
    found = [Candidate(at, 0.0, score) for at, score in ((0.0, 80.0), (0.7, 63.0), (1.4, 62.0), (-0.7, 61.0))]
    finding._look(None, None, stage, found, so_far)
    assert [(one.at_middle_s, one.log10_false_alarm) for one in so_far.places[:2]] == [(1.4, -7.6), (0.7, -6.4)]
    # What stands alone lends what its waveform lacks, as before.
    so_far = finding._SoFar(1)
    finding._look(None, None, stage, [Candidate(0.7, 0.0, 63.0), Candidate(-0.7, 0.0, 6.0)], so_far)
    assert so_far.places[0].log10_false_alarm == pytest.approx(-9.4)


def danced(seed, begins_s, said):
    """Return a take: a slate of four seconds, then music whose bars repeat to the sample, in a room of its own."""
    talk = soxr.resample(speech(40, said), RATE, WORK_RATE)[: 40 * WORK_RATE].astype(np.float64)
    at = np.arange(talk.size) / WORK_RATE
    music = np.zeros(talk.size)
    bars = noises.bars(talk.size, WORK_RATE, seed=seed)[: talk.size - round(begins_s * WORK_RATE)]
    music[-bars.size :] = 2.5 * talk.std() / bars.std() * bars
    return talk * ((at > 1) & (at < 5)) + music


@pytest.mark.parametrize(
    ("seed", "same"),
    [(0, True), (4, False), *(pytest.param(*one, marks=pytest.mark.slow) for one in ((1, True), (0, False)))],
)
def test_music_in_bars_lies_where_the_slate_says_and_another_takes_nowhere(seed, same):
    """Bar upon bar it fits as well, and 85 % of the evidence stood two seconds away: it was asked of."""
    take = danced(seed, 6.0, seed)
    other = take if same else danced(seed, 7.3, seed + 500)
    picture = reverberant(take, WORK_RATE, seed=seed, amount=0.5)
    sound = delayed(reverberant(other, WORK_RATE, seed=seed + 50, amount=0.1), -OFFSET_S)
    found = measure(hearing(picture, 0.003, seed), hearing(sound, 0.003, seed + 1000))
    assert (found.decision == MATCHED) == same, found.reason
    if same:
        assert found.line.offset_at(found.middle_s) == pytest.approx(OFFSET_S, abs=1e-4)


@pytest.mark.parametrize("tone", [False, True])
def test_where_a_tone_turns_over_it_is_no_echo(tone):
    """A warning beep in one of the two: its waves stand in what that has and the other has not, 1 ms apart."""
    cross, more = np.zeros(2 * 8000 + 1, np.float32), np.zeros(8001)
    cross[8000], cross[8000 - 88] = 1.0, 0.4
    more[88] = -60.0
    if tone:
        at = np.arange(60, 120)
        more[at] = -60.0 * np.cos(2 * np.pi * (at - 88) / 16)
    assert Alike(cross, more).echoes == (() if tone else (-88,))


@pytest.mark.parametrize(("apart", "hall"), [(80, True), (676, False)])
def test_a_halls_arrivals_lie_close_and_a_machines_strokes_do_not(apart, hall):
    cross = 0.01 * np.random.default_rng(1).normal(size=2 * 8000 + 1)
    cross[8000 - 5 * apart : 8000 + 6 * apart : apart] = [0.5, 0.6, 0.7, 0.8, 0.9, 1.0, 0.9, 0.8, 0.7, 0.6, 0.5]
    smeared = Alike(cross.astype(np.float32), np.zeros(8001)).smeared
    assert smeared == ((-5 * apart, 5 * apart) if hall else None)
