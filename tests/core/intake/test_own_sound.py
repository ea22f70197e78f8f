"""Which sound files are a camera's own beside a picture without: by card, name, length and label."""

from fractions import Fraction

import pytest

from vesk.core.intake.filed import Filed
from vesk.core.intake.own_sound import own_sounds
from vesk.core.kinds import PICTURE, SOUND

HOUR = Fraction(36_000)


def filed(path, **more):
    name = path.rpartition("/")[2]
    picture = name.endswith("mov")
    values = {
        "kind": PICTURE if picture else SOUND, "channels": 0 if picture else 1, "sample_rate": 48_000,
        "fps": Fraction(25) if picture else None, "duration": Fraction(60), "header": HOUR,
    }  # fmt: skip
    return Filed(path, name, path, "", **{**values, **more})


@pytest.mark.parametrize(
    ("picture", "sounds"),
    [
        ("A/clip1.mov", ["A/clip1.wav"]),
        ("A/clip1.mov", ["A/sound/CLIP1.WAV"]),
        ("A/VIDEO/0001AB.mov", ["A/AUDIO/0001AB00.wav", "A/AUDIO/0001AB01.wav", "A/AUDIO/0001AB10.wav"]),
        ("VIDEO/0001AB.mov", ["AUDIO/0001AB00.wav"]),
        ("clip1.mov", ["audio/clip1.wav"]),
        ("A/VIDEO/clip1.mov", ["A/clip1.wav"]),
        ("A/clip1V01.mov", ["A/clip1A01.wav", "A/clip1A02.wav"]),
        ("A/clip1.mov", ["A/clip1_audio.wav"]),
    ],
)
def test_sound_on_its_card_called_as_it_is_and_as_long_is_the_cameras_own(picture, sounds):
    files = [filed(one) for one in (*reversed(sounds), picture, "A/clip7.wav")]
    assert own_sounds(files) == {picture: tuple(sounds)}


@pytest.mark.parametrize(
    ("picture", "sound"),
    [
        ({}, {"duration": Fraction(60) + Fraction(3, 25)}),  # a recorder's ends when somebody stops it
        ({}, {"header": HOUR + Fraction(2, 25)}),
        ({"channels": 2}, {}),  # it has sound
        ({}, {"path": "A/clip12.wav", "duration": Fraction(61)}),
        ({}, {"path": "A/clip1 take 2.wav"}),
        ({}, {"path": "sound/clip1.wav"}),  # another card, or what was conformed before
        ({}, {"path": "A/x/y/clip1.wav"}),
        ({"path": "clip1.mov"}, {"path": "sound/clip1.wav"}),
    ],
)
def test_what_ends_or_begins_apart_or_lies_elsewhere_is_a_recorders(picture, sound):
    sound, picture = {"path": "A/clip1.wav"} | sound, {"path": "A/clip1.mov"} | picture
    assert own_sounds([filed(**picture), filed(**sound)]) == {}
    assert own_sounds([filed("A/clip1.mov", header=None), filed("A/clip1.wav")]) != {}  # a label on one alone


def test_of_two_pictures_the_longer_name_has_it_and_two_alike_leave_it():
    files = [filed(f"A/{name}") for name in ("clip1.mov", "clip10.mov", "clip1.wav", "clip10.wav")]
    assert own_sounds(files) == {"A/clip1.mov": ("A/clip1.wav",), "A/clip10.mov": ("A/clip10.wav",)}
    assert own_sounds([filed("A/a/clip.mov"), filed("A/b/clip.mov"), filed("A/c/clip.wav")]) == {}
    mixed = [filed("A/clip1.mov"), filed("A/clip100.wav"), filed("A/clip101.wav", sample_rate=44_100)]
    assert own_sounds(mixed) == {}  # no one recording has two rates
