"""Which files one device made: by folder, by what they say of the device, by reel."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from vesk.core.facts import Facts
from vesk.core.kinds import Kind

_LETTERS = re.compile(r"([A-Za-z]{1,3})[-_ ]?\d+.*|([A-Za-z])")


@dataclass(frozen=True, slots=True)
class DeviceHints:
    """What a file tells of who made it.

    Attributes
    ----------
    folder : str
        Below the day's, that tells the device: see `branches`; ``.`` where it lies in none.
    kind : str
        ``picture`` or ``sound``.
    device : str
        The camera or recorder as the file names it; empty when it does not.
    letters : str
        Those that its reel begins with; empty without.
    """

    folder: str
    kind: Kind
    device: str = ""
    letters: str = ""


@dataclass(slots=True)
class Proposed:
    """A source: the folder it began with, its kind, what its files tell, and its tag once it has one."""

    folder: str
    kind: Kind
    files: list[DeviceHints] = field(default_factory=list)
    tag: str = ""

    @property
    def letters(self) -> str:
        """Those of its reels; empty where they begin with several, or with none."""
        found = {one.letters for one in self.files if one.letters}
        return found.pop() if len(found) == 1 else ""

    def contradicts(self, one: DeviceHints) -> bool:
        """Say whether a file tells of another device than these, and is like none of them.

        Like none: a person may have put files of two devices into one source.
        """
        apart = [_differ(one.device, other.device) or _differ(one.letters, other.letters) for other in self.files]
        alike = [_agree(one.device, other.device) or _agree(one.letters, other.letters) for other in self.files]
        return any(apart) and not any(same and not far for same, far in zip(alike, apart, strict=True))


def letters_of(roll: str) -> str:
    """Return the letters that a reel begins with, as capitals.

    Parameters
    ----------
    roll : str
        Name of a reel.

    Examples
    --------
    >>> letters_of("A006"), letters_of("SR06"), letters_of("b"), letters_of("2027-03-18")
    ('A', 'SR', 'B', '')
    """
    found = _LETTERS.fullmatch(roll.strip())
    return (found[1] or found[2]).upper() if found else ""


def look_of(stem: str, facts: Facts) -> str:
    """Return what files of one device have alike: the shape of their names, and how they are coded.

    Parameters
    ----------
    stem : str
        A file's name without its ending.
    facts : Facts

    Examples
    --------
    >>> from fractions import Fraction
    >>> from vesk.core.kinds import SOUND
    >>> look_of("DECK0004", Facts(SOUND, "wav", Fraction(3), sample_rate=48_000, channels=2, bits=24))
    'DECK# wav   None 48000 2 24'
    """
    shape = re.sub(r"\d+", "#", stem)
    coded = facts.container, facts.codec, facts.sound_codec, facts.fps, facts.sample_rate, facts.channels, facts.bits
    return " ".join(map(str, (shape, *coded)))


def assign(files: Iterable[DeviceHints], sources: list[Proposed]) -> list[int]:
    """Give every file a source; `sources` grows by those that are new.

    A file belongs to the source of its folder, unless it tells of another device than that one's files do: then two
    were filed as one. A camera's further cards, in folders of their own, are known by their reel's letters.

    Parameters
    ----------
    files : iterable of DeviceHints
    sources : list of Proposed
        Those that are known already; new ones are appended.

    Returns
    -------
    list of int
        For every file the index of its source.
    """
    given = []
    for one in files:
        mine = [n for n, source in enumerate(sources) if source.kind == one.kind and not source.contradicts(one)]
        by_folder = [n for n in mine if sources[n].folder == one.folder]
        # A folder that held one device, and now several: what was there keeps its source.
        by_folder += [n for n in mine if any(other.folder == one.folder for other in sources[n].files)]
        by_reel = [n for n in mine if one.kind == "picture" and one.letters and _has(sources[n], one)]
        by_reel = [n for n in by_reel if not any(_side_by_side(other.folder, one.folder) for other in sources[n].files)]
        chosen = next(iter(by_folder + by_reel), None)
        if chosen is None:
            sources.append(Proposed(one.folder, one.kind))
            chosen = len(sources) - 1
        sources[chosen].files.append(one)
        given.append(chosen)
    return given


def same_device(files: Sequence[DeviceHints], others: Sequence[DeviceHints]) -> bool:
    """Say whether two lots of files were made by one device: some agree by its name or their reels, and none differ.

    Parameters
    ----------
    files, others : sequence of DeviceHints
    """
    kinds = {(one.device, one.letters) for one in files}
    known = {(one.device, one.letters) for one in others}
    pairs = [(one, other) for one in kinds for other in known]
    agree = any(_agree(one[0], other[0]) or _agree(one[1], other[1]) for one, other in pairs)
    differ = any(_differ(one[0], other[0]) or _differ(one[1], other[1]) for one, other in pairs)
    return agree and not differ


def _side_by_side(folder: str, other: str) -> bool:
    """Say whether two folders lie beside each other because they are of two devices, whatever their reels say."""
    return folder != other and "/" in folder and folder.rpartition("/")[0] == other.rpartition("/")[0]


def _has(source: Proposed, one: DeviceHints) -> bool:
    return any(other.letters == one.letters for other in source.files)


def _agree(one: str, other: str) -> bool:
    return bool(one) and one == other


def _differ(one: str, other: str) -> bool:
    return bool(one and other and one != other)
