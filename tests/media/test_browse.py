"""A folder chosen by looking: what lies there is counted, bounded, and nothing outside is shown."""

import os
from pathlib import Path

import pytest

from vesk.core.errors import MediaError
from vesk.media import browse


def touch(root, *paths):
    for path in paths:
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).touch()


def test_every_folder_tells_what_lies_in_it_and_below(tmp_path):
    touch(tmp_path, "card 2/A/1.MOV", "card 2/A/2.mxf", "card 10/1.wav", "card 10/.trash/2.wav", "empty/notes.txt")
    looked = browse.look(tmp_path, (tmp_path,))
    assert looked.above is None  # the top of what may be read
    assert [(one.name, one.movies, one.sounds) for one in looked.folders] == [
        ("card 2", 2, 0), ("card 10", 0, 1), ("empty", 0, 0),
    ]  # fmt: skip
    assert (looked.here.movies, looked.here.sounds) == (2, 1)
    below = browse.look(tmp_path / "card 2", (tmp_path,))
    assert (below.above, [one.name for one in below.folders]) == (tmp_path, ["A"])


def test_without_a_folder_the_allowed_ones_are_shown_and_a_single_one_is_looked_into(tmp_path):
    touch(tmp_path, "one/day/1.wav", "two/1.wav")
    one, two = tmp_path / "one", tmp_path / "two"
    both = browse.look(None, (one, two, tmp_path / "gone"))
    assert (both.here, [folder.name for folder in both.folders]) == (None, [str(one), str(two)])
    alone = browse.look(None, (one,))
    assert (alone.here.path, alone.chosen, [folder.name for folder in alone.folders]) == (one, False, ["day"])
    assert browse.look(one, (one,)).chosen  # a person asked for it


def test_links_hidden_folders_and_names_that_are_no_text_are_not_offered(tmp_path):
    touch(tmp_path, ".hidden/1.wav", "real/1.wav")
    (tmp_path / "link").symlink_to(tmp_path / "real")
    Path(os.fsdecode(os.fsencode(tmp_path) + b"/b\xe9")).mkdir()
    assert [one.name for one in browse.look(tmp_path, (tmp_path,)).folders] == ["real"]


def test_a_whole_disk_is_not_walked_to_show_a_number(tmp_path, monkeypatch):
    monkeypatch.setattr(browse, "MOST_COUNTED", 10)
    touch(tmp_path, *(f"{n:02}/{k}.wav" for n in range(5) for k in range(6)))
    here = browse.look(tmp_path, (tmp_path,)).here
    assert (here.more, here.sounds) == (True, 12)


def test_a_folder_outside_or_gone_is_refused_in_words(tmp_path):
    for path, words in ((tmp_path / "gone", "no such folder"), (tmp_path.parent, "outside the folders")):
        with pytest.raises(MediaError, match=words):
            browse.look(path, (tmp_path,))
