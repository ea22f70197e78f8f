"""Recipes of turnovers: kept under a name with the production, looked at before anything is made."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlmodel import Session

from vesk.actions.handover import copies, products
from vesk.actions.handover.timeline import typed_start
from vesk.actions.pairing_status import CHECKED
from vesk.actions.turnover import Item, asked_for
from vesk.core.errors import RefusedError, StaleError, VeskError
from vesk.core.handover.naming import check_pattern, named
from vesk.core.handover.recipe import Product, Recipe, SoundForm
from vesk.core.kinds import RUN
from vesk.core.wording import counted
from vesk.media.movie_copy import carried_by
from vesk.settings import Settings
from vesk.store import changes, days, journal, recipes
from vesk.store.tables import Day, RecipeRow

_LONGEST = 60


def of_day(session: Session, day: Day) -> list[RecipeRow]:
    """Return the recipes of a day's production by name."""
    return recipes.of_production(session, day.production_id)


def checked(day: Day, recipe: Recipe) -> Recipe:
    """Return a recipe that can be made.

    Raises
    ------
    RefusedError
        If a name, a label or a number of it cannot be, or it makes nothing.
    """
    check_pattern(recipe.pattern)
    typed_start(recipe, days.rate_of(day))
    if not 0 <= recipe.handles <= 10_000:
        raise RefusedError("Handles are 0 to 10 000 frames.")
    makes = recipe.sound != SoundForm.NONE or recipe.movies or recipe.timecode
    if not (makes or recipe.timeline or recipe.edl or recipe.aaf):
        raise RefusedError("This recipe makes nothing but a report: choose sound, movies or a timeline.")
    return recipe


def keep(session: Session, settings: Settings, day: Day, name: str, recipe: Recipe, *, version: int = 0) -> RecipeRow:
    """Keep a recipe under a name, for all days of the production.

    Parameters
    ----------
    session, settings, day
    name : str
    recipe : Recipe
    version : int
        Of the recipe of that name, as it was shown; 0 where none was.

    Raises
    ------
    RefusedError
        If it has no name, or cannot be.
    StaleError
        If there is another of that name than was shown.
    """
    tidy = " ".join(name.split())
    if not tidy or len(tidy) > _LONGEST:
        raise RefusedError(f"A recipe has a name of {_LONGEST} characters at most.")
    checked(day, recipe)
    changes.hold(session, day.id)
    changes.hold_naming(session)  # another day of the production may keep one of that name just now
    row = recipes.named(session, day.production_id, tidy)
    if row is None:
        row = RecipeRow(production_id=day.production_id, name=tidy, made_by=settings.person)
    else:
        if not version:
            says = f"There is a recipe {tidy!r} already. Keep yours again to put it in its place, or name it otherwise."
            raise StaleError(says, about=("recipe", row.id))
        changes.compare(row, version, f"the recipe {tidy!r}")
        changes.count(session, row)
    row.recipe, row.made_by = recipe, settings.person
    session.add(row)
    session.flush()
    journal.note(session, day_id=day.id, by=settings.person, what=f"recipe {tidy!r} kept")
    return row


@dataclass(frozen=True, slots=True)
class Preview:
    """What a recipe would make, in words and counts.

    Attributes
    ----------
    lines : tuple of str
    ready : int
        Takes that go out.
    example : str
        Name of the first sound file; empty where none is made.
    problem : str
        Why nothing can be made; empty where it can.
    """

    lines: tuple[str, ...]
    ready: int
    example: str
    problem: str = ""


def preview(session: Session, day: Day, recipe: Recipe, listed: Sequence[Item]) -> Preview:
    """Return what a recipe would make of a day.

    Parameters
    ----------
    session, day
    recipe : Recipe
    listed : sequence of Item
        The day's takes.
    """
    try:
        checked(day, recipe)
        asked = asked_for(session, day, recipe, list(listed))
    except VeskError as error:
        return Preview((), 0, "", str(error))
    ready = [one for one in asked if not one.obstacle]
    files = sum(_files(one) for one in ready)
    lines = [f"{len(ready)} of {len(asked)} takes go out ({recipe.which})"]
    lines += _sound(session, day, recipe, ready, files)
    only = sum(one.kept is not None for one in ready)
    if only:
        lines.append(f"of {counted(only, 'take')} only the range that is kept, as it was set while watching")
    if recipe.movies:
        lines.append(_movies(ready, files))
    if recipe.timecode:
        copied = [one for one in copies.wanted(session, day, recipe, asked) if one.product == Product.TIMECODE]
        how = "copy with its" if len(copied) == 1 else "copies with their"
        lines.append(f"{len(copied)} {how} true timecode, LTC channels silent, in timecode/")
    if recipe.originals:
        copied = [one for one in copies.wanted(session, day, recipe, asked) if one.product == Product.ORIGINAL]
        size = sum(one.row.size for one in copied) / 1e6
        lines.append(f"{counted(len(copied), 'original')} copied, {size:.0f} MB, in originals/")
    documents = [
        word for word, asked_ in (
            ("day.otio, moments.otio", recipe.timeline), ("day.aaf", recipe.aaf),
            ("an edit list for each device", recipe.edl),
            ("report.pdf", recipe.pdf), ("report.csv, report.html, a hash list", True),
        ) if asked_
    ]  # fmt: skip
    lines.append("beside them: " + ", ".join(documents))
    return Preview(tuple(lines), len(ready), _example(day, recipe, ready))


def _files(item: Item) -> int:
    """Return of how many picture files a take is: each goes out by itself."""
    return len(item.picture.members) if item.picture.merged == RUN else 1


def _sound(session: Session, day: Day, recipe: Recipe, ready: Sequence[Item], files: int) -> list[str]:
    if recipe.sound == SoundForm.NONE:
        return []
    if recipe.sound == SoundForm.RECORDING:
        cut = [one for one in copies.wanted(session, day, recipe, ready) if one.product == Product.SOUND]
        samples = sum((one.cut[1] - one.cut[0]) / (one.row.facts.sample_rate if one.row.facts else 1) for one in cut)
        return [
            f"{counted(len(cut), 'sound file')}, as recorded, cut to what is used ({samples / 60:.1f} min), in sound/"
        ]
    if recipe.sound == SoundForm.PICTURE:
        return [f"{counted(files, 'sound file')}, each exactly as long as its picture, in sound/"]
    count, problems = 0, []
    for item in ready:
        try:
            keys = products.keys_of(recipe, [now for now in item.pairings if now.state == CHECKED])
            count += sum(product == Product.SOUND for product, _ in keys) * _files(item)
        except VeskError as error:
            problems.append(str(error))
    return [f"{counted(count, 'sound file')} of one channel each, in sound/", *sorted(set(problems))]


def _movies(ready: Sequence[Item], files: int) -> str:
    said = set()
    for item in ready:
        codec = item.picture.facts.codec if item.picture.facts else ""
        remark = carried_by(Path(item.picture.name), codec).remark
        said |= {remark} if remark else set()
    return f"{counted(files, 'movie')}, picture as it is, good sound first, in movies/" + (
        f" ({'; '.join(sorted(said))})" if said else ""
    )


def _example(day: Day, recipe: Recipe, ready: Sequence[Item]) -> str:
    if recipe.sound == SoundForm.NONE or not ready:
        return ""
    item = ready[0]
    scene, take = item.scene_take
    now = next((one for one in item.pairings if one.state == CHECKED), None)
    facts = now.sound.facts if now is not None else None
    track = facts.track_names[0] if facts and facts.track_names else "mix"
    sound = Path(now.sound.name).stem if now is not None else ""
    picture = sound if recipe.sound == SoundForm.RECORDING else Path(item.picture.name).stem
    values = {
        "picture": picture, "scene": scene, "take": take, "camera": item.source, "sound": sound,
        "recorder": now.sound_source.tag if now is not None else "",
        "reel": item.picture.facts.tape if item.picture.facts else "",
        "day": str(day.number), "date": day.shot_on.isoformat(), "channel": "1", "track": track,
    }  # fmt: skip
    return f"sound/{named(recipe.pattern, values)}.wav"
