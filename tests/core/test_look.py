"""A candidate looked at: true even where the guess is rough and the rate far from nominal."""

import pytest
from sound_material import babble, delayed, hearing

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.look import look_at


@pytest.mark.parametrize(("ppm", "off_s"), [(-81_250.0, 0.012), (88_435.4, -0.015), (0.0, 0.02)])
def test_a_rough_guess_does_not_bend_the_place(ppm, off_s):
    scene = babble(24, 51)
    picture, sound = hearing(scene, 0.004), hearing(delayed(scene, 0.4, ppm), 0.004, 1)
    place = look_at(picture, sound, Candidate(-0.4 + off_s, ppm + 30.0, 9.0), tried=1)
    assert place.guess.offset_s == pytest.approx(-0.4, abs=2e-4)
    assert place.guess.ppm == pytest.approx(ppm, abs=15)
    assert place.log10_false_alarm < -20
