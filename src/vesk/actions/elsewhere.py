"""Timelines, edit lists and reports made elsewhere: read, laid beside what is known here, taken by a person."""

from __future__ import annotations

import csv
import io
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

from sqlmodel import Session

from vesk.actions import joining
from vesk.actions.facts import facts_of
from vesk.actions.handover.timeline import files_in
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import SET_ASIDE, PairingStatus
from vesk.core.errors import MediaError, RefusedError, VeskError
from vesk.core.handover.elsewhere import Belongs, Here, There, belongs, read_edit_list, read_pairs
from vesk.core.kinds import PICTURE
from vesk.core.pairing.by_hand import ByHand
from vesk.core.timecode import FrameRate
from vesk.core.wording import how_late
from vesk.media.otio_file import read_otio
from vesk.settings import Settings
from vesk.store import days
from vesk.store.tables import Day, Recording

_AS_HERE_FRAMES = 0.5


@dataclass(frozen=True, slots=True)
class Line:
    """Two recordings that lie together elsewhere, beside what is known here.

    Attributes
    ----------
    picture, sound : Recording
    says : Belongs
    now : PairingStatus or None
        Their pairing here.
    beside : str
        How what is there differs from here, in words.
    news : bool
        Whether it says something that is not known here.
    """

    picture: Recording
    sound: Recording
    says: Belongs
    now: PairingStatus | None
    beside: str
    news: bool

    @property
    def key(self) -> str:
        """What a form sends of it: both recordings, and the place where it tells one."""
        place = "" if self.says.offset is None else f"{self.says.offset.numerator}/{self.says.offset.denominator}"
        return f"{self.picture.id}:{self.sound.id}:{place}"


def read(view: Overview, name: str, data: bytes) -> tuple[list[Line], list[str]]:
    """Read what was made elsewhere; nothing is kept of it.

    Parameters
    ----------
    view : Overview
    name : str
        Of the file: its ending tells what it is.
    data : bytes

    Returns
    -------
    list of Line, list of str
        What lies together there, and names that no recording here bears.

    Raises
    ------
    RefusedError
        If it is none of the three.
    MediaError
        If it is a timeline that cannot be read.
    """
    rows = {str(row.id): row for row in view.recordings if row.facts is not None and row.state == "ready"}
    clock = days.rate_of(view.day)
    files = [
        _here(key, row, file, begins, clock)
        for key, row in rows.items()
        for file, begins in files_in(row, view.members)
        if file.facts is not None
    ]
    ending = Path(name).suffix.lower()
    strangers: list[str] = []
    if ending == ".otio":
        found, strangers = belongs(_timeline(name, data), files, clock.day)
    elif ending == ".edl":
        found, strangers = belongs(read_edit_list(_text(data), clock.fps), files, clock.day)
    elif ending == ".csv":
        found = read_pairs(list(csv.DictReader(io.StringIO(_text(data)))), files)
    else:
        raise RefusedError(f"{name or 'Nothing'} is no timeline (.otio), edit list (.edl) or report (.csv).")
    now = {(str(one.picture.id), str(one.sound.id)): one for one in view.statuses}
    return [_line(rows, one, now.get((one.picture, one.sound))) for one in found], strangers


def _text(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _timeline(name: str, data: bytes) -> list[There]:
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / (Path(name).name or "timeline.otio")
        path.write_bytes(data)
        try:
            clips = read_otio(path)
        except MediaError as error:  # by the name that the person knows it by
            raise MediaError(path.name, error.reason, error.advice) from error
    return [There(one.file or one.name, one.at, one.takes, one.label, one.picture) for one in clips]


def _here(key: str, row: Recording, file: Recording, begins: Fraction, clock: FrameRate) -> Here:
    facts = facts_of(file)
    start = facts.start(clock)[0]
    return Here(key, file.name, row.kind or PICTURE, start, file.duration, facts.tape, begins)


def _line(rows: dict[str, Recording], one: Belongs, now: PairingStatus | None) -> Line:
    picture, sound = rows[one.picture], rows[one.sound]
    if now is None:
        aside = picture.aside or sound.aside
        beside = f"set aside here: {aside}" if aside else "not paired here"
        return Line(picture, sound, one, None, beside, news=not aside)
    if now.state == SET_ASIDE:
        return Line(picture, sound, one, now, f"set aside here: {now.aside}", news=True)
    if one.offset is None:
        return Line(picture, sound, one, now, "paired here, too", news=False)
    off = float(now.laid.offset - one.offset)
    if abs(off) * float(now.fps) <= _AS_HERE_FRAMES:
        return Line(picture, sound, one, now, "lies as here", news=False)
    return Line(picture, sound, one, now, f"here its sound lies {how_late(off, now.fps)} against there", news=True)


def take(
    session: Session, settings: Settings, day: Day, keys: Sequence[str], *, laid: bool
) -> tuple[list[int], list[str]]:
    """Take what was read: the recordings belong together, and, where asked, lie as they did there.

    Parameters
    ----------
    session, settings, day
    keys : sequence of str
        Of lines, as they were shown.
    laid : bool

    Returns
    -------
    list of int, list of str
        Pairings, and what could not be done.
    """
    made, problems = [], []
    for key in keys:
        try:
            picture, sound, place = _read_key(key)
            both = joining.both_of(session, day, picture, sound)
            version = both.now.pairing.version if both.now is not None else 0
            with session.begin_nested():
                if laid and place is not None:
                    # The moment that is sound sample 0: later than the picture's head, or earlier.
                    event = ByHand(max(Fraction(0), place), max(Fraction(0), -place))
                    row = joining.join(session, settings, both, event, version=version)
                else:
                    row = joining.belong(session, settings, both, version=version)
                made.append(row.id)
        except VeskError as error:
            problems.append(str(error))
    return made, problems


def _read_key(key: str) -> tuple[int, int, Fraction | None]:
    try:
        picture, sound, place = key[:80].split(":")
        return int(picture), int(sound), Fraction(place) if place else None
    except (ValueError, ZeroDivisionError):
        raise RefusedError("The selection cannot be read. Read the file again.") from None
