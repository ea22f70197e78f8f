"""Whose folder a file lies in, where cameras share one: by their folders' names, or by what ran at once."""

from fractions import Fraction

import pytest

from vesk.core.intake.branches import device_folders
from vesk.core.intake.devices import DeviceHints, Proposed, assign
from vesk.core.intake.filed import Filed
from vesk.core.kinds import PICTURE, SOUND


def filed(path, start=None, *, long=60, kind=PICTURE):
    header = None if start is None else Fraction(start)
    return Filed(path, path.rpartition("/")[2], path, "", kind, header=header, duration=Fraction(long))


def takes(folder, *starts, **more):
    return [filed(f"{folder}/C{n:04}.mov", start, **more) for n, start in enumerate(starts)]


def of(*groups):
    """Return the folder of each group of files, which all of its files have."""
    found = device_folders([one for group in groups for one in group])
    each = [{found[one.key] for one in group} for group in groups]
    assert all(len(one) == 1 for one in each)
    return [one.pop() for one in each]


@pytest.mark.parametrize(
    ("folders", "kind"),
    [
        (("footage/A_CAM", "footage/B_CAM"), PICTURE),
        (("day 6/Cam 1", "day 6/Cam 2"), PICTURE),
        (("shoot/video/a", "shoot/video/b"), PICTURE),
        (("audio/recorder 1 boat", "audio/recorder 2 pier"), SOUND),
    ],
)
def test_folders_called_after_several_devices_are_one_each(folders, kind):
    groups = [takes(f"{folder}/card/clip", 10, 200, kind=kind) for folder in folders]
    assert of(*groups) == list(folders)


def test_a_camera_has_one_folder_morning_and_afternoon_and_one_alone_none_of_its_own():
    halves = [takes(f"{half}/{camera}", None) for half in ("am", "pm") for camera in ("A_CAM", "cam-b")]
    assert of(*halves) == ["am/A_CAM", "am/cam-b"] * 2
    assert of(takes("footage/A_CAM", 10, 200)) == ["footage"]
    assert of(takes("S1 sound roll 6", 10, kind=SOUND), [filed("x.mov")]) == ["S1 sound roll 6", "."]


def test_folders_of_files_that_ran_at_once_are_two_devices_and_cards_of_one_are_not():
    main, second = takes("f/main/x", 100, 300, 600), takes("f/second/y", 130, 310, 640)
    assert of(main, second) == ["f/main", "f/second"]
    assert of(takes("f/card1", 100, 300), takes("f/card2", 500, 700)) == ["f", "f"]
    scenes = [takes(f"sound/S{n}", 100 * n, 1000 + 100 * n, kind=SOUND) for n in (1, 2)]  # S may be a scene
    assert of(*scenes) == ["sound", "sound"]
    # A third card that ran with neither says that they are no camera each.
    assert of(main, second, takes("f/third", 5000, 5200)) == ["f"] * 3


def test_copies_and_counters_are_no_second_device():
    main = takes("f/main", 100, 300, 600)
    assert of(main, takes("f/small", 100, 300, 600)) == ["f", "f"]
    counted = [takes(f"f/card{n}", 0, 60, 120) for n in (1, 2)]  # each begins where the one before ends
    assert of(*counted) == ["f", "f"]
    zeros = [takes(f"f/card{n}", 0, 0, 0, long=50 + n) for n in (1, 2)]
    assert of(*zeros) == ["f", "f"]


def test_what_was_filed_before_its_neighbour_came_keeps_its_source_and_reels_do_not_join_neighbours():
    def hints(folder):
        return DeviceHints(folder, PICTURE, letters="A")

    sources = [Proposed("footage", PICTURE, [hints("footage/A_CAM")], "A")]
    assert assign([hints("footage/A_CAM"), hints("footage/B_CAM"), hints("footage/B_CAM")], sources) == [0, 1, 1]
    assert assign([hints("later")], [Proposed("footage/A_CAM", PICTURE, [hints("footage/A_CAM")], "A")]) == [0]
