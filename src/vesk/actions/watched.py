"""What is decided while watching: what is wrong, which range is handed over, which camera is shown."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from fractions import Fraction
from math import ceil, floor
from pathlib import Path
from tempfile import TemporaryDirectory

from sqlmodel import Session

from vesk.actions.facts import facts_of
from vesk.actions.handover.timeline import files_in
from vesk.actions.moments import Moment, Strip
from vesk.actions.overview import Overview
from vesk.core.errors import RefusedError, StaleError
from vesk.core.handover.edl import edit_lists
from vesk.core.handover.timeline import Media, Timeline
from vesk.core.kinds import PICTURE
from vesk.core.moment.rough_cut import Lying, RoughCut, as_timeline
from vesk.core.timecode import Timecode
from vesk.core.timemap import TimeMap, composed, inverted
from vesk.media.otio_file import write_otio
from vesk.settings import Settings
from vesk.store import changes, journal, recordings, watched
from vesk.store.tables import KeptRange, Recording, RoughCutRow, WatchNote

LONGEST = 400
_STALE = "Somebody else cut this meanwhile. Nothing of yours was applied: look at it as it is now."


def note(session: Session, settings: Settings, moment: Moment, *, at: Fraction, text: str) -> None:
    """Note what is wrong at a time of a moment, seconds of its axis.

    Raises
    ------
    RefusedError
        If nothing is said, or too much.
    """
    said = " ".join(text.split())
    if not said or len(said) > LONGEST:
        raise RefusedError(f"Say what is wrong in a sentence, {LONGEST} characters at most.")
    changes.hold(session, moment.day.id)
    where = _inside(moment, at)
    session.add(WatchNote(recording_id=moment.about.id, at_us=round(where * 1_000_000), text=said,
                          made_by=settings.person))  # fmt: skip
    _journal(session, settings, moment, f"{moment.about.name} at {_label(moment, where)}: {said}")


def take_note_back(session: Session, settings: Settings, moment: Moment, note_id: int) -> None:
    """Take back what was said to be wrong."""
    changes.hold(session, moment.day.id)
    row = watched.take_back(session, note_id)
    about = recordings.get(session, row.recording_id)
    _journal(session, settings, moment, f"{about.name}: taken back that “{row.text}”")


def keep_range(session: Session, settings: Settings, moment: Moment, view: Overview, *, at: Fraction, end: str) -> str:
    """Have only what lies from a time of a moment on, or up to it, handed over, of every camera that ran.

    Parameters
    ----------
    session, settings, moment
    view : Overview
    at : Fraction
        Seconds of the axis.
    end : str
        ``from`` or ``to``.

    Raises
    ------
    RefusedError
        If nothing would be left.
    """
    changes.hold(session, moment.day.id)
    standing = watched.ranges_of_day(session, view.day.id)
    now = range_of(moment, standing) or (Fraction(0), moment.about.duration)
    wanted = (at, now[1]) if end == "from" else (now[0], at)
    if end not in {"from", "to"} or wanted[1] <= wanted[0]:
        raise RefusedError("Nothing would be left: the end lies after the beginning.")
    names = []
    for strip in moment.of(PICTURE):
        found = _frames(strip, wanted)
        if found is None:
            continue
        watched.let_range_go(session, strip.row.id)
        session.add(KeptRange(recording_id=strip.row.id, first=found[0], last=found[1], made_by=settings.person))
        names.append(strip.row.name)
    if moment.about.name not in names:
        raise RefusedError(f"Nothing of {moment.about.name} would be left.")
    what = f"only {_label(moment, wanted[0])} to {_label(moment, wanted[1])} is handed over"
    _journal(session, settings, moment, f"{', '.join(names)}: {what}")
    return what


def let_range_go(session: Session, settings: Settings, moment: Moment) -> None:
    """Have every camera of a moment handed over whole."""
    changes.hold(session, moment.day.id)
    for strip in moment.of(PICTURE):
        watched.let_range_go(session, strip.row.id)
    _journal(session, settings, moment, f"{moment.about.name} and what ran with it: handed over whole")


def range_of(moment: Moment, ranges: Mapping[int, KeptRange]) -> tuple[Fraction, Fraction] | None:
    """Return the range of a moment that is handed over, seconds of the axis; None: all."""
    own = ranges.get(moment.about.id)
    fps = facts_of(moment.about).fps
    return None if own is None or fps is None else (own.first / fps, own.last / fps)


def _frames(strip: Strip, wanted: tuple[Fraction, Fraction]) -> tuple[int, int] | None:
    """Return which frames of a camera lie within a range of the axis; None where none does."""
    facts = facts_of(strip.row)
    if not facts.fps or not facts.frames:
        return None
    back = inverted(strip.laid.to_axis)
    first = max(0, floor(back(wanted[0]) * facts.fps + Fraction(1, 1000)))
    last = min(facts.frames, ceil(back(wanted[1]) * facts.fps - Fraction(1, 1000)))
    return (first, last) if last > first else None


def change_cut(
    session: Session, settings: Settings, moment: Moment, *, version: int, change: Callable[[RoughCut], RoughCut]
) -> None:
    """Change the rough cut of a moment.

    Raises
    ------
    StaleError
        If it is another than the one of `version`.
    """
    changes.hold(session, moment.day.id)
    now = watched.rough_cut(session, moment.about.id)
    if (now.id if now else 0) != version:
        raise StaleError(_STALE)
    made = change((now.cut if now else None) or RoughCut())
    session.add(RoughCutRow(recording_id=moment.about.id, cut=made, made_by=settings.person))


def undo_cut(session: Session, moment: Moment, *, version: int) -> None:
    """Undo the last change of a rough cut.

    Raises
    ------
    StaleError
        If it is another than the one of `version`.
    RefusedError
        If there is none.
    """
    changes.hold(session, moment.day.id)
    now = watched.rough_cut(session, moment.about.id)
    if (now.id if now else 0) != version:
        raise StaleError(_STALE)
    if now is None:
        raise RefusedError("There is nothing to undo here.")
    now.undone_at = datetime.now(UTC)


def day_frame_at(moment: Moment, at: Fraction) -> int:
    """Return the frame of the day at a time of a moment's axis."""
    return floor(((moment.start or Fraction(0)) + at) * moment.clock.fps + Fraction(1, 1000))


def cut_timeline(view: Overview, moment: Moment, cut: RoughCut) -> Timeline:
    """Return the rough cut of a moment as a timeline of the originals."""
    lying = []
    start = moment.start or Fraction(0)
    for strip in moment.strips:
        on_day = composed(TimeMap(start), strip.laid.to_axis)
        for file, begins in files_in(strip.row, view.members):
            lying.append(Lying(_media(file, strip, moment), on_day.from_source(begins)))
    name = f"{moment.about.name} rough cut"
    return as_timeline(name, cut, lying, fps=moment.clock.fps, drop=moment.clock.drop)


def cut_file(view: Overview, moment: Moment, cut: RoughCut, kind: str, originals: str = "") -> tuple[str, bytes]:
    """Return the rough cut of a moment as a file: its name, and what it holds; the originals are referred to.

    `originals` is where the day's files lie as seen from where it will lie; empty: where they lie on this machine.

    Raises
    ------
    RefusedError
        If nothing is cut, or there is no such kind.
    """
    timeline = cut_timeline(view, moment, cut)
    stem = f"{moment.about.name.rsplit('.', 1)[0]} rough cut"
    if kind == "edl":
        lists = [text for track in timeline.tracks if track.clips for text in edit_lists(timeline, track)]
        return f"{stem}.edl", "\r\n".join(text.replace("\n", "\r\n") for text in lists).encode()
    if kind != "otio":
        raise RefusedError("A rough cut goes out as otio or edl.")
    with TemporaryDirectory(prefix="vesk-") as folder:
        path = Path(folder, "cut.otio")
        write_otio(timeline, path, originals=originals or view.day.folder)
        return f"{stem}.otio", path.read_bytes()


def _media(file: Recording, strip: Strip, moment: Moment) -> Media:
    facts, told = facts_of(file), strip.row.told
    picture = strip.row.kind == PICTURE
    rate = (facts.fps or moment.clock.fps) if picture else Fraction(facts.sample_rate or 48_000)
    start, clock = facts.start(moment.clock)
    return Media(
        str(file.id), file.name, file.path, strip.source.tag, strip.row.kind or PICTURE, start, facts.duration, rate,
        clock.fps, clock.drop, facts.tape, told.scene if told else facts.scene, told.take if told else facts.take,
        facts.channels,
    )  # fmt: skip


def _inside(moment: Moment, at: Fraction) -> Fraction:
    return min(max(at, Fraction(0)), moment.about.duration)


def _label(moment: Moment, at: Fraction) -> str:
    if moment.start is None:
        return f"{float(at):.2f} s"
    return str(Timecode.at(Fraction(day_frame_at(moment, at)) / moment.clock.fps, moment.clock))


def _journal(session: Session, settings: Settings, moment: Moment, what: str) -> None:
    journal.note(session, day_id=moment.day.id, by=settings.person, what=what)
