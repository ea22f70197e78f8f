"""What a recording holds where it gained samples is seen in itself: the same twice, or silence, and where exactly."""

from fractions import Fraction

import numpy as np
import pytest
import soxr
from sound_material import babble, hearing, talk

from vesk.core.conform.correction import propose
from vesk.core.conform.render import laid_pieces, render_block
from vesk.core.kinds import Gained
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.gained import find_gained
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.measure import measure
from vesk.core.sound.measurement import Jump, Line, without_steps
from vesk.core.tolerance import Tolerance

RATE = 48_000


def recorded(seed: int, *, pause: bool) -> np.ndarray:
    """Twelve seconds at a recorder's rate, somebody's pause in their middle: its own noise at -70 dB goes on."""
    own = soxr.resample(talk(12.0, seed), WORK_RATE, RATE) * 0.3
    if pause:
        own[5 * RATE : 7 * RATE] = 0.0
    return own + 3e-4 * np.random.default_rng(seed).normal(size=own.size)


def heard(own: np.ndarray) -> Hearing:
    """Bring it to the working rate, in 16 bits, as it is kept."""
    whole = np.round(soxr.resample(own, RATE, WORK_RATE) * 32_767).astype(np.int16)
    return Hearing(whole, np.zeros((0, 1), np.float16), 1 / 32_767)


def gained(own: np.ndarray, at: int, count: int, kind: str) -> np.ndarray:
    last = own[at - count : at]
    return np.concatenate([own[:at], last if kind == "twice" else 0 * last, own[at:]])


@pytest.mark.parametrize(
    ("kind", "count", "pause"),
    [("twice", 512, True), ("twice", 4096, True), ("twice", 441, False), ("silence", 480, True)],
)
def test_what_was_gained_is_seen_to_a_part_of_a_millisecond(kind, count, pause):
    at = 6 * RATE + 1234
    sound = heard(gained(recorded(count, pause=pause), at, count, kind))
    found = find_gained(sound, count / 3 + 0.2, at // 3 - WORK_RATE, at // 3 + WORK_RATE)
    assert found.gained == kind
    assert found.at == pytest.approx(at / 3, abs=found.within)
    assert found.within <= 1e-3 * WORK_RATE


@pytest.mark.parametrize("count", [171, 1365])
def test_what_was_lost_and_what_a_voice_or_a_tone_repeats_is_none(count):
    own = recorded(count, pause=False)
    lost = heard(np.concatenate([own[: 6 * RATE], own[6 * RATE + 3 * count :]]))
    assert find_gained(lost, float(count), 5 * WORK_RATE, 7 * WORK_RATE) is None
    vowel = np.tile(np.random.default_rng(count).normal(size=count), 12 * WORK_RATE // count)
    fading = hearing(vowel * np.linspace(0.2, 0.1, vowel.size))  # every period is all but the one before
    assert find_gained(fading, float(count), 5 * WORK_RATE, 7 * WORK_RATE) is None


def test_of_silence_alone_and_of_a_level_alone_nothing_is_said():
    for level in (0.0, 0.25):
        still = Hearing(np.full(12 * WORK_RATE, level, np.float32), np.zeros((0, 1), np.float16))
        assert find_gained(still, 171.0, 5 * WORK_RATE, 7 * WORK_RATE) is None


def test_in_a_pause_in_which_somebody_may_have_walked_what_is_there_twice_is_a_jump():
    voice = babble(32.0, 21)
    voice[15 * WORK_RATE : 18 * WORK_RATE] = 0.0
    noisy = voice + 0.003 * np.random.default_rng(5).normal(size=voice.size)
    at, count = int(16.5 * WORK_RATE), 96
    found = measure(hearing(voice, 0.003), hearing(gained(noisy, at, count, "twice")))
    assert found.line.unsure == found.line.moves == ()
    (jump,) = found.line.jumps
    assert jump.gained == Gained.TWICE
    assert jump.samples(WORK_RATE) == count
    assert jump.at_s == pytest.approx(16.5, abs=1e-3)
    other = noisy + 0.003 * np.random.default_rng(6).normal(size=voice.size)
    unlike = np.concatenate([noisy[:at], other[at - count : at], noisy[at:]])
    (step,) = measure(hearing(voice, 0.003), hearing(unlike)).line.unsure  # as many samples, but others
    assert step.gained is None


@pytest.mark.parametrize("kind", ["twice", "silence"])
def test_what_the_scratch_gained_is_its_own_and_moves_no_sound(kind):
    voice = babble(32.0, 21)
    noise, other = (0.003 * np.random.default_rng(seed).normal(size=voice.size) for seed in (5, 6))
    at, count = int(16.5 * WORK_RATE), 480
    found = measure(hearing(gained(voice + noise, at, count, kind)), hearing(voice + other))
    (jump,) = found.line.jumps
    assert (jump.gained, jump.is_scratchs, jump.samples(WORK_RATE)) == (kind, True, -count)
    assert jump.at_s == pytest.approx(16.5, abs=1e-3)
    line, own = without_steps(found.line, ())
    assert (line.jumps, own) == ((), (jump,))


def test_what_the_sound_shows_that_it_gained_is_its_own_whatever_others_say():
    seen = Jump(16.5, -0.03, 16.49, 16.51, 1e-6, Gained.TWICE)
    line = Line(16.0, 0.0, 0.0, 1e-6, 0.01, (seen,))
    assert without_steps(line, ((16.4, 16.6, -0.03),)) == (line, ())


@pytest.mark.parametrize(
    ("kind", "late_s"),
    [(Gained.TWICE, 3e-4), (Gained.TWICE, -3e-4), (Gained.SILENCE, 0.0), (None, 0.05)],
)
def test_what_was_gained_is_taken_out_and_nothing_beside_it(kind, late_s):
    """Silence that was put in lay over as many words before it."""
    at, count, fps = 6 * RATE, 4_800, Fraction(25)
    own = recorded(3, pause=False).astype(np.float32)
    other = 0.1 * np.random.default_rng(1).normal(size=count).astype(np.float32)
    sound = np.concatenate([own[:at], other, own[at:]]) if kind is None else gained(own, at, count, kind)
    # Placed to a part of a millisecond; what is neither is known by where it neither lies before nor after: its middle.
    jump = Jump(at / RATE + late_s, -count / RATE, 5.9, 6.2, 1e-6, kind)
    line, points = Line(6.0, 0.0, 0.0, 1e-6, 0.01, (jump,)), (0.0, 6.0, 12.0)
    mended = propose(Fraction(0), line, points, fps=fps, tolerance=Tolerance()).on(Fraction(0))

    def read(start: int, wanted: int) -> np.ndarray:
        padded = np.pad(sound, (max(0, -start), max(0, start + wanted - sound.size)))
        return padded[max(0, start) :][:wanted, None]

    pieces = laid_pieces(read, sound.size, mended, RATE)
    heard_now = render_block(pieces, 0, own.size, channels=1, sample_rate=RATE)[:, 0]
    assert np.abs(heard_now - own).max() < 1e-4
