"""Takes of one playback: told apart by what each has beyond it, and not where nothing tells."""

import numpy as np
import pytest
from sound_material import babble, hearing

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.contrast import excludes, lay, mirrored
from vesk.core.sound.features import WORK_RATE

SONG = babble(10, 900)
AFTER = {1: 5.0, 2: 6.1, 3: 5.5, 4: 4.4}  # when the song begins in each


def recorded(take: int, *, says: int | None = None, noise: float = 0.02):
    """Return a take's recording: somebody announces it in its first seconds, then the song is played."""
    out = np.zeros(17 * WORK_RATE)
    slate = 0.4 * babble(2.4, 70 + (says or take))
    out[WORK_RATE : WORK_RATE + slate.size] += slate
    begins = int(AFTER[take] * WORK_RATE)
    out[begins : begins + SONG.size] += SONG
    return hearing(out, noise, take + 40 * (says or 0))


def laid_on(own, take: int, *others: int):
    """Return recordings of takes where their songs lie on one of another."""
    return {n: lay(own, recorded(n), Candidate(AFTER[take] - AFTER[n], 0.0, 0.0)) for n in others}


def test_of_takes_of_one_playback_that_stands_whose_slate_is_heard():
    picture = hearing(recorded(3).sound.astype(float), 0.05, 7)
    places = laid_on(picture, 3, 1, 2, 3, 4)
    for other in (1, 2, 4):
        assert excludes(picture, places[3], places[other])
        assert not excludes(picture, places[other], places[3])


def test_where_the_right_one_is_missing_none_of_the_others_wins():
    picture = hearing(recorded(3).sound.astype(float), 0.05, 7)
    places = laid_on(picture, 3, 1, 2, 4)
    assert not any(excludes(picture, one, other) for one in places.values() for other in places.values())


def test_samples_lost_in_the_middle_of_a_song_exclude_nothing():
    """What follows is late in the right one, and fits the song of every other take where it was."""
    picture = hearing(recorded(3).sound.astype(float), 0.05, 7)
    whole = recorded(3).sound.astype(float)
    middle = int(9.5 * WORK_RATE)
    lost = hearing(np.concatenate([whole[:middle], whole[middle + WORK_RATE // 20 :]]), 0.0)
    places = laid_on(picture, 3, 1, 2, 4)
    right = lay(picture, lost, Candidate(0.0, 0.0, 0.0))
    assert not any(excludes(picture, place, right) for place in places.values())


def test_two_devices_that_heard_one_take_are_both_right_however_much_more_the_nearer_heard():
    picture = hearing(recorded(3).sound.astype(float), 0.05, 7)
    near, far = recorded(3), hearing(recorded(3).sound.astype(float), 0.3, 8)
    one, other = (lay(picture, each, Candidate(0.0, 0.0, 0.0)) for each in (near, far))
    assert not excludes(picture, one, other)
    assert not excludes(picture, other, one)


@pytest.mark.parametrize("ppm", [0.0, 50.0, -900.0])
def test_a_place_seen_from_the_other_side_is_the_same_place(ppm):
    place = Candidate(3.25, ppm, 5.0)
    there = mirrored(place)
    picture_s = 20.0
    sound_s = (picture_s - place.offset_s) * (1 + place.ppm * 1e-6)
    assert (sound_s - there.offset_s) * (1 + there.ppm * 1e-6) == pytest.approx(picture_s, abs=1e-9)
