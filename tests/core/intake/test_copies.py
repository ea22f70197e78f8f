"""Smaller pictures of the same takes are told from a second camera that was started together with the first."""

from dataclasses import replace
from fractions import Fraction

import pytest

from vesk.core.intake.copies import same_sounds, smaller_copies
from vesk.core.intake.filed import Filed
from vesk.core.kinds import Kind
from vesk.core.sound.levels import SoundLevel

LARGE, SMALL = 3840 * 2160, 1280 * 720


def picture(path, take, level=-30.0, *, pixels=LARGE, **more):
    values = {
        "start": Fraction(36_000 + 100 * take), "header": Fraction(36_000 + 100 * take), "fps": Fraction(25),
        "duration": Fraction(20 + take), "pixels": pixels, "channels": 1, "levels": (SoundLevel(level + 12, level, 0),),
    }  # fmt: skip
    return Filed(key=path, name=path.rsplit("/", 1)[-1], path=path, source="A", kind=Kind.PICTURE, **values | more)


def takes(folder, loud, ending=".mov", pixels=LARGE, **more):
    return [picture(f"{folder}/A001_00{n}{ending}", n, one, pixels=pixels, **more) for n, one in enumerate(loud)]


SHOT = takes("A001", (-30, -24, -37))


@pytest.mark.parametrize("quieter", [0.0, 3.0, 8.0])
def test_a_folder_of_smaller_copies_is_told_by_each_of_them(quieter):
    copies = takes("A001/sub", (-30 - quieter, -24.3 - quieter, -36.8 - quieter), "_S.mp4", SMALL)
    assert smaller_copies([*copies, *SHOT]) == {one.path: of.path for one, of in zip(copies, SHOT, strict=True)}


def test_both_in_one_folder_is_told_too_and_the_largest_stands():
    copies = takes("A001", (-30, -24, -37), "-small.mov", SMALL)
    least = takes("more", (-30, -24, -37), "-small-2.mov", 320 * 180)
    found = smaller_copies([*least, *copies, *SHOT])
    assert {found[one.path] for one in (*copies, *least)} == {one.path for one in SHOT}


@pytest.mark.parametrize(
    "others",
    [
        takes("B001", (-30, -27, -33), pixels=SMALL),  # another camera by remote control: it hears otherwise
        takes("B001", (-30, -24, -37), pixels=SMALL, levels=()),  # nobody listened to them yet
        takes("B001", (-30, -24, -37), pixels=SMALL, channels=0),  # mute, and beside it
        takes("B001", (-30, -24, -37), pixels=LARGE),
        [*takes("B001", (-30, -24, -37), pixels=SMALL), picture("B001/A001_007.mov", 7, pixels=SMALL)],
        takes("B001", (-30, -24, -37), pixels=SMALL, fps=Fraction(50)),
        takes("B001", (-30, -24, -37), pixels=SMALL, header=None),
        takes("B001", (-30, -24, -37), "x.mov", pixels=SMALL, duration=Fraction(19)),
        [picture("B001/A001_000.mov", 0, -36.0, pixels=SMALL)],  # of one take alone its level must be the same
    ],
)
def test_what_may_be_another_camera_stays(others):
    assert smaller_copies([*SHOT, *others]) == {}


def sound(path, take, levels=((-3.0, -24.25), (-9.0, -31.5)), **more):
    made = {"levels": tuple(SoundLevel(peak, rms, 0) for peak, rms in levels), "samples": 48_000 * 20, "fps": None}
    return replace(picture(path, take), kind=Kind.SOUND, content=path, sample_rate=48_000, **made | more)


def test_a_second_card_of_a_recorder_holds_the_same_sound_whatever_is_said_beside_it():
    first, second = sound("S1/40_01.wav", 1), sound("mirror/Z-1.wav", 1)
    assert same_sounds([second, first]) == {second.key: first.path}
    louder = ((-3.0, -24.25), (-9.0, -31.52))
    for other in (
        sound("S2/40_01.wav", 1, louder), sound("S2/40_01.wav", 2), sound("S2/40_01.wav", 1, samples=48_000 * 20 + 1),
        sound("S2/40_01.wav", 1, levels=()), sound("S1/40_01_2.wav", 1),
        replace(second, content=first.content),  # that is told as one file
    ):  # fmt: skip
        assert same_sounds([first, other]) == {}
    mute = ((-200.0, -200.0),)
    assert same_sounds([sound("S1/a.wav", 1, mute), sound("S2/a.wav", 1, mute)]) == {}


def test_what_holds_some_channels_of_another_is_its_copy_also_as_files_of_a_track_each_beside_it():
    levels = ((-3.0, -24.25), (-9.0, -31.5), (-200.0, -200.0), (-12.0, -40.0))
    poly, mix = sound("S1/40_01.wav", 1, levels), sound("card 2/40_01.wav", 1, levels[:2])
    tracks = [sound(f"S1/40_01_{n}.wav", 1, levels[n : n + 1]) for n in range(4)]
    files = sound("S1/40_01_1-4.wav", 1, levels, members=tuple(tracks))
    assert same_sounds([mix, files, poly]) == {mix.key: poly.path, files.key: poly.path}
    # Two tracks of one folder may carry the same; what another holds only once is no copy.
    assert same_sounds([tracks[0], replace(tracks[0], key="t", path="S1/t.wav", content="t")]) == {}
    twice = sound("S2/40_01.wav", 1, (*levels[:1], *levels[:1]))
    assert same_sounds([poly, twice]) == {}


def test_a_copy_may_be_all_that_is_left_of_a_take():
    more = [*SHOT, picture("A001/A001_003.mov", 3, -27.0)]
    copies = takes("A001/sub", (-30, -24, -37, -27, -31), pixels=SMALL)
    assert set(smaller_copies([*more, *copies])) == {one.path for one in copies[:4]}


def test_another_camera_beside_them_in_a_flat_folder_changes_nothing():
    copies = takes("A001", (-30, -24, -37), "-small.mov", SMALL)
    others = [picture(f"A001/B001_00{n}.mov", n, -28.0, pixels=1920 * 1080) for n in range(6)]
    assert set(smaller_copies([*SHOT, *copies, *others])) == {one.path for one in copies}


def test_a_mute_copy_lies_below_what_was_shot():
    copies = takes("A001/sub", (0, 0, 0), pixels=SMALL, channels=0, levels=())
    assert len(smaller_copies([*SHOT, *copies])) == 3
