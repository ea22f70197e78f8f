"""Which files one device made: folders that hold two, cards in folders of their own, what a person decided."""

import pytest

from vesk.core.intake.devices import DeviceHints, Proposed, assign, letters_of


def camera(folder, letters="", device=""):
    return DeviceHints(folder, "picture", device, letters)


def recorder(folder, device="", letters=""):
    return DeviceHints(folder, "sound", device, letters)


def groups(files, sources=None):
    return assign(files, [] if sources is None else sources)


def test_a_folder_is_a_source_for_each_kind():
    assert groups([camera("card"), recorder("card"), camera("card"), recorder("other")]) == [0, 1, 0, 2]


def test_reels_of_two_cameras_in_one_folder_are_told_apart():
    assert groups([camera(".", "A"), camera(".", "B"), camera(".", "A"), camera(".", "B")]) == [0, 1, 0, 1]
    assert groups([camera(".", device="one"), camera(".", device="two"), camera(".", device="one")]) == [0, 1, 0]


def test_further_cards_of_a_camera_are_the_same_source():
    assert groups([camera("A006", "A"), camera("B004", "B"), camera("A007", "A")]) == [0, 1, 0]
    # The same letter on another make of camera is another camera.
    assert groups([camera("A006", "A", "one"), camera("A001", "A", "two")]) == [0, 1]
    # Cameras of one make are told apart by their reels alone.
    assert groups([camera("A006", "A", "one"), camera("B004", "B", "one")]) == [0, 1]


def test_two_recorders_of_one_make_in_folders_of_their_own_stay_two():
    assert groups([recorder("S1", "make", "SR"), recorder("S2", "make", "SR")]) == [0, 1]
    assert groups([recorder("S1", "make"), recorder("S1", "other")]) == [0, 1]


def test_a_file_that_tells_nothing_goes_with_its_folder():
    assert groups([camera("x", "A"), camera("x"), camera("x", "A")]) == [0, 0, 0]
    # A source that holds what tells nothing and what tells of A is still not B's.
    assert groups([camera("x", "A"), camera("x"), camera("x", "B")]) == [0, 0, 1]


def test_what_a_person_put_together_stays_together():
    source = Proposed("x", "picture", [camera("x", "A"), camera("x", "B")])
    assert groups([camera("x", "B"), camera("x", "A"), camera("x", "C")], [source]) == [0, 0, 1]
    named = Proposed("A006 main", "picture")  # named before anything came
    assert groups([camera("A006 main", "A")], [named]) == [0]


@pytest.mark.parametrize(
    ("roll", "letters"),
    [("A006", "A"), ("a006_x", "A"), ("SR06", "SR"), ("B", "B"), ("", ""), ("006", ""), ("REEL", ""), ("A-12", "A")],
)
def test_letters_of_a_reel(roll, letters):
    assert letters_of(roll) == letters


def test_the_order_of_files_does_not_change_who_belongs_together():
    files = [camera(".", "A"), camera(".", "B"), camera("card 2", "A"), recorder("."), camera("card 3", "B")]
    forward = groups(files)
    backward = groups(files[::-1])[::-1]
    together = {(i, j) for i in range(5) for j in range(5) if forward[i] == forward[j]}
    assert together == {(i, j) for i in range(5) for j in range(5) if backward[i] == backward[j]}
