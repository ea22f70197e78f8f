"""Make a turnover: a package that says it is unfinished until every file in it is made, measured and verified.

Each take's files are recorded as soon as they stand, so that what was made outlives whoever made it; making goes on
where it ended, keeps what still rests on what stands, and makes the rest. Only a whole package gets its name.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import partial
from pathlib import Path
from time import monotonic
from typing import Any

from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session

from vesk.actions import measuring, turnover
from vesk.actions.handover import copies, documents, products
from vesk.actions.handover.report import package_says, report_line
from vesk.actions.handover.sources import ANEW, Sources
from vesk.actions.locating import located
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import CHECKED
from vesk.actions.turnover import Item
from vesk.core.errors import MediaError, RefusedError, StoppedError, StorageError, VeskError
from vesk.core.handover.recipe import OF_TAKE, RECIPE, Product, Recipe
from vesk.core.kinds import WorkState
from vesk.core.progress import WHOLE, OnProgress, unwatched
from vesk.dailies import delivering
from vesk.dailies.located import Located
from vesk.media import checksum
from vesk.media.checksum import AsRead
from vesk.media.scan import NOTE, UNFINISHED
from vesk.settings import Settings
from vesk.store import changes, days, journal, recordings, turnovers, watched
from vesk.store.tables import Day, Delivery, Recording, Turnover

_SAYS = (
    "This package is not finished. Vesk is making it, or was stopped; its page Turnover says which.\n"
    "Hand nothing over from here: what is whole lies in the folder without 'unfinished' in its name.\n"
)
_INSIDE = "An error inside Vesk stopped this; what was made is kept, and it can go on. See the worker's log."
_OFTEN_S = 0.2
_READING = 0.2  # of what making of a file costs: reading it once for its hash
_BLOCKS_A_SECOND = 48_000 / delivering.BLOCK


def place_of(settings: Settings, row: Turnover) -> Path:
    """Return where a turnover's files lie now: in its folder once it is done."""
    final = settings.here(row.folder)
    return final if row.state == "done" or final.exists() else final.with_name(final.name + UNFINISHED)


def make(session: Session, settings: Settings, turnover_id: int, on_progress: OnProgress = unwatched) -> None:
    """Make a turnover, or go on with it: every ready take handed over and measured again, then what tells of all.

    One take that fails costs only itself. A turnover that fails says so and why.

    Raises
    ------
    VeskError
        If the package as a whole could not be made, e.g. the disk is full.
    """
    try:
        _make(session, settings, turnover_id, on_progress)
    except SQLAlchemyError:
        raise  # the database went away: nothing is known to be wrong, and it is tried again
    except Exception as error:
        session.rollback()
        row = turnovers.get(session, turnover_id)
        row.state = WorkState.FAILED
        row.problem = str(error) if isinstance(error, VeskError) else _INSIDE
        session.add(row)
        session.commit()
        raise


@dataclass
class _Meter:
    """How much of a package is made, in hundredths; asked often, it tells now and then whether to go on."""

    on_progress: OnProgress
    total: float  # seconds of material
    done: float = 0.0
    weight: float = 0.0  # of the file being made
    steps: float = 1.0  # how often it asks
    asked: int = 0
    told_at: float = 0.0
    wanted: bool = True

    def begin(self, weight: float, steps: float) -> bool:
        """Begin a file of a weight, which will ask about so often."""
        self.weight, self.steps, self.asked, self.told_at = weight, max(1.0, steps), 0, 0.0
        return self.go_on()

    def go_on(self) -> bool:
        """Tell how far it is; a file being made counts by what of it is done."""
        self.asked += 1
        if monotonic() - self.told_at > _OFTEN_S:
            self.told_at = monotonic()
            share = min(1.0, self.asked / self.steps) * self.weight
            self.wanted = self.on_progress(min(WHOLE - 1, round(WHOLE * (self.done + share) / self.total)), WHOLE)
        return self.wanted

    def end(self) -> None:
        """Count a file."""
        self.done, self.weight = self.done + self.weight, 0.0


@dataclass
class _Making:
    """What the making of one package needs at every step."""

    settings: Settings
    day: Day
    project: str
    row: Turnover
    recipe: Recipe
    folder: Path
    meter: _Meter
    kept: dict[tuple[int, Product, int], Delivery]
    sources: Sources
    names: products.Names = field(default_factory=products.Names)
    stopped: bool = False


@dataclass(frozen=True, slots=True)
class _Piece:
    """What becomes one or several files at once: whose, which, what stands in the way, what they rest on."""

    recording_id: int
    keys: tuple[products.Key, ...]
    obstacle: str
    rests_on: str
    of_take: str
    sources: tuple[tuple[Recording, bool], ...]  # what it is made of, and whether every byte is read for that
    weight: float  # seconds of material
    steps: float  # how often its making asks whether to go on
    make: Callable[[], products.Made]


def _make(session: Session, settings: Settings, turnover_id: int, on_progress: OnProgress) -> None:
    row = turnovers.get(session, turnover_id)
    day = days.get_day(session, row.day_id)
    changes.hold(session, day.id)
    row.state, row.problem = WorkState.RUNNING, ""
    session.add(row)
    recipe = row.recipe or Recipe(timeline=False, edl=False)
    listed = turnover.items(session, day, recipe)
    ids = {n for item in listed if not item.obstacle for now in item.pairings for n in (now.picture.id, now.sound.id)}
    project = days.get_production(session, day.production_id).name
    kept = {(one.picture_id, one.product, one.part): one for one in turnovers.deliveries(session, turnover_id)}
    changes.rest(session)
    meter, sources = _Meter(on_progress, 1), Sources(settings, day)
    making = _Making(settings, day, project, row, recipe, _opened(settings, row), meter, kept, sources)
    making.names.taken |= {one.name.casefold() for one in kept.values() if one.name}
    for number in sorted(number for number in ids if number):
        try:
            measuring.learn_contents(session, settings, [number])
        except MediaError:
            continue  # its own take will say so
    listed = turnover.items(session, day, recipe)
    changes.rest(session)
    pieces = list(_pieces(session, making, listed))
    wanted: dict[int, tuple[Recording, bool]] = {}
    for one in pieces:
        for source, anew in () if one.obstacle else one.sources:
            wanted[source.id] = source, anew or wanted.get(source.id, (source, False))[1]
    read = sum(float(row.duration) for row, _ in wanted.values()) * _READING
    making.meter.total = read + sum(one.weight for one in pieces if not one.obstacle) or 1.0
    _verify(session, making, wanted.values())
    for piece in pieces:
        making.stopped = making.stopped or not making.meter.begin(0.0 if piece.obstacle else piece.weight, piece.steps)
        _make_piece(session, making, piece)
        making.meter.end()
    if making.stopped:
        changes.hold(session, day.id)
        row = turnovers.get(session, turnover_id)
        row.state, row.problem = WorkState.STOPPED, "It was stopped; what was made is kept, and it can go on."
        session.add(row)
        changes.rest(session)
        return
    _finish(session, making)


def _verify(session: Session, making: _Making, sources: Iterable[tuple[Recording, bool]]) -> None:
    """Hold every source against the hash taken at intake before anything is made of any."""
    for row, anew in sources:
        making.stopped = making.stopped or not making.meter.begin(float(row.duration) * _READING, 1)
        if making.stopped:
            return
        making.sources.verify(session, row, anew=anew)
        making.meter.end()


def _opened(settings: Settings, row: Turnover) -> Path:
    final = settings.here(row.folder)
    folder = final.with_name(final.name + UNFINISHED)
    try:
        if final.exists() and not folder.exists():
            final.rename(folder)  # ended between its naming and the row that says so
        folder.mkdir(parents=True, exist_ok=True)
        (folder / NOTE).write_text(_SAYS, encoding="utf-8")
    except OSError as error:
        raise StorageError(folder, error.strerror or str(error)) from error
    return folder


@dataclass(frozen=True, slots=True)
class PictureFile:
    """One file of a camera take: where it begins on the take's picture time, seconds; `place` is None if unreadable."""

    recording_id: int
    path: str
    place: Located | None
    begins: Fraction


def _on_picture(session: Session, settings: Settings, day: Day, picture: Recording) -> list[PictureFile]:
    if picture.state != "ready":
        return [PictureFile(picture.id, picture.path, None, Fraction(0))]
    placed = delivering.files_of(located(session, settings, day, picture))
    files = [(one.id, one.path) for one in measuring.files_of(session, picture) if one.kind == picture.kind]
    return [PictureFile(number, path, place, at) for (number, path), (place, at) in zip(files, placed, strict=True)]


def _pieces(session: Session, making: _Making, listed: Iterable[Item]) -> Iterable[_Piece]:
    """Return everything that is to be made, take by take, then what is made of recordings by themselves."""
    listed = list(listed)
    for item in listed:
        rests_on = _rests_on(item, making.recipe)
        keys = _keys(making.recipe, item)
        for file in _on_picture(session, making.settings, making.day, item.picture):
            weight = float(file.place.facts.duration) if file.place else 0.0
            frames = (file.place.facts.frames or 0) if file.place and making.recipe.movies else 0
            yield _Piece(
                file.recording_id, keys, item.obstacle, rests_on, item.rests_on,
                _sources(session, making.recipe, item, file), weight,
                weight * _BLOCKS_A_SECOND + frames,
                partial(_make_take, session, making, item, file),
            )  # fmt: skip
    for copy in copies.wanted(session, making.day, making.recipe, listed):
        yield _Piece(
            copy.row.id, ((copy.product, 0),), copy.obstacle, copy.rests_on, copy.rests_on, ((copy.row, True),),
            float(copy.row.duration),
            float(copy.row.duration) * _BLOCKS_A_SECOND + (copy.row.facts.frames or 0 if copy.row.facts else 0),
            partial(_make_copy, session, making, copy),
        )  # fmt: skip


def _sources(session: Session, recipe: Recipe, item: Item, file: PictureFile) -> tuple[tuple[Recording, bool], ...]:
    sounds = tuple((now.sound, True) for now in item.pairings if now.state == CHECKED)
    return ((recordings.get(session, file.recording_id), recipe.movies), *sounds)


def _keys(recipe: Recipe, item: Item) -> tuple[products.Key, ...]:
    """Return which files a take becomes; what cannot be handed over so is said as it is made."""
    try:
        found = products.keys_of(recipe, [now for now in item.pairings if now.state == CHECKED])
    except VeskError:
        found = []
    return tuple(found) or ((Product.SOUND, 0),)


def _rests_on(item: Item, recipe: Recipe) -> str:
    """Return all that the files of a take follow from: its corrections and checks, and how the recipe makes them."""
    fields = RECIPE.fields(recipe)
    return json.dumps([{name: fields[name] for name in _OF_FILES}, item.rests_on])


_OF_FILES = ("sound", "pattern", "movies", "scratch", "channels")  # what of a recipe a take's own files follow from


def _make_piece(session: Session, making: _Making, piece: _Piece) -> None:
    """Make the files of one piece; each is recorded as soon as all of them stand."""
    olds = {key: making.kept.get((piece.recording_id, *key)) for key in piece.keys}
    if not piece.obstacle and all(one and _stands(making, one, piece.rests_on) for one in olds.values()):
        return
    rows = {
        key: one or Delivery(turnover_id=making.row.id, picture_id=piece.recording_id, product=key[0], part=key[1])
        for key, one in olds.items()
    }
    for row in rows.values():
        if row.name:
            _take_away(making.folder / row.name)  # it says what does not stand any more
            making.names.taken.discard(row.name.casefold())
        row.name, row.written, row.reason = "", None, piece.obstacle
    if making.stopped and not piece.obstacle:
        _say(rows.values(), "stopped before its turn")
    elif not piece.obstacle:
        _try_piece(making, piece, rows)
    session.add_all(rows.values())
    session.commit()


def _try_piece(making: _Making, piece: _Piece, rows: Mapping[products.Key, Delivery]) -> None:
    """Make a piece, or say of its files why not; what stops the whole is raised."""
    try:
        made = piece.make()
    except StoppedError as error:
        making.stopped = True
        _say(rows.values(), str(error))
    except StorageError:
        raise
    except VeskError as error:
        _say(rows.values(), str(error))
    else:
        for key, row in rows.items():
            if key in made.files:
                row.written = replace(made.files[key], rests_on=piece.rests_on, of_take=piece.of_take)
                row.name = row.written.name
            else:
                row.reason = made.reasons.get(key, "this recipe makes nothing of the picture by itself")


def _say(rows: Iterable[Delivery], reason: str) -> None:
    for row in rows:
        row.reason = reason


def _stands(making: _Making, one: Delivery, rests_on: str) -> bool:
    return bool(one.name) and _rested_on(one) == rests_on and _is_whole(making.folder / one.name, one)


def _rested_on(delivery: Delivery) -> str:
    return delivery.written.rests_on if delivery.written else ""


def _is_whole(path: Path, delivery: Delivery) -> bool:
    try:
        return delivery.written is not None and checksum.whole_hash(path) == delivery.written.content
    except MediaError:
        return False


def _take_away(path: Path) -> None:
    try:
        path.unlink(missing_ok=True)
    except OSError as error:
        raise StorageError(path, error.strerror or str(error)) from error


def _lies_still(making: _Making, lies: list[AsRead], made: products.Made) -> None:
    """Take away what was made of files that changed while they were read.

    Raises
    ------
    MediaError
        Naming the file.
    """
    changed = next((one.path for one in lies if not one.holds()), None)
    if changed is not None:
        for one in made.files.values():
            _take_away(making.folder / one.name)
            making.names.taken.discard(one.name.casefold())
        raise MediaError(changed, "it changed while it was read", ANEW)


def _make_take(session: Session, making: _Making, item: Item, file: PictureFile) -> products.Made:
    settings, day = making.settings, making.day
    picture = file.place or located(session, settings, day, item.picture)
    active = tuple(now for now in item.pairings if now.state == CHECKED)
    sounds = tuple(located(session, settings, day, now.sound) for now in active)
    own = [recordings.get(session, file.recording_id)]
    lies = making.sources.signed(session, own, anew=making.recipe.movies)
    lies += making.sources.signed(session, [now.sound for now in active], anew=True)
    changes.rest(session)
    scene, number = item.scene_take
    take = products.Take(
        picture, file.begins, active, sounds, scene, number, item.source, making.project, file.recording_id,
        day.shot_on, day.number, _kept(item, file, picture),
    )  # fmt: skip
    made = products.make_take(settings, making.recipe, making.folder, take, making.names, making.meter.go_on)
    _lies_still(making, lies, made)
    return made


def _kept(item: Item, file: PictureFile, picture: Located) -> tuple[int, int] | None:
    """Return which frames of a file go out, where only a range of its recording is kept.

    Raises
    ------
    RefusedError
        If none of them does.
    """
    facts = picture.facts
    if item.kept is None or not facts.fps or not facts.frames:
        return None
    before = round(file.begins * facts.fps)
    first, last = max(0, item.kept[0] - before), min(facts.frames, item.kept[1] - before)
    if last <= first:
        raise RefusedError(f"{picture.path.name}: none of it lies in the range that is kept")
    return (first, last) if (first, last) != (0, facts.frames) else None


def _make_copy(session: Session, making: _Making, copy: copies.Copy) -> products.Made:
    lies = making.sources.signed(session, [copy.row], anew=True)
    place = located(session, making.settings, making.day, copy.row)
    changes.rest(session)
    written = copies.make(making.folder, copy, place, making.names, making.meter.go_on)
    made = products.Made({(copy.product, 0): written})
    _lies_still(making, lies, made)
    return made


def _finish(session: Session, making: _Making) -> None:
    """Verify every file, write what tells of all, and give the package its name: in this order, under the day's lock.

    Whatever was undone while it was made goes out again, and is named in the report.
    """
    for one in turnovers.deliveries(session, making.row.id):
        if one.name and not _is_whole(making.folder / one.name, one):
            raise MediaError(making.folder / one.name, "it changed after it was made", "Let the turnover go on.")
    changes.hold(session, making.day.id)
    row = turnovers.get(session, making.row.id)
    held: dict[int, list[Delivery]] = {}
    for one in turnovers.deliveries(session, row.id):
        held.setdefault(one.picture_id, []).append(one)
    lines: list[dict[str, Any]] = []
    listed = turnover.items(session, making.day, making.recipe)
    of_takes: set[int] = set()
    noted = watched.notes_of_day(session, making.day.id)
    for item in listed:
        rests_on = _rests_on(item, making.recipe)
        for file in _on_picture(session, making.settings, making.day, item.picture):
            own = [one for one in held.get(file.recording_id, ()) if one.product in OF_TAKE]
            own = own or [Delivery(turnover_id=row.id, picture_id=file.recording_id)]
            for one in own:
                if one.name and (item.obstacle or _rested_on(one) != rests_on):
                    one.reason = item.obstacle or "it was changed while this was made: make a turnover again"
                    one.name, one.written = "", None
                elif not one.name and not one.reason:
                    one.reason = item.obstacle or "it was checked after this was begun: make a turnover again"
                session.add(one)
            of_takes |= {one.id for one in own if one.id}
            said = [one.text for one in noted if one.recording_id == item.picture.id]
            lines.append(report_line(item, file.path, file.place, own, said))
    others = [one for each in held.values() for one in each if one.id not in of_takes]
    _let_go_of_copies(session, making, listed, others)
    known = {one.name: one.written.content for each in held.values() for one in each if one.name and one.written}
    session.flush()
    row.says = package_says(session, row, lines)
    view = Overview(session, making.day)
    shutil.rmtree(making.folder / products.WORK, ignore_errors=True)
    _only(making.folder, set(known))
    documents.write_documents(session, view, row, making.folder, lines, known)
    try:
        (making.folder / NOTE).unlink(missing_ok=True)
        making.folder.rename(making.settings.here(row.folder))
    except OSError as error:
        raise StorageError(making.folder, error.strerror or str(error)) from error
    row.state, row.problem = WorkState.DONE, ""
    session.add(row)
    done = sum(1 for line in lines if line["delivered"] == "yes")
    what = f"turnover of {done} takes made in {row.folder}"
    journal.note(session, day_id=row.day_id, by=making.settings.person, what=what)
    session.commit()


def _let_go_of_copies(session: Session, making: _Making, listed: list[Item], others: list[Delivery]) -> None:
    """Let copies and cuts go out again that the takes as they are now do not ask for."""
    wanted = copies.wanted(session, making.day, making.recipe, listed)
    now = {(one.row.id, one.product): one.rests_on for one in wanted if not one.obstacle}
    for one in others:
        if one.name and now.get((one.picture_id, one.product)) != _rested_on(one):
            one.name, one.written = "", None
            one.reason = "what it is of was undone or changed while this was made: make a turnover again"
            session.add(one)


def _only(folder: Path, names: set[str]) -> None:
    """Take away what an earlier attempt left that no row names, and folders that are empty."""
    try:
        for path in sorted(folder.rglob("*"), reverse=True):
            if path.is_dir():
                if not any(path.iterdir()):
                    path.rmdir()
            elif path.relative_to(folder).as_posix() not in names and path.name != NOTE:
                path.unlink()
    except OSError as error:
        raise StorageError(folder, error.strerror or str(error)) from error
