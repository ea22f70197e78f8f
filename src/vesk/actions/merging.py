"""A day's files taken together as one recording, and apart again: by what is found, or by a person."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

from natsort import natsorted
from sqlmodel import Session

from vesk.actions.assigning import drop_empty, part_devices
from vesk.actions.facts import facts_of
from vesk.actions.known import known_of_day
from vesk.actions.locating import located
from vesk.core.errors import RefusedError, StaleError
from vesk.core.intake.filed import Filed
from vesk.core.kinds import PICTURE, RUN, SET, SOUND, Together
from vesk.core.wording import counted
from vesk.dailies import merging
from vesk.dailies.sources import own_sounds_of
from vesk.media.merged import merge_facts, merged_content
from vesk.settings import VESK, Settings
from vesk.store import changes, days, journal, overrides, pairings, recordings
from vesk.store.recordings import APART, READY
from vesk.store.tables import Day, Recording

_OWN_SOUND_S = Fraction(1, 2)  # by which a picture and sound that a person calls its own may end apart


def merge_day(session: Session, settings: Settings, day: Day) -> list[Recording]:
    """Make the sets and the runs that a day's files show; returns what is new and has to be listened to."""
    made: list[Recording] = []
    _free_own_sounds(session, day)
    filed, rows = _files(session, day)
    contents: dict[str, str] = {}
    for how in (SET, RUN):
        if made:
            filed, rows = _files(session, day)
        apart = _apart(session, day)
        if how == SET:
            found = merging.sets_among(filed, apart)
        else:
            places = {one.key: located(session, settings, day, rows[int(one.key)]) for one in filed}
            contents = {one.key: rows[int(one.key)].content for one in filed}
            changes.rest(session)  # a doubtful joint is looked up in what other devices recorded
            found = merging.runs_among(filed, places, apart)
        if found:
            made += _take_together(session, day, found, how, contents)
        if how == SET:
            part_devices(session, day)  # what stays apart from its picture
    _tell(session, day, made)
    return made


def _take_together(
    session: Session, day: Day, found: list[merging.Merged], how: Together, contents: Mapping[str, str]
) -> list[Recording]:
    """Make of files what was found, as far as nobody decided otherwise; returns what was made."""
    changes.hold(session, day.id)
    made = []
    apart, (_, rows) = _apart(session, day), _files(session, day)
    for one in found:
        stands = all(int(key) in rows for key in one.keys) and not apart.intersection(pairwise(one.keys))
        if not stands or (how == RUN and any(rows[int(key)].content != contents[key] for key in one.keys)):
            continue  # somebody decided otherwise meanwhile
        names = {number: rows[number].name for number in map(int, one.keys)}
        if decided := pairings.decided_with(session, names):
            _leave(session, day, list(names.values()), [names[number] for number in sorted(decided)], one.why)
            continue
        made.append(_make(session, day, [rows[int(key)] for key in one.keys], how, why=one.why, by=VESK))
    return made


def _tell(session: Session, day: Day, made: list[Recording]) -> None:
    """Say in the journal what was taken together: each by itself, pictures and their own sound in one line."""
    beside = [row for row in made if row.kind == PICTURE and row.merged == SET]
    if beside:
        what = (
            f"took pictures and their own sound together: {counted(len(beside), 'recording')}, first {beside[0].name}"
        )
        journal.note(session, day_id=day.id, by=VESK, what=what)
    for row in made:
        if row not in beside:
            how = _words(row.merged or RUN)
            what = f"took {len(row.members)} files together as {how} {row.name}: {row.merged_why}"
            journal.note(session, day_id=day.id, by=VESK, what=what)


def _free_own_sounds(session: Session, day: Day) -> None:
    """Take apart again what Vesk took sound files for that came before the picture they belong to."""
    files = {row.path: row for row in recordings.files_of_day(session, day.id) if row.state == READY and row.facts}
    standing = [row for row in files.values() if row.member_of is None]
    if not any(row.kind == PICTURE and not facts_of(row).channels for row in standing):
        return
    merged = recordings.merged_of_day(session, day.id)
    made = {row.id: row for row in merged if row.merged_by == VESK and row.kind == SOUND}
    free = [row for row in files.values() if row.member_of is None or row.member_of in made]
    beside = own_sounds_of([(row.path, facts_of(row)) for row in free if row.kind == SOUND or row in standing])
    held = {files[path].member_of for own in beside.values() for path in own}
    for row in [row for number, row in made.items() if number in held]:
        changes.hold(session, day.id)
        if row.state == READY and not pairings.decided_with(session, [row.id]):
            _part(session, row, VESK)
            journal.note(session, day_id=day.id, by=VESK, what=f"took {row.name} apart: its pictures came")


def _part(session: Session, row: Recording, by: str) -> None:
    """Let the files of a recording stand for themselves."""
    for member in recordings.members_of(session, row):
        member.member_of = None
        session.add(member)
    row.state, row.merged_by = APART, by
    changes.count(session, row)
    session.flush()


def _leave(session: Session, day: Day, names: list[str], decided: list[str], why: str) -> None:
    """Say once that files which look like one recording stay as they are: what a person decided stands above it."""
    what = (
        f"left {', '.join(names)} as they are, though they look like one recording ({why}): takes of "
        f"{', '.join(decided)} are corrected or checked. To take them together, tick them on Intake"
    )
    if not journal.says(session, day.id, what):
        journal.note(session, day_id=day.id, by=VESK, what=what)


def _files(session: Session, day: Day) -> tuple[list[Filed], dict[int, Recording]]:
    """Return a day's recordings that stand, as intake sees them, and their rows."""
    filed = [one.filed for one in known_of_day(session, day).recordings.values() if not one.aside]
    return filed, recordings.by_id(session, {int(one.key) for one in filed})


def merge_by_hand(
    session: Session, settings: Settings, day: Day, versions: Mapping[int, int], how: Together
) -> Recording:
    """Take the selected recordings together.

    Parameters
    ----------
    versions : mapping of int to int
        Of each recording, as it was shown.

    Raises
    ------
    StaleError
        If one of them was changed since.
    RefusedError
        If they cannot be one recording: of several sources, of different formats, or fewer than two.
    """
    rows = [row for row in recordings.for_change(session, day.id, versions) if row.state == recordings.READY]
    silent = [row for row in rows if row.kind == PICTURE and not facts_of(row).channels]
    beside = how == SET and len(silent) == 1 < len(rows)  # a picture and its own sound, named as nobody would guess
    if len({row.source_id for row in rows}) > 1 and not beside:
        raise RefusedError("These are of several sources: one recording is made by one device.")
    if beside and any(abs(row.duration - silent[0].duration) > _OWN_SOUND_S for row in rows):
        raise RefusedError(
            f"The sound that {silent[0].name}'s camera wrote beside it is as long as it is: this is not. To lay a "
            "recorder's sound on a picture, join them by hand on the day's page."
        )
    known = known_of_day(session, day).recordings
    order = {row.id: (known[str(row.id)].start, row.path) for row in rows}
    timed = [start for start, _ in order.values() if start]
    by_clock = len(timed) == len(rows) == len(set(timed))
    rows = natsorted(rows, key=lambda row: row.path)  # as people count: clip9 before clip10
    if beside:
        rows.sort(key=lambda row: row is not silent[0])
    elif by_clock:
        rows.sort(key=lambda row: order[row.id][0] or Fraction(0))
    made = _make(session, day, rows, how, why="by hand", by=settings.person)
    for row in rows:
        changes.count(session, row)
    what = f"took {', '.join(row.name for row in rows)} together as {_words(how)} {made.name}"
    journal.note(session, day_id=day.id, by=settings.person, what=what)
    return made


def take_apart(session: Session, settings: Settings, recording_id: int, *, version: int) -> Recording:
    """Take a recording of several files apart; its files stand for themselves, and Vesk does not merge them again.

    Raises
    ------
    StaleError
        If somebody changed it, or took it apart, since `version`.
    RefusedError
        If it is one file.
    """
    row = recordings.get(session, recording_id)
    changes.hold(session, row.day_id)
    if not row.merged:
        raise RefusedError(f"{row.name} is one file: there is nothing to take apart.")
    changes.compare(row, version, row.name)
    if row.state == APART:
        raise StaleError(f"{row.name} is taken apart already.")
    if row.member_of is not None:
        raise RefusedError(f"{row.name} is itself a part: take apart first what it is a part of.")
    _part(session, row, settings.person)
    part_devices(session, days.get_day(session, row.day_id))
    journal.note(session, day_id=row.day_id, by=settings.person, what=f"took {row.name} apart")
    return row


def refresh(session: Session, day: Day) -> list[Recording]:
    """After an intake: let recordings of several files follow their files; returns those that changed."""
    changed = []
    for row in recordings.merged_of_day(session, day.id):
        if row.state == APART:
            continue
        members = recordings.members_of(session, row)
        lost = next((one for one in members if one.state != READY), None)
        if lost is not None:
            row.state, row.problem = lost.state, lost.problem
        else:
            content = row.content
            row.state, row.problem = READY, ""
            try:
                _describe(row, members)
            except RefusedError as error:  # a file was copied anew, and is another than it was
                row.state, row.problem = recordings.UNREADABLE, f"{row.path}: {error} Take it apart on its page."
            if row.content != content:
                changed.append(row)
        session.add(row)
    session.flush()
    return changed


def _words(how: Together) -> str:
    return "the run" if how == RUN else "the set"


def _apart(session: Session, day: Day) -> set[tuple[str, str]]:
    """Return the joints that a person took apart."""
    merged = recordings.merged_of_day(session, day.id)
    apart = [row for row in merged if row.state == APART and row.merged_by != VESK]
    return {(str(a), str(b)) for row in apart for a, b in pairwise(row.members)}


def _make(session: Session, day: Day, rows: list[Recording], how: Together, *, why: str, by: str) -> Recording:
    ids = [row.id for row in rows]
    merge_facts([facts_of(row) for row in rows], how)  # refuses what cannot be
    present = recordings.merged_of_day(session, day.id)
    row = next((one for one in present if one.members == ids and one.merged == how), None)
    if row is None:
        path = merging.merged_path([one.path for one in rows], beside=how == SET and rows[0].kind == PICTURE)
        taken = {one.path for one in [*present, *recordings.ever_of_day(session, day.id)]}
        names = [path, *(f"{path} ({n})" for n in range(2, 100))]
        path = next(name for name in names if name not in taken)
        row = Recording(
            day_id=day.id, path=path, name=path.rpartition("/")[2], size=0, modified_ns=0, merged=how,
        )  # fmt: skip
    row.state, row.problem, row.merged_why, row.merged_by = READY, "", why, by
    _describe(row, rows)
    row.start, row.source_id = rows[0].start, rows[0].source_id
    session.add(row)
    session.flush()
    for one in rows:
        one.member_of, one.source_id = row.id, row.source_id
        session.add(one)
    # What a person put right about the files holds for what they are together.
    put = overrides.standing_of_day(session, day.id)
    own = put.get(row.id, {})
    for one in reversed(rows):
        for field, said in put.get(one.id, {}).items():
            if field not in own and (field != "timecode" or one is rows[0]):
                overrides.put(session, row.id, field, said.value, by=said.made_by)
    session.flush()
    if row.kind == PICTURE:
        drop_empty(session, day)  # what sound beside its picture was filed under before
    return row


def _describe(row: Recording, members: list[Recording]) -> None:
    facts = merge_facts([facts_of(one) for one in members], row.merged or RUN, [Path(one.name).stem for one in members])
    row.kind, row.duration, row.facts = facts.kind, facts.duration, facts
    row.members = [one.id for one in members]
    row.size, row.modified_ns = sum(one.size for one in members), max(one.modified_ns for one in members)
    content = merged_content([one.content for one in members], row.merged or RUN)
    if content != row.content:
        row.content, row.heard = content, None
