"""What a timeline, an edit list or a report made elsewhere says of which recordings belong together, and how they lie.

It is a witness from outside: shown beside what is known here, and nothing until a person takes it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from vesk.core.errors import RefusedError, TimecodeError
from vesk.core.kinds import PICTURE, Kind
from vesk.core.timecode import FrameRate, Timecode, wrap_day

_EVENT = re.compile(
    r"^(\d{3,6})\s+(\S+)\s+(\S+)\s+([CDWK]\S*)\s+(?:\d{3}\s+)?"
    r"(\d\d[:;]\d\d[:;]\d\d[:;.]\d\d)\s+(\d\d[:;]\d\d[:;]\d\d[:;.]\d\d)\s+"
    r"(\d\d[:;]\d\d[:;]\d\d[:;.]\d\d)\s+(\d\d[:;]\d\d[:;]\d\d[:;.]\d\d)",
    re.ASCII,
)
_NAME = re.compile(r"^\*\s*(?:FROM CLIP NAME|CLIP NAME|SOURCE FILE)\s*:\s*(.+)$", re.IGNORECASE)
_WITHIN = re.compile(r"^\*\s*(SOURCE|RECORD) BEGINS ([+-]\d+\.\d+) FRAMES AFTER ITS LABEL$", re.ASCII)
_MOST = 20_000


@dataclass(frozen=True, slots=True)
class There:
    """A clip elsewhere.

    Attributes
    ----------
    name : str
        Of its file, or of the clip.
    at, takes : Fraction
        Where it lies and how long, seconds from the timeline's start.
    label : Fraction
        The file's own timecode at its first frame or sample, seconds.
    picture : bool
    reel : str
    """

    name: str
    at: Fraction
    takes: Fraction
    label: Fraction
    picture: bool
    reel: str = ""


@dataclass(frozen=True, slots=True)
class Here:
    """A file of the day.

    Attributes
    ----------
    key : str
        Of its recording: that of a run, where it is one of several.
    name : str
    kind : Kind
    start : Fraction or None
        By its own header, seconds.
    duration : Fraction
        Seconds.
    reel : str
    begins : Fraction
        How far into its recording it begins, seconds.
    """

    key: str
    name: str
    kind: Kind
    start: Fraction | None
    duration: Fraction
    reel: str = ""
    begins: Fraction = Fraction(0)


@dataclass(frozen=True, slots=True)
class Belongs:
    """Two recordings that lie together elsewhere.

    Attributes
    ----------
    picture, sound : str
        Keys.
    offset : Fraction or None
        Picture time of sound sample 0 as they lie there, seconds; None where only their names say it.
    shared : Fraction
        Seconds that they lie together.
    """

    picture: str
    sound: str
    offset: Fraction | None
    shared: Fraction


def read_edit_list(text: str, rate: Fraction) -> list[There]:
    """Read the events of an edit list.

    Parameters
    ----------
    text : str
    rate : Fraction
        Frames a second that it counts at; whether it skips numbers it says itself. What its comments say beyond
        whole frames, as Vesk's own do, counts.

    Raises
    ------
    RefusedError
        If no event of it can be read.
    """
    drop, made = False, list[There]()
    for line in text.splitlines()[: 10 * _MOST]:
        if line.upper().startswith("FCM"):
            drop = "NON" not in line.upper() and "DROP" in line.upper()
        elif (found := _EVENT.match(line.strip())) is not None and len(made) < _MOST:
            made += _event(found, rate, drop=drop)
        elif (named := _NAME.match(line.strip())) is not None and made:
            made[-1] = replace(made[-1], name=_base(named[1]) or made[-1].name)
        elif (within := _WITHIN.match(line.strip())) is not None and made:
            late = Fraction(within[2]) / rate
            last = made[-1]
            made[-1] = (
                replace(last, at=last.at + late) if within[1] == "RECORD" else replace(last, label=last.label + late)
            )
    if not made:
        raise RefusedError("It holds no event of an edit list that can be read: export it again as EDL.")
    return made


def _event(found: re.Match[str], rate: Fraction, *, drop: bool) -> list[There]:
    try:
        times = [_seconds(found[n], rate, drop=drop) for n in (5, 7, 8)]
    except TimecodeError:
        return []
    first, begins, ends = times
    takes = wrap_day(ends - begins, FrameRate(rate, drop).day)
    channels = found[3].upper()
    kinds = [True] if "V" in channels or channels.startswith("B") else []
    kinds += [False] if "A" in channels or channels in {"NONE", "B"} else []
    return [There(found[2], begins, takes, first, picture, found[2]) for picture in kinds if takes > 0]


def _seconds(label: str, rate: Fraction, *, drop: bool) -> Fraction:
    plain = label.replace(".", ":").replace(";", ":")
    full = plain[:8] + (";" if drop else ":") + plain[9:]
    return Timecode.parse(full, FrameRate(rate, drop)).seconds


def _base(path: str) -> str:
    """Return the last name of a path, whichever way its folders are parted."""
    return path.strip().replace("\\", "/").rstrip("/").rpartition("/")[2]


def belongs(clips: Sequence[There], files: Iterable[Here], day: Fraction) -> tuple[list[Belongs], list[str]]:
    """Return which recordings lie together, the longest together first, and the names that none here bears.

    Parameters
    ----------
    clips : sequence of There
    files : iterable of Here
    day : Fraction
        How long the label clock takes to come round, seconds.
    """
    known: dict[str, list[Here]] = {}
    for one in files:
        for name in {one.name, one.name.rsplit(".", 1)[0], *([one.reel] if one.reel else [])}:
            known.setdefault(name.casefold(), []).append(one)
    placed: list[tuple[There, Here, Fraction]] = []
    strangers: dict[str, None] = {}
    for clip in clips:
        own = _file_of(clip, known, day)
        if own is None:
            strangers.setdefault(clip.name)
        else:
            placed.append((clip, own, own.begins + _first(clip, own, day)))
    found: dict[tuple[str, str], Belongs] = {}
    pictures = [one for one in placed if one[0].picture and one[1].kind == PICTURE]
    sounds = sorted((one for one in placed if one[1].kind != PICTURE), key=lambda one: one[0].at)
    for clip, own, first in pictures:
        for other, its, begins in sounds:
            if other.at >= clip.at + clip.takes:
                break
            shared = min(clip.at + clip.takes, other.at + other.takes) - max(clip.at, other.at)
            if shared <= 0:
                continue
            offset = (other.at - begins) - (clip.at - first)
            before = found.get((own.key, its.key))
            if before is None or before.shared < shared:
                found[own.key, its.key] = Belongs(own.key, its.key, offset, shared)
    return sorted(found.values(), key=lambda one: (-one.shared, one.picture, one.sound)), list(strangers)


def _file_of(clip: There, known: Mapping[str, Sequence[Here]], day: Fraction) -> Here | None:
    """Return which recording a clip is of: by its name, else its reel; of several, the one whose timecode holds it."""
    for name in (clip.name, clip.name.rsplit(".", 1)[0], clip.reel):
        like = known.get(name.casefold(), []) if name else []
        if len(like) == 1:
            return like[0]
        inside = [one for one in like if _holds(one, clip.label, day)]
        if len(inside) == 1:
            return inside[0]
    return None


def _holds(one: Here, label: Fraction, day: Fraction) -> bool:
    return one.start is not None and 0 <= wrap_day(label - one.start, day) < one.duration


def _first(clip: There, own: Here, day: Fraction) -> Fraction:
    """Return where in its file a clip begins, seconds: by its timecode, which counts from zero where it has none."""
    if own.start is None:
        return clip.label
    since = wrap_day(clip.label - own.start, day)
    # A timeline that knew no timecode of the file counts from its beginning.
    return since if -1 <= since <= own.duration else min(clip.label, own.duration)


def read_pairs(lines: Sequence[Mapping[str, str]], files: Iterable[Here]) -> list[Belongs]:
    """Return which recordings a report says belong together: its columns ``picture`` and ``sound``.

    Parameters
    ----------
    lines : sequence of mapping
        Of the report.
    files : iterable of Here

    Raises
    ------
    RefusedError
        If it has no such columns.
    """
    if not lines or not {"picture", "sound"} <= set(lines[0]):
        raise RefusedError("It has no columns 'picture' and 'sound': a report of a turnover has both.")
    known = {one.name.casefold(): one for one in files}

    def own(path: str) -> Here | None:
        return known.get(_base(path.strip().lstrip("'")).casefold())

    made: dict[tuple[str, str], Belongs] = {}
    for line in lines[:_MOST]:
        picture = own(line["picture"] or "")
        for name in (line["sound"] or "").split(" + "):
            sound = own(name)
            if picture is not None and sound is not None and picture.kind == PICTURE and sound.kind != PICTURE:
                made[picture.key, sound.key] = Belongs(picture.key, sound.key, None, Fraction(0))
    return list(made.values())
