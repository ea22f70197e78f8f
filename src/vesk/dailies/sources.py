"""Which device made each file, and what a new device is called."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from fractions import Fraction
from pathlib import Path

from vesk.core.facts import Facts
from vesk.core.intake.branches import camera_letter, device_folders
from vesk.core.intake.devices import DeviceHints, Proposed, assign, letters_of
from vesk.core.intake.filed import Filed
from vesk.core.intake.naming import read_name
from vesk.core.intake.own_sound import own_sounds
from vesk.core.kinds import PICTURE, Kind
from vesk.core.timecode import FrameRate

_ANY = FrameRate(Fraction(25))  # of labels that tell no rate
_CAMERA_ROLL = re.compile(r"([A-Za-z])[-_ ]?\d+")


def propose_sources(
    files: Sequence[tuple[str, Facts]],
    patterns: Sequence[str],
    known: Sequence[Proposed] = (),
    *,
    together: bool = True,
    folders: Mapping[str, str] | None = None,
) -> tuple[list[int], list[Proposed]]:
    """Give every file a source, that of its device.

    Parameters
    ----------
    files : sequence of (str, Facts)
        Path below the day's folder, and what was read.
    patterns : sequence of str
        Of file names.
    known : sequence of Proposed
        Sources that are there already, with their tags.
    together : bool
        Whether sound that lies beside its picture is of the camera.
    folders : mapping of str to str, optional
        That tells each file's device, of all the day's, by path; by default as these files alone have it.

    Returns
    -------
    list of int, list of Proposed
        For every file the index of its source; the sources, those that are new last, each with a tag of its own.
    """
    sources = list(known)
    beside = {sound: picture for picture, own in (own_sounds_of(files) if together else {}).items() for sound in own}
    every = dict(files)
    makers = [(path, facts) if path not in beside else (beside[path], every[beside[path]]) for path, facts in files]
    folders = folders_of(files) if folders is None else folders
    given = assign([hints_of(path, facts, patterns, folders.get(path, "")) for path, facts in makers], sources)
    for one in sources[len(known) :]:
        one.tag = propose_tag(one.folder, one.kind, {other.tag for other in sources}, one.letters)
    return given, sources


def own_sounds_of(files: Iterable[tuple[str, Facts]]) -> dict[str, tuple[str, ...]]:
    """Return the sound files that cameras wrote beside their pictures, by the picture's path.

    Parameters
    ----------
    files : iterable of (str, Facts)
        Path below the day's folder, and what was read.
    """
    return own_sounds(_filed(files))


def folders_of(files: Iterable[tuple[str, Facts]]) -> dict[str, str]:
    """Return the folder that tells each file's device, by path.

    Parameters
    ----------
    files : iterable of (str, Facts)
        The day's: path below its folder, and what was read.
    """
    return device_folders(_filed(files))


def _filed(files: Iterable[tuple[str, Facts]]) -> list[Filed]:
    files = list(files)
    silent = (facts for _, facts in files if facts.kind == PICTURE and not facts.channels)
    rate = next((facts.clock(_ANY) for facts in silent), _ANY)  # its sound's labels count so where they tell no rate
    return [
        Filed(
            path, Path(path).name, path, "", facts.kind, duration=facts.duration, fps=facts.fps,
            channels=facts.channels, sample_rate=facts.sample_rate, header=facts.start(rate)[0],
        )
        for path, facts in files
    ]  # fmt: skip


def propose_tag(folder: str, kind: Kind, taken: set[str], letters: str = "") -> str:
    """Propose a source's short tag: a camera's by its reel, else by its folder's name.

    Examples
    --------
    >>> propose_tag("A006 main camera", "picture", set()), propose_tag("S1 sound roll 6", "sound", set())
    ('A', 'S1')
    >>> propose_tag("all of it", "picture", {"A"}, "B"), propose_tag("footage/cam_c", "picture", {"A"})
    ('B', 'C')
    """
    last = folder.rpartition("/")[2]
    first = last.split(maxsplit=1)[0] if last.split() else ""
    called = camera_letter(last)
    roll = _CAMERA_ROLL.fullmatch(first)
    wanted = first if len(first) <= 3 and first.isalnum() else ""
    if kind == PICTURE and roll:
        wanted = roll[1].upper()
    if kind == PICTURE and called:
        wanted = called
    if kind == PICTURE and letters:
        wanted = letters
    if not wanted or wanted in taken:
        pool = (chr(ord("A") + n) for n in range(26)) if kind == PICTURE else (f"S{n}" for n in range(1, 100))
        wanted = next((tag for tag in pool if tag not in taken), f"{kind[0].upper()}{len(taken) + 1}")
    return wanted


def hints_of(path: str, facts: Facts, patterns: Sequence[str], folder: str = "") -> DeviceHints:
    """Return what a file tells of the device that made it; `folder` is the one that does, else the first."""
    parts = Path(path).parts
    roll = facts.tape or read_name(Path(path).stem, patterns).get("roll", "")
    first = parts[0] if len(parts) > 1 else "."
    return DeviceHints(folder or first, facts.kind, facts.camera or facts.originator, letters_of(roll))


def source_name(folder: str, kind: Kind) -> str:
    """Return what a source is called at first: its folder's words after the tag; what it is where it lies in none.

    Examples
    --------
    >>> source_name("S2 engine room", "sound"), source_name("E", "picture"), source_name(".", "picture")
    ('engine room', 'E', 'camera')
    """
    words = folder.rpartition("/")[2].split(maxsplit=1)
    if folder == ".":
        return "camera" if kind == PICTURE else "recorder"
    return words[1] if len(words) > 1 else folder.rpartition("/")[2]
