"""The tasks: load, call an action, save, report progress."""

from __future__ import annotations

import logging
import shutil

import procrastinate
from sqlmodel import Session

from vesk.actions import brief, merging
from vesk.actions import folder_watch as watch_action
from vesk.actions import intake as intake_action
from vesk.actions import light_copies as light_action
from vesk.actions import measuring as measure_action
from vesk.actions import package as package_action
from vesk.actions import pairing as pairing_action
from vesk.actions import showing as showing_action
from vesk.actions import sync_points as sync_points_action
from vesk.actions import turnover as turnover_action
from vesk.core.errors import MediaError
from vesk.core.handover.recipe import Recipe
from vesk.core.kinds import Work
from vesk.core.progress import WHOLE, OnProgress, part_of
from vesk.jobs.asking import ask
from vesk.jobs.queue import AFTER, AHEAD, IDLE, LAST, LATER, SOON, URGENT, enqueue, hasten
from vesk.jobs.tracked import AGAIN, persisting, tracked
from vesk.media import cache
from vesk.settings import Settings, for_work
from vesk.store import days, machines, pairings, presence, progress, recordings
from vesk.store.tables import Day, Recording, Turnover

_HEARD = 80  # of listening, hundredths; what is left are the claps

tasks = procrastinate.Blueprint()
log = logging.getLogger(__name__)


@tasks.task(retry=AGAIN, name="intake")
def intake(day_id: int) -> None:
    """Take a day's folder in, pair by timecode, and have everything listened to and measured."""
    settings = for_work()
    with tracked(settings, Work.INTAKE, day_id) as (session, on_progress):
        intake_action.take_in(session, settings, days.get_day(session, day_id), on_progress)
        day = days.get_day(session, day_id)
        merging.refresh(session, day)
        merging.merge_day(session, settings, day)
        _pair_and_measure(session, day)
        ask_listen(session, *intake_action.listening_order(session, day))


def ask_listen(session: Session, *rows: Recording) -> None:
    """Enqueue listening to recordings of a day, and looking for their claps."""
    for day_id in {row.day_id for row in rows}:
        own = [row for row in rows if row.day_id == day_id]
        listening = {row.id: f"listening to {row.name}" for row in own}
        ask(session, day_id, Work.LISTEN, listening, priority=SOON)


_OF_DAY = {
    Work.MERGE: "looking which files are one recording",
    Work.PAIR: "pairing the day again",
    Work.COMPARE: "asking rivals whether they are two devices",
}


def _ask_of_day(session: Session, kind: Work, day_id: int, priority: int) -> None:
    ask(session, day_id, kind, {day_id: _OF_DAY[kind]}, priority=priority)


def _pair_and_measure(session: Session, day: Day) -> None:
    ask_measure(session, *pairing_action.pair_day(session, day), priority=LATER)
    _ask_search(session, day, pairing_action.to_search(session, day))


def _ask_search(session: Session, day: Day, rows: list[Recording]) -> None:
    searching = {row.id: f"searching the day for the sound of {row.name}" for row in rows}
    ask(session, day.id, Work.SEARCH, searching, priority=LATER)


def ask_intake(session: Session, day_id: int) -> None:
    """Enqueue a day's intake."""
    ask(session, day_id, Work.INTAKE, {day_id: "taking the folder in"}, priority=URGENT, one_by_one=True)


def ask_measure(session: Session, *pairing_ids: int, priority: int = URGENT) -> None:
    """Enqueue the measurements of a day's pairings."""
    rows = [pairings.get(session, one) for one in pairing_ids]
    members = recordings.by_id(session, {one for row in rows for one in (row.picture_id, row.sound_id)})
    for day_id in {row.day_id for row in rows}:
        measuring = {
            row.id: f"measuring {members[row.picture_id].name} with {members[row.sound_id].name}"
            for row in rows
            if row.day_id == day_id
        }
        ask(session, day_id, Work.MEASURE, measuring, priority=priority, one_by_one=True)


def ask_turnover(
    session: Session, settings: Settings, day: Day, recipe: Recipe | None = None, *, named: str = "", root: str = ""
) -> Turnover:
    """Plan a turnover by a recipe, and enqueue its making."""
    row = turnover_action.plan(session, settings, day, recipe, named=named, root=root)
    _ask_deliver(session, row)
    return row


def ask_to_go_on(session: Session, settings: Settings, turnover_id: int) -> Turnover:
    """Have a turnover that was stopped or failed gone on with."""
    row = turnover_action.go_on(session, settings, turnover_id)
    _ask_deliver(session, row)
    return row


def _ask_deliver(session: Session, row: Turnover) -> None:
    ask(session, row.day_id, Work.DELIVER, {row.id: "making the turnover"}, priority=URGENT)


@tasks.task(retry=AGAIN, name="listen")
def listen(recording_id: int) -> None:
    """Compute what is kept of one recording's sound, and propose its claps."""
    settings = for_work()
    with tracked(settings, Work.LISTEN, recording_id) as (session, on_progress):
        if on_progress(0, WHOLE):
            before = recordings.get(session, recording_id).heard
            measure_action.listen(session, settings, recording_id, part_of(on_progress, 0, _HEARD))
            row = recordings.get(session, recording_id)
            if before and row.heard and row.heard.holes != before.holes:  # what comes after lies elsewhere than it did
                ask_measure(session, *pairings.measured_with(session, recording_id), priority=LATER)
            # Once the others are listened to, sound tells which files are one recording; timecode on a channel may
            # lay it elsewhere, and a copy is known by its bytes alone.
            _ask_of_day(session, Work.MERGE, row.day_id, AFTER)
            if (row.heard and row.heard.ltc) or measure_action.copies_of(session, row):
                _ask_of_day(session, Work.PAIR, row.day_id, AFTER)
            elif ready := pairings.to_measure_with(session, recording_id):
                # A first take is seen while the rest of the day is still listened to.
                hasten(session, "vesk:measure", to=SOON + 1, pairing_id=ready)
            session.commit()  # what was listened to stays, whatever becomes of the claps, and others go on with it
            try:
                _propose_claps(session, settings, recording_id, part_of(on_progress, _HEARD, WHOLE))
            except MediaError as error:
                advice = f"{error.advice} Its sound was listened to; only its claps were not looked for.".strip()
                raise MediaError(error.path, error.reason, advice, error.kind) from error


def _propose_claps(session: Session, settings: Settings, recording_id: int, on_progress: OnProgress) -> None:
    if recordings.get(session, recording_id).member_of is None:
        sync_points_action.keep_sync_points(session, settings, recording_id, on_progress)
        ask_shown(session, recording_id)
        _ask_of_day(session, Work.COMPARE, recordings.get(session, recording_id).day_id, LAST)


@tasks.task(retry=AGAIN, name="merge")
def merge(day_id: int) -> None:
    """Take files together that are one recording, and pair again where there were any."""
    settings = for_work()
    with tracked(settings, Work.MERGE, day_id) as (session, on_progress):
        if on_progress(0, 1):
            day = days.get_day(session, day_id)
            made = merging.merge_day(session, settings, day)
            merged_again(session, day, made)
            if not made and pairing_action.knows_more(session, day):
                _pair_and_measure(session, day)
            on_progress(1, 1)


def merged_again(session: Session, day: Day, made: list[Recording]) -> None:
    """Have recordings that were just taken together listened to, and the day paired with them."""
    ask_listen(session, *made)
    if made:
        _pair_and_measure(session, day)


@tasks.task(retry=AGAIN, name="search")
def search(recording_id: int) -> None:
    """Search the day for the partners of a recording without a clock, or one that labels lead to none."""
    settings = for_work()
    with tracked(settings, Work.SEARCH, recording_id) as (session, on_progress):
        if on_progress(0, 1):
            made = pairing_action.pair_by_sound(session, settings, recording_id, on_progress)
            for row in made:
                ask_shown(session, row.picture_id)
            if made:
                _ask_of_day(session, Work.COMPARE, made[0].day_id, LAST)


@tasks.task(retry=AGAIN, name="pair")
def pair(day_id: int) -> None:
    """Pair a day again, and have measured what is new."""
    settings = for_work()
    with tracked(settings, Work.PAIR, day_id) as (session, on_progress):
        if on_progress(0, 1):
            _pair_and_measure(session, days.get_day(session, day_id))
            on_progress(1, 1)


def pair_again(session: Session, day: Day) -> None:
    """Pair a day in the caller's transaction: after a person changed what is known of it."""
    _pair_and_measure(session, day)


def ask_solved(session: Session, day_id: int) -> None:
    """Have paired what the day as a whole came to know by what a person said."""
    _ask_of_day(session, Work.COMPARE, day_id, LAST)


@tasks.task(retry=AGAIN, name="find_sync_points")
def find_sync_points(recording_id: int) -> None:
    """Propose the claps of one recording, as versions before 0.19 asked for each by itself."""
    settings = for_work()
    with tracked(settings, Work.SYNC_POINTS, recording_id) as (session, on_progress):
        if on_progress(0, WHOLE):
            _propose_claps(session, settings, recording_id, on_progress)


@tasks.task(retry=AGAIN, name="measure")
def measure(pairing_id: int) -> None:
    """Measure one pairing."""
    settings = for_work()
    with tracked(settings, Work.MEASURE, pairing_id) as (session, on_progress):
        if on_progress(0, WHOLE) and pairings.is_standing(session, pairing_id):
            row = measure_action.measure_pairing(session, settings, pairing_id, on_progress)
            ask_shown(session, row.picture_id)
            _ask_of_day(session, Work.COMPARE, row.day_id, LAST)


@tasks.task(retry=AGAIN, name="compare")
def compare(day_id: int) -> None:
    """Ask rivals, once everything else is measured, whether they are two devices."""
    settings = for_work()
    with tracked(settings, Work.COMPARE, day_id) as (session, on_progress):
        measure_action.compare_rivals(session, settings, day_id, on_progress)
        measure_action.close_loops(session, settings, day_id, on_progress)
        day = days.get_day(session, day_id)
        ask_measure(session, *pairing_action.pair_by_solution(session, day), priority=LATER)
        _ask_search(session, day, pairing_action.to_search_again(session, day))
        brief.reckon(session, day_id)  # so that lists of days have it
        if settings.light_copies:
            for row in light_action.wanted(session, settings, day):
                # What failed, was stopped, or was made once and let go of since, is made where somebody opens it.
                if progress.find(session, Work.LIGHT, row.id) is None:
                    ask_light(session, row)


def ask_shown(session: Session, recording_id: int) -> None:
    """Enqueue the decoding of the frames that pages of a picture open with, for when nothing else waits."""
    enqueue(session, "vesk:show", priority=AHEAD, recording_id=recording_id)


@tasks.task(retry=AGAIN, name="show")
def show(recording_id: int) -> None:
    """Decode the frames that pages of a picture open with."""
    settings = for_work()
    with persisting(settings) as session:
        showing_action.keep_frames(session, settings, recording_id)


def ask_light(session: Session, row: Recording, *, priority: int = IDLE) -> None:
    """Enqueue a picture's light copy; one that waits already is not opened again."""
    now = progress.find(session, Work.LIGHT, row.id)
    if now is None or now.state not in progress.OPEN:
        what = f"making a light copy of {row.name}"
        progress.open_one(session, day_id=row.day_id, kind=Work.LIGHT, subject_id=row.id, what=what)
    enqueue(session, "vesk:light", priority=priority, queueing=f"{priority}", recording_id=row.id)


@tasks.task(retry=AGAIN, name="light")
def light(recording_id: int) -> None:
    """Make a picture's light copy."""
    settings = for_work()
    with tracked(settings, Work.LIGHT, recording_id) as (session, on_progress):
        if on_progress(0, WHOLE):
            light_action.make(session, settings, recording_id, on_progress)


@tasks.task(retry=AGAIN, name="deliver")
def deliver(turnover_id: int) -> None:
    """Make one turnover."""
    settings = for_work()
    with tracked(settings, Work.DELIVER, turnover_id) as (session, on_progress):
        package_action.make(session, settings, turnover_id, on_progress)


@tasks.periodic(cron="* * * * * */10")
@tasks.task(retry=AGAIN, name="watch_folders", queueing_lock="watch_folders")
def watch_folders(timestamp: int) -> None:  # noqa: ARG001
    """Take in again the watched folders that hold something new."""
    settings = for_work()
    with persisting(settings) as session:
        for day in days.watched(session):
            row = progress.find(session, Work.INTAKE, day.id)
            busy = row is not None and row.state in progress.OPEN
            if not busy and watch_action.has_news(session, settings, day):
                ask_intake(session, day.id)
                session.commit()


@tasks.periodic(cron="7,27,47 * * * *")
@tasks.task(retry=AGAIN, name="tidy_cache", queueing_lock="tidy_cache")
def tidy_cache(timestamp: int) -> None:  # noqa: ARG001
    """Let go of what the cache holds beyond its bound, but for what is worked on now; note how much room is left."""
    settings = for_work()
    with persisting(settings) as session:
        busy = progress.subjects(session, (Work.LISTEN, Work.SYNC_POINTS, Work.SEARCH, Work.LIGHT))
        keep = {row.content for row in recordings.by_id(session, busy).values()}
    gone, freed, left = cache.trim(settings.cache, settings.cache_gb * 1e9, keep=keep)
    with persisting(settings) as session:
        machines.note_room(session, free_bytes=shutil.disk_usage(settings.var).free, cache_bytes=left)
        presence.forget(session)
    if gone:
        log.info("the cache let %d entries go, %.1f GB", gone, freed / 1e9)
