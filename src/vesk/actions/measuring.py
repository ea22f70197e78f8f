"""Listen to recordings and measure pairings of a day.

All of it is long work: it reads rows, holds nothing while it lasts, then takes the day and writes only where what it
rested on still stands. Files are decoded behind the guarded border.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from pathlib import Path

from sqlmodel import Session

from vesk.actions import gathering, merging
from vesk.actions.locating import located
from vesk.core.day.across import Across
from vesk.core.errors import MediaError
from vesk.core.progress import WHOLE, OnProgress, part_of, unwatched
from vesk.dailies import measuring
from vesk.dailies.located import Located, hear
from vesk.media import cache, checksum
from vesk.media.guarded import bordered, tell, watched
from vesk.settings import Settings
from vesk.store import changes, compared, days, pairings, recordings
from vesk.store.tables import Day, Pairing, Recording

_LEAST_WAIT_S, _SLOWEST = 120.0, 2.0  # a file that takes longer than twice its own length is stuck
_READ, _HEARD = 20, 25  # hundredths of a job: reading a file whole, and listening to each of two
_SLOWEST_BYTES = 2 << 20  # a second: slower than any disk that a day is kept on


def learn_contents(
    session: Session, settings: Settings, ids: Iterable[int], on_progress: OnProgress = unwatched
) -> None:
    """Read the files of recordings whole, where that was not done, and keep the hash of every byte of each.

    Raises
    ------
    MediaError
        If a file cannot be read, or is another than was taken in.
    """
    rows = [recordings.get(session, number) for number in ids]
    files = {row.id: row for one in rows for row in files_of(session, one)}
    unknown = [row for row in files.values() if not checksum.is_whole(row.content)]
    if not unknown:
        return
    day = days.get_day(session, unknown[0].day_id)
    places = {row.id: located(session, settings, day, row) for row in unknown}
    changes.rest(session)
    contents = {}
    for number, row in enumerate(unknown):
        own = part_of(on_progress, WHOLE * number // len(unknown), WHOLE * (number + 1) // len(unknown))
        place = places[row.id]
        lies_as_taken_in(place, row)
        wait = _LEAST_WAIT_S + row.size / _SLOWEST_BYTES
        contents[row.id] = watched(place.path, wait, own, _content_of, place.file, settings.cache)
    changes.hold(session, day.id)
    for row in unknown:
        fresh = recordings.get(session, row.id)
        if (fresh.size, fresh.modified_ns, fresh.state) == (row.size, row.modified_ns, recordings.READY):
            recordings.learn_content(session, fresh, contents[row.id])
    merging.refresh(session, days.get_day(session, day.id))
    changes.rest(session)


def _content_of(path: Path, cache_folder: Path) -> str:
    """Read a file whole, as a process of its own is asked to."""
    return checksum.content_of(path, cache_folder, on_progress=tell)


def lies_as_taken_in(place: Located, row: Recording) -> None:
    """Refuse a file that is another than was taken in, by its size or time.

    Raises
    ------
    MediaError
        Naming it.
    """
    try:
        stat = place.path.stat()
    except OSError as error:
        raise MediaError(place.path, "it is not there any more", "Connect the disk or copy it back.") from error
    if (stat.st_size, stat.st_mtime_ns) != (row.size, row.modified_ns):
        raise MediaError(place.path, "it changed since it was taken in", "Take the folder in again on Intake.")


def files_of(session: Session, row: Recording) -> list[Recording]:
    """Return the files that a recording is made of, itself where it is one."""
    if not row.merged:
        return [row]
    return [file for member in recordings.members_of(session, row) for file in files_of(session, member)]


def copies_of(session: Session, row: Recording) -> list[Recording]:
    """Return the other files of the day that hold the very same bytes."""
    if not checksum.is_whole(row.content):
        return []
    # Asked after every file: the rows of the whole day would cost more than listening to a short one.
    return [one for one in recordings.files_of_content(session, row.day_id, row.content) if one.id != row.id]


def listen(session: Session, settings: Settings, recording_id: int, on_progress: OnProgress = unwatched) -> None:
    """Compute what is kept of a recording's sound; a file that cannot be read is marked, the rest goes on.

    Raises
    ------
    StorageError
        If Vesk's own folder cannot be written: that says nothing of the recording.
    """
    row = recordings.get(session, recording_id)
    day_id = row.day_id
    try:
        learn_contents(session, settings, [recording_id], part_of(on_progress, 0, _READ))
        row = recordings.get(session, recording_id)
        day = days.get_day(session, day_id)
        place = located(session, settings, day, row)
        changes.rest(session)
        ensure_heard(place, part_of(on_progress, _READ, WHOLE))
    except MediaError as error:
        changes.hold(session, day_id)
        row = recordings.get(session, recording_id)
        if row.state == recordings.READY:
            gone = not all(file.exists() for file in located(session, settings, _day(session, day_id), row).files)
            row.state = recordings.VANISHED if gone else recordings.UNREADABLE
            row.problem = f"{row.path}: {error.reason}. {error.advice}"
            session.add(row)
        return
    changes.hold(session, day_id)
    fresh = recordings.get(session, recording_id)
    if fresh.content == place.entry.folder.name:
        fresh.heard = cache.heard(place.entry)
        session.add(fresh)


def _day(session: Session, day_id: int) -> Day:
    return days.get_day(session, day_id)


def ensure_heard(place: Located, on_progress: OnProgress = unwatched) -> None:
    """Have a recording listened to behind the border, if that was not done before; one without sound is done."""
    if place.facts.channels and not place.entry.done.exists():
        watched(place.path, _LEAST_WAIT_S + float(place.facts.duration) * _SLOWEST, on_progress, hear, place)


def measure_pairing(
    session: Session, settings: Settings, pairing_id: int, on_progress: OnProgress = unwatched
) -> Pairing:
    """Measure a pairing by sound and keep the result; what people decided meanwhile stays as they decided it.

    Raises
    ------
    MediaError
        If one of the files cannot be read.
    """
    row = pairings.get(session, pairing_id)
    learn_contents(session, settings, (row.picture_id, row.sound_id), part_of(on_progress, 0, _READ))
    now = gathering.of_pairing(session, pairing_id)
    picture = located(session, settings, now.day, now.picture)
    sound = located(session, settings, now.day, now.sound)
    of, offset = pairings.contents(now.picture, now.sound), float(now.pairing.offset)
    changes.rest(session)
    for number, place in enumerate((picture, sound)):
        ensure_heard(place, part_of(on_progress, _READ + number * _HEARD, _READ + (number + 1) * _HEARD))
    rest = part_of(on_progress, _READ + 2 * _HEARD, WHOLE)
    found = bordered(
        picture.path, lambda: measuring.measure_by_sound(picture, sound, proposal_s=offset, on_progress=rest)
    )
    changes.hold(session, now.day.id)
    row = pairings.get(session, pairing_id)
    members = recordings.by_id(session, {row.picture_id, row.sound_id})
    if pairings.contents(members[row.picture_id], members[row.sound_id]) != of:
        return row  # its files are others now; they are measured in their turn
    row.measurement, row.measured_of = found, of
    if row.state == pairings.PROPOSED:
        row.state = pairings.MEASURED
    changes.count(session, row)
    return row


def compare_rivals(session: Session, settings: Settings, day_id: int, on_progress: OnProgress = unwatched) -> int:
    """Ask rivals of a day, by their own sound, whether they are two devices filed as one; returns how many were asked.

    Two files of one device cannot share a moment; two that heard the same moments are two devices'.
    """
    day = days.get_day(session, day_id)
    asked = gathering.to_compare_of_day(session, day)
    rows = recordings.by_id(session, {int(key) for shared in asked for key in shared.pair})
    places = {str(number): located(session, settings, day, row) for number, row in rows.items()}
    contents = {number: row.content for number, row in rows.items()}
    changes.rest(session)
    for count, shared in enumerate(asked):
        if not on_progress(count, len(asked)):
            break
        one, other = places[shared.one], places[shared.other]
        try:
            same = bordered(one.path, partial(measuring.same_moment, one, other, shared.offset_s))
        except MediaError:
            continue  # it stays a question for a person
        changes.hold(session, day_id)
        fresh = [recordings.get(session, int(key)) for key in (shared.one, shared.other)]
        if all(row.content == contents[row.id] for row in fresh):
            compared.keep(session, *fresh, same_moment=same)
        changes.rest(session)
    return len(asked)


def close_loops(session: Session, settings: Settings, day_id: int, on_progress: OnProgress = unwatched) -> int:
    """Measure against each other recordings of one kind that a third laid together; returns how many were asked.

    Where a loop does not close, all of its devices' are asked.
    """
    asked: set[tuple[str, str]] = set()
    while True:
        wanted = gathering.across_of_day(session, days.get_day(session, day_id))
        news = [one for one in wanted if (one.one, one.other) not in asked]
        asked |= {(one.one, one.other) for one in news}
        if not news or not _close(session, settings, day_id, news, on_progress):
            return len(asked)


def _close(session: Session, settings: Settings, day_id: int, asked: list[Across], on_progress: OnProgress) -> bool:
    """Measure some of a day's recordings of one kind against each other; say whether to go on."""
    day = days.get_day(session, day_id)
    rows = recordings.by_id(session, {int(key) for one in asked for key in (one.one, one.other)})
    places = {str(number): located(session, settings, day, row) for number, row in rows.items()}
    contents = {number: row.content for number, row in rows.items()}
    changes.rest(session)
    for count, one in enumerate(asked):
        if not on_progress(count, len(asked)):
            return False
        work = partial(measuring.measure_across, places[one.one], places[one.other], (one.one, one.other), one.offset_s)
        try:
            across = bordered(places[one.one].path, work)
        except MediaError:
            continue  # it closes no loop
        changes.hold(session, day_id)
        fresh = [recordings.get(session, int(key)) for key in (one.one, one.other)]
        if all(row.content == contents[row.id] for row in fresh):
            compared.keep(session, *fresh, same_moment=across is not None, across=across)
        changes.rest(session)
    return True
