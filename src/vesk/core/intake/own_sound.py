"""A camera's sound in files of its own beside a picture that has none: which sound files are whose."""

from __future__ import annotations

import re
from collections.abc import Iterable
from fractions import Fraction

from vesk.core.intake.filed import Filed
from vesk.core.kinds import PICTURE

# Behind the picture's name: nothing, what it is, or which track.
_TRACK = re.compile(r"(?:[ _.\-]*(?:ch|trk?|track|audio|sound|scratch|a))?[ _.\-]*(\d{0,2})", re.IGNORECASE)
_PICTURE_TRACK = re.compile(r"(.+?)[ _.\-]?v\d{1,2}", re.IGNORECASE | re.DOTALL)
_FOLDERS = {"video", "audio"}  # of a card that is itself the day's folder
_FRAMES = 2  # by which they may end apart
_LABEL_FRAMES = 1


def own_sounds(files: Iterable[Filed]) -> dict[str, tuple[str, ...]]:
    """Return the sound files of each picture that has no sound in its own file, by key, in the order of tracks.

    They lie on one card, are called as the picture is (a track's number behind it), are as long as it to two frames,
    of one sample rate, and begin at its label where both have one. Files that a recorder made end apart from it.

    Parameters
    ----------
    files : iterable of Filed
        The day's. Looked at: `key`, `path`, `kind`, `channels`, `sample_rate`, `duration`, `fps` and `header`.
    """
    files = list(files)
    pictures: dict[str, list[Filed]] = {}
    for one in files:
        if one.kind == PICTURE and not one.channels and one.fps:
            for stem in _stems(one):
                pictures.setdefault(stem, []).append(one)
    found: dict[str, list[tuple[int, str, Filed]]] = {}
    for one in files if pictures else ():
        if one.kind == PICTURE or not one.channels:
            continue
        stem = one.stem.casefold()
        for length in range(len(stem), 0, -1):  # the longest name that begins its own: clip10's is none of clip1's
            track = _TRACK.fullmatch(stem, length)
            mine = [picture for picture in pictures.get(stem[:length], ()) if track and _belongs(one, picture)]
            if len(mine) == 1 and track:
                found.setdefault(mine[0].key, []).append((int(track[1] or 0), one.path, one))
            if mine:
                break
    return {
        picture: tuple(one.key for _, _, one in sorted(own, key=lambda each: each[:2]))
        for picture, own in found.items()
        if len({one.sample_rate for _, _, one in own}) == 1
    }


def _stems(picture: Filed) -> set[str]:
    stem = picture.stem.casefold()
    counted = _PICTURE_TRACK.fullmatch(stem)
    return {stem, counted[1]} if counted else {stem}


def _belongs(sound: Filed, picture: Filed) -> bool:
    frame = 1 / (picture.fps or Fraction(25))
    if abs(sound.duration - picture.duration) > _FRAMES * frame:
        return False
    labels = (sound.header, picture.header)
    apart = 0 if labels[0] is None or labels[1] is None else abs(labels[0] - labels[1])
    near = apart <= _LABEL_FRAMES * frame
    return near and _on_one_card(sound.path.split("/")[:-1], picture.path.split("/")[:-1])


def _on_one_card(sound: list[str], picture: list[str]) -> bool:
    """Say whether two folders are one, one holds the other, or they lie side by side on one card.

    Folders of the day itself are cards of their own, and what was conformed: there their names must say it.
    """
    if sound == picture:
        return True
    if len(sound) < 2 and len(picture) < 2:
        return {one[-1].casefold() for one in (sound, picture) if one} <= _FOLDERS
    return sound in (picture[:-1], [*picture[:-1], *sound[-1:]]) or picture == sound[:-1]
