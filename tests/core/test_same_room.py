"""A room answers each place in its own way: who stays is told from who else speaks; without a room nothing is said."""

import numpy as np
import pytest
from sound_material import hearing, talk

from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.fine import Path
from vesk.core.sound.same_room import Side, from_one_place
from vesk.simulator import paths

AT = 12


def heard_in(rooms, amount, noise=0.01):
    """A scratch whose talker is answered by one room, then by another; and a sound from near by."""
    voice = talk(2 * AT, 41)
    first, second = (paths.reverberant(voice, WORK_RATE, seed=seed, amount=amount) for seed in rooms)
    scratch = np.concatenate([first[: AT * WORK_RATE], second[AT * WORK_RATE :]])
    near = paths.reverberant(voice, WORK_RATE, seed=9, amount=amount / 10)
    return hearing(scratch, noise), hearing(near, 0.001, 1)


@pytest.mark.parametrize(
    ("rooms", "amount", "expected"),
    [((1, 1), 0.5, True), ((1, 2), 0.5, False), ((1, 1), 0.1, True), ((1, 2), 0.1, False), ((1, 2), 0.0, None)],
)
def test_who_stays_is_answered_alike(rooms, amount, expected):
    path = Path(AT, 0.0, 0.0)
    assert from_one_place(*heard_in(rooms, amount), Side(path, 0, AT), Side(path, AT, 2 * AT)) is expected


def test_too_little_on_one_side_tells_nothing():
    path = Path(AT, 0.0, 0.0)
    assert from_one_place(*heard_in((1, 1), 0.5), Side(path, 0, 1.0), Side(path, 1.0, 2 * AT)) is None
