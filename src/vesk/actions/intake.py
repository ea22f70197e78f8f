"""Intake: take a folder in and find out what is there."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import date
from fractions import Fraction
from pathlib import Path

from sqlmodel import Session

from vesk.actions.assigning import assign_sources
from vesk.actions.folder_watch import growing
from vesk.actions.known import known_of_day
from vesk.core.errors import MediaError, RefusedError, StaleError, VeskError
from vesk.core.facts import Facts
from vesk.core.kinds import NO_RECORDING, NONE, PICTURE, SOUND, Unusable
from vesk.core.progress import OnProgress, unwatched
from vesk.core.timecode import FrameRate
from vesk.core.tolerance import Tolerance
from vesk.media import checksum, probe, scan
from vesk.media.answering import within
from vesk.media.guarded import guarded_each
from vesk.media.probe import EDITION
from vesk.settings import VESK, Settings
from vesk.store import changes, days, journal, recordings
from vesk.store.tables import Day, Recording

_LONGEST_NAME = 120
_READERS, _AT_ONCE = 2, 8  # processes that read, and files that each is given at a time
_READING_S = 60.0  # facts are read in milliseconds; a file that takes this long is damaged


@dataclass(frozen=True, slots=True)
class TakenIn:
    """What an intake found: counts, and the recordings to listen to."""

    ready: tuple[int, ...]
    new: int
    unreadable: int
    vanished: int


def name_day(
    session: Session,
    settings: Settings,
    *,
    production: str,
    number: int,
    shot_on: date,
    rate: FrameRate,
    folder: str,
) -> Day:
    """Name a production and a shoot day and point it at its folder.

    Raises
    ------
    MediaError
        If the folder is not there or not under an allowed media root.
    RefusedError
        If the production has no name.
    StaleError
        If this very day was named already.
    """
    if not production.strip():
        raise RefusedError("The production needs a name.")
    if len(production) > _LONGEST_NAME:
        raise RefusedError(f"A production's name has {_LONGEST_NAME} characters at most.")
    place = within(folder, lambda: scan.allowed(Path(folder), settings.media_roots))
    changes.hold_naming(session)
    named = days.production_named(session, production.strip())
    if any(
        one.production_id == named.id and one.number == number and one.folder == str(place)
        for _, one in days.all_days(session)
    ):
        raise StaleError(f"Shoot day {number} of {named.name}, with this folder, is there already.")
    day = Day(
        production_id=named.id,
        number=number,
        shot_on=shot_on,
        folder=str(place),
        fps=rate.fps,
        drop=rate.drop,
        tolerance=Tolerance().frames,
    )
    session.add(day)
    session.flush()
    journal.note(
        session,
        day_id=day.id,
        by=settings.person,
        what=f"named shoot day {number} at {rate} fps, folder {place}",
    )
    return day


@dataclass(frozen=True, slots=True)
class _Read:
    """What one look at a file gave: facts, or why there are none; neither where it lies as it did.

    Facts without content are of one that lies as it did, and was read by an older edition.
    """

    size: int = 0
    modified_ns: int = 0
    content: str = ""
    facts: Facts | None = None
    problem: str = ""
    kind: Unusable = Unusable.DAMAGED


def take_in(session: Session, settings: Settings, day: Day, on_progress: OnProgress = unwatched) -> TakenIn:
    """Walk the day's folder, read each file's facts, and assign sources by folder.

    The files are read while nobody waits; then the day is taken, and what was read is laid over what is there. What
    was decided about a recording stays; a file that vanished is marked, not forgotten.
    """
    root = scan.allowed(settings.here(day.folder), settings.media_roots)
    day_id = day.id
    known = {row.path: row for row in recordings.files_of_day(session, day_id)}
    lay = {path: _Lay.of(row) for path, row in known.items()}
    changes.rest(session)
    found = list(scan.walk(root))
    still = growing([item.path for item in found])
    read: dict[str, _Read] = {}
    items = [scan.Found(item.path, _GROWING) if item.path in still else item for item in found]
    files = [(item, path, lay.get(path, _NEW)) for item in items for path in (scan.shown(item.path, root),)]
    with ThreadPoolExecutor(_READERS) as readers:
        for some in readers.map(_read, (files[at : at + _AT_ONCE] for at in range(0, len(files), _AT_ONCE))):
            if not on_progress(len(read), len(found)):
                readers.shutdown(cancel_futures=True)
                break
            read |= some
    copies = _compared(root, read, known, settings.cache)
    changes.hold(session, day_id)
    new = _lay_over(session, day, read, copies, whole=len(read) == len(found))
    assign_sources(session, day)
    rows = recordings.files_of_day(session, day_id)
    ready = tuple(row.id for row in rows if row.state == "ready")
    unreadable = sum(row.state == recordings.UNREADABLE and row.unusable not in NO_RECORDING for row in rows)
    result = TakenIn(ready, new, unreadable, sum(row.state == recordings.VANISHED for row in rows))
    journal.note(
        session,
        day_id=day_id,
        by=VESK,
        what=f"took in {day.folder}: {len(ready)} recordings, {new} of them new, {result.unreadable} unreadable, "
        f"{result.vanished} vanished",
    )
    return result


def listening_order(session: Session, day: Day) -> list[Recording]:
    """Return a day's recordings in the order in which they are best listened to.

    As the day went, by the clocks that are trusted: the sides of a take come one after the other, and it is measured
    as soon as both are heard; then what no clock lays. What is set aside, and what one device cannot have recorded
    (with all of its source, where that is most of what a clock lays), comes last: rescued pieces keep no take waiting.
    """
    known = known_of_day(session, day)
    odd = {key for one in known.conflicts for key in (one.first, one.second)}
    laid = {
        key: one.item.source
        for key, one in known.recordings.items()
        if one.start is not None and one.clock != NONE and not one.aside
    }
    many, of_them = Counter(laid.values()), Counter(laid[key] for key in odd if key in laid)
    pieces = {source for source, count in of_them.items() if 2 * count > many[source]}

    def when(row: Recording) -> tuple[bool, bool, Fraction, str]:
        key, one = str(row.id), known.recordings.get(str(row.id))
        last = one is None or key in odd or bool(one.aside) or one.item.source in pieces
        return last, key not in laid, row.start or Fraction(0), row.path

    return sorted(recordings.ready_of_day(session, day.id), key=when)


_GROWING = "it is still being copied; it waits, and comes in with the next intake"
_VANISHED = (
    "{path}: it was here before and is gone. Connect the disk or copy it back; what was decided about it is kept."
)


@dataclass(frozen=True, slots=True)
class _Lay:
    """How a file lay when it was last read, where it could be, by which edition, and what it serves as."""

    at: tuple[int, int] | None = None
    serves: str | None = None
    read_by: int = EDITION

    @staticmethod
    def of(row: Recording) -> _Lay:
        stands = row.state == recordings.READY and row.facts is not None
        read_by = row.facts.read_by if row.facts is not None else EDITION
        return _Lay((row.size, row.modified_ns) if stands else None, row.kind, read_by)


_NEW = _Lay()


def _read(files: Sequence[tuple[scan.Found, str, _Lay]]) -> dict[str, _Read]:
    """Look at some files: how they lie, and what they say of themselves where that is not known yet."""
    read, fresh = {}, []
    for item, path, known in files:
        try:
            if item.problem:
                raise MediaError(path, item.problem, kind=item.kind)
            stat = item.path.stat()
            read[path] = _Read(stat.st_size, stat.st_mtime_ns)
            if known.at != (stat.st_size, stat.st_mtime_ns) or known.read_by != EDITION:
                fresh.append((item.path, path, known))
        except (MediaError, OSError) as error:
            read[path] = _Read(problem=_sentence(path, error), kind=_kind(error))
    found = guarded_each([place for place, _, _ in fresh], _READING_S, probe.read_facts)
    for (place, path, known), facts in zip(fresh, found, strict=True):
        lies = known.at == (read[path].size, read[path].modified_ns)
        if lies and isinstance(facts, VeskError):
            continue  # it was read before: whoever listens to it will say what is wrong
        try:
            if isinstance(facts, VeskError):
                raise facts
            serves = facts.as_sound() if known.serves == SOUND and facts.kind == PICTURE else facts
            read[path] = replace(read[path], facts=serves, content="" if lies else checksum.unread(place))
        except (VeskError, OSError) as error:
            # Size and time are kept also when it cannot be read: only then can be said later that it changed.
            read[path] = replace(read[path], problem=_sentence(path, error), kind=_kind(error))
    return read


def _kind(error: Exception) -> Unusable:
    return error.kind if isinstance(error, MediaError) else Unusable.DAMAGED


def _sentence(path: str, error: Exception) -> str:
    reason = f"{error.reason}. {error.advice}" if isinstance(error, MediaError) else str(error)
    return f"{path}: {reason}".strip()


def _compared(root: Path, read: Mapping[str, _Read], known: Mapping[str, Recording], cache: Path) -> dict[str, str]:
    """Return the contents of new files that may be copies, of what they may be copies of, and of files that came back.

    All are compared by every byte: a guess would have a file thrown away, or a check stand that nobody made.
    """
    by_size: dict[int, list[str]] = {}
    for path, one in read.items():
        if not one.problem:
            by_size.setdefault(one.size, []).append(path)
    alike: dict[str, list[str]] = {}
    for same in by_size.values():
        # Each is looked into once: a card may hold hundreds of one size.
        by_pieces: dict[bytes, list[str]] = {}
        for path in same if len(same) > 1 else ():
            with suppress(MediaError, OSError):
                by_pieces.setdefault(checksum.pieces(scan.placed(root, path)), []).append(path)
        alike |= {path: group for group in by_pieces.values() for path in group}
    contents: dict[str, str] = {}
    for path, one in read.items():
        if not one.content:
            continue
        try:
            like = [other for other in alike.get(path, ()) if other != path]
            was = known.get(path)
            again = was is not None and was.size == one.size and checksum.is_whole(was.content)
            for name in [path, *like] if like or again else ():
                contents[name] = contents.get(name) or checksum.content_of(scan.placed(root, name), cache)
        except (MediaError, OSError):
            continue  # whoever listens to it will say what is wrong
    return contents


def _lay_over(session: Session, day: Day, read: Mapping[str, _Read], copies: Mapping[str, str], *, whole: bool) -> int:
    """Lay what was read over the day's rows; returns how many are new. Only a `whole` walk tells what vanished."""
    day_id, new = day.id, 0
    rows = {row.path: row for row in recordings.ever_of_day(session, day_id)}
    for path, one in read.items():
        row = rows.get(path)
        if row is None:
            row = Recording(day_id=day_id, path=path, name=Path(path).name, size=0, modified_ns=0)
            new += 1
        if one.size or one.modified_ns:
            row.size, row.modified_ns = one.size, one.modified_ns
        if one.problem:
            row.state, row.problem, row.unusable = recordings.UNREADABLE, one.problem, one.kind
        elif one.facts is not None:
            row.state, row.problem, row.unusable = recordings.READY, "", None
            row.content = one.content or row.content
            row.kind, row.duration, row.facts = one.facts.kind, one.facts.duration, one.facts
            row.start = one.facts.span("", "", "", days.rate_of(day)).start_on(days.rate_of(day))
        session.add(row)
        if path in copies:
            recordings.learn_content(session, row, copies[path])
    for path, row in rows.items() if whole else ():
        if path not in read:
            # Nothing was ever read from it: it is shown no more, but a turnover may name it.
            known = row.facts is not None
            row.state = recordings.VANISHED if known else recordings.GONE
            row.problem = _VANISHED.format(path=path) if known else ""
            session.add(row)
    session.flush()
    return new


def told_slate(rows: Sequence[Recording]) -> tuple[str, str]:
    """Return the scene and take that count for recordings of one take: put right by a person, else the first that says.

    What a recording says by itself is what its file, its report or its name does.
    """
    for row in sorted(
        rows, key=lambda one: one.told is None or not one.told.by_person
    ):  # stable: else in the order given
        if row.told is not None and row.told.scene:
            return row.told.scene, row.told.take
    return "", ""
