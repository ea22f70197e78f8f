"""Which folder is a device's: the day's own, or one below it where several cameras or recorders share that."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from fractions import Fraction
from itertools import combinations, pairwise

from vesk.core.intake.filed import Filed
from vesk.core.kinds import PICTURE, Kind

_CAMERA = re.compile(
    r"(?:cam(?:era)?[ _\-]?(?P<a>[a-z]|\d{1,2})|(?P<b>[a-z])[ _\-]?cam(?:era)?|(?P<c>[a-z])$)(?![a-z0-9])",
    re.IGNORECASE,
)
_RECORDER = re.compile(r"(?:rec(?:order)?|deck|mixer)[ _\-]?(?P<a>[a-z]|\d{1,2})(?![a-z0-9])", re.IGNORECASE)
_LEAST_TOGETHER, _LEAST_S = 2, 1  # files that ran at once, and for how long, seconds
_APART_S = Fraction(1, 5)  # what begins and lasts alike to this is a copy of the other
_PAUSE_S = 2  # between takes of a clock; a counter has none

Folder = tuple[str, ...]


def device_folders(files: Iterable[Filed]) -> dict[str, str]:
    """Return the folder that tells each file's device, by key: where no more is known the first below the day's.

    Further down where folders side by side are called after several cameras or recorders, or where what lies in each
    of them ran at the same time as what lies in each other, by labels that are a clock's.

    Parameters
    ----------
    files : iterable of Filed
        The day's. Looked at: `key`, `path`, `kind`, `header` and `duration`.
    """
    files = list(files)
    found = {}
    for kind in {one.kind for one in files}:
        below: dict[Folder, dict[str, list[Filed]]] = {}
        own = [one for one in files if one.kind == kind]
        for one in own:
            folders = _folders(one)
            for depth in range(1, len(folders)):
                below.setdefault(folders[:depth], {}).setdefault(folders[depth], []).append(one)
        parted = {parent: said for parent, children in below.items() if (said := _parted(children, kind))}
        called: dict[str, Folder] = {}  # one camera's folders of the morning and of the afternoon are called alike
        for one in sorted(own, key=lambda each: each.path):
            folders = _folders(one)
            at = next((depth for depth in range(1, len(folders)) if folders[:depth] in parted), 0)
            name = parted[folders[:at]][folders[at]] if at else ""
            device = called.setdefault(name, folders[: at + 1]) if name else folders[: at + 1]
            found[one.key] = "/".join(device) or "."
    return found


def camera_letter(folder: str) -> str:
    """Return the letter of the camera that a folder is called after, as a capital; empty without.

    Examples
    --------
    >>> camera_letter("A_CAM"), camera_letter("cam-b card 2"), camera_letter("Camera 2"), camera_letter("clips")
    ('A', 'B', '', '')
    """
    said = _CAMERA.match(folder)
    letter = next(filter(None, said.groups())) if said else ""
    return letter.upper() if letter.isalpha() else ""


def _folders(one: Filed) -> Folder:
    return tuple(one.path.split("/")[:-1])


def _parted(children: dict[str, list[Filed]], kind: Kind) -> dict[str, str]:
    """Return what folders side by side are called after, empty where after nothing; none where they are of one."""
    called = {name: (_CAMERA if kind == PICTURE else _RECORDER).match(name) for name in children}
    named = {name: next(filter(None, said.groups())).casefold() if said else "" for name, said in called.items()}
    if len(set(named.values()) - {""}) > 1:
        return named
    clocks = len(children) > 1 and all(_by_a_clock(own) for own in children.values())
    several = clocks and all(_at_once(one, other) for one, other in combinations(children.values(), 2))
    return dict.fromkeys(children, "") if several else {}


def _spans(own: Sequence[Filed]) -> list[tuple[Fraction, Fraction]]:
    return sorted((one.header, one.header + one.duration) for one in own if one.header is not None)


def _by_a_clock(own: Sequence[Filed]) -> bool:
    """Say whether the labels of a folder's files are those of a clock: one after the other, with pauses."""
    spans = _spans(own)
    gaps = [after[0] - before[1] for before, after in pairwise(spans)]
    paused = sum(gap > _PAUSE_S for gap in gaps)
    return len(spans) == len(own) > 1 and min(gaps) >= 0 and 2 * paused >= len(gaps)


def _at_once(own: Sequence[Filed], others: Sequence[Filed]) -> bool:
    """Say whether files of two folders ran at once, and are not each other's copies."""
    together = 0
    for begin, end in _spans(own):
        for low, high in _spans(others):
            alike = abs(begin - low) < _APART_S and abs(end - high) < _APART_S
            together += min(end, high) - max(begin, low) > _LEAST_S and not alike
    return together >= _LEAST_TOGETHER
