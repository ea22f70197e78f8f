"""Turnover: what is made by which recipe, what stands in the way, what was made and how it measured afterwards."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, render_template, request, send_file
from flask.typing import ResponseReturnValue

from vesk.actions import package, recipes, turnover
from vesk.actions.overview import Overview
from vesk.core.errors import NotFoundError, RefusedError
from vesk.core.handover.recipe import Recipe, SoundForm, Start, Which
from vesk.core.kinds import PICTURE
from vesk.jobs.tasks import ask_to_go_on, ask_turnover
from vesk.store import days, recordings, turnovers
from vesk.store.tables import Day, Delivery
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint("turnover", __name__, template_folder="templates")
_PIECE = 1 << 20
_PAPER = "default-src 'none'; style-src 'unsafe-inline'; sandbox; base-uri 'none'; frame-ancestors 'none'"


def _asked(day: Day) -> tuple[str, Recipe]:
    """Return which recipe a page is about: the one that its address names, else the last that was made, else usual."""
    name = request.args.get("recipe", "")[: form.LONGEST]
    found = next((row for row in recipes.of_day(session(), day) if row.name == name), None)
    if found is not None and found.recipe is not None:
        return found.name, found.recipe
    last = next((row for row in turnovers.of_day(session(), day.id) if row.recipe is not None), None)
    return (last.named, last.recipe) if last is not None and last.recipe is not None else ("", Recipe())


def _typed(day: Day) -> Recipe:
    """Read a recipe as it was filled in."""

    def ticked(name: str) -> bool:
        return form.text(name) == "yes"

    tags = [one.tag for one in days.sources(session(), day.id) if one.kind != PICTURE]
    said = [(tag, form.text(f"channels-{tag}").strip()) for tag in tags]
    return Recipe(
        sound=form.word("sound", SoundForm), pattern=form.text("pattern").strip(), movies=ticked("movies"),
        scratch=ticked("scratch"), timecode=ticked("timecode"), timeline=ticked("timeline"), aaf=ticked("aaf"),
        edl=ticked("edl"), pdf=ticked("pdf"), originals=ticked("originals"),
        ranges=ticked("ranges"), which=form.word("which", Which),
        start=form.word("start", Start), start_label=form.text("start_label").strip(),
        channels=tuple((tag, text) for tag, text in said if text),
        handles=form.whole("handles", most=10_000) if form.text("handles") else 0,
    )  # fmt: skip


def _show(
    day_id: int, *, status: int = 200, problem: str = "", said: str = "", about: tuple[str, Recipe] | None = None
) -> ResponseReturnValue:
    opened = session()
    frame = day_frame(day_id)
    view = Overview(opened, frame.day)
    made = [(row, _each_once(turnovers.deliveries(opened, row.id))) for row in turnovers.of_day(opened, day_id)]
    names = recordings.by_id(opened, {item.picture_id for _, held in made for item in held})
    named, recipe = about or _asked(frame.day)
    kept = recipes.of_day(opened, frame.day)
    items = view.of("items", lambda: turnover.items_of(view.day, view.statuses, view.recordings, view.sources))
    return render(
        "turnover/page.html",
        "turnover/_turnover.html",
        status=status,
        frame=frame,
        items=items,
        made=made,
        places={row.id: package.place_of(settings(), row) for row, _ in made},
        names=names,
        recipe=recipe,
        named=named,
        kept=kept,
        version=next((row.version for row in kept if row.name == named), 0),
        preview=recipes.preview(opened, frame.day, recipe, items),
        recorders=[one for one in view.sources if one.kind != PICTURE],
        roots=settings().output_roots,
        forms=list(SoundForm),
        whiches=list(Which),
        starts=list(Start),
        problem=problem,
        said=said,
    )


def _each_once(deliveries: list[Delivery]) -> list[Delivery]:
    """Return what was delivered, and what was not once for each recording and reason."""
    said: set[tuple[int, str]] = set()
    shown = []
    for one in deliveries:
        if not one.name and (one.picture_id, one.reason) in said:
            continue
        said.add((one.picture_id, one.reason))
        shown.append(one)
    return shown


@bp.get("/days/<int:day_id>/turnover")
def show(day_id: int) -> ResponseReturnValue:
    """Show the turnover."""
    return _show(day_id)


@bp.post("/days/<int:day_id>/turnover/preview")
def would(day_id: int) -> ResponseReturnValue:
    """Say what a recipe as filled in would make."""
    view = Overview(session(), day_frame(day_id).day)
    items = view.of("items", lambda: turnover.items_of(view.day, view.statuses, view.recordings, view.sources))
    try:
        found = recipes.preview(session(), view.day, _typed(view.day), items)
    except RefusedError as error:
        found = recipes.Preview((), 0, "", str(error))
    return render_template("turnover/_would.html", preview=found)


@bp.post("/days/<int:day_id>/turnover")
def make(day_id: int) -> ResponseReturnValue:
    """Have it made."""
    day = days.get_day(session(), day_id)
    about: list[tuple[str, Recipe]] = []

    def work() -> str:
        if all(item.obstacle for item in turnover.items(session(), day)):
            raise RefusedError("No take is checked yet: nothing can be handed over. Check takes on the bench first.")
        recipe = _typed(day) if form.text("sound") else Recipe()
        about.append((form.text("name").strip(), recipe))
        recipes.checked(day, recipe)
        if not recipes.preview(session(), day, recipe, turnover.items(session(), day)).ready:
            raise RefusedError(f"No take is {recipe.which}: this recipe would hand over nothing.")
        ask_turnover(session(), settings(), day, recipe, named=about[0][0][:60], root=form.text("root"))
        return "The turnover is being made; you may leave the page."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problem=problem, said=said, about=about[0] if about else None)


@bp.post("/days/<int:day_id>/turnover/recipe")
def keep(day_id: int) -> ResponseReturnValue:
    """Keep a recipe as filled in, under its name."""
    day = days.get_day(session(), day_id)
    about: list[tuple[str, Recipe]] = []

    def work() -> str:
        about.append((form.text("name").strip(), _typed(day)))
        shown = form.whole("version") if about[0][0] == form.text("shown") else 0
        row = recipes.keep(session(), settings(), day, *about[0], version=shown)
        return f"The recipe {row.name} is kept, for every day of this production."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problem=problem, said=said, about=about[0] if about else None)


@bp.post("/turnover/<int:turnover_id>/on")
def go_on(turnover_id: int) -> ResponseReturnValue:
    """Go on with one that was stopped or failed."""
    day_id = turnovers.get(session(), turnover_id).day_id

    def work() -> str:
        ask_to_go_on(session(), settings(), turnover_id)
        return "It goes on: what was made and still holds is kept."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problem=problem, said=said)


@bp.get("/turnover/<int:turnover_id>/<path:name>")
def fetch(turnover_id: int, name: str) -> ResponseReturnValue:
    """Give one of its files."""
    row = turnovers.get(session(), turnover_id)
    known = {item.name for item in turnovers.deliveries(session(), turnover_id)} | set(row.documents) | {"report.csv"}
    if name not in known:
        raise NotFoundError(f"That turnover holds no file {name}.")
    path = package.place_of(settings(), row) / name
    if not path.exists():
        raise RefusedError(f"{path}: it was taken away since. Make the turnover again.")
    response = send_file(path, as_attachment=path.suffix != ".html", download_name=path.name)
    if path.suffix == ".html":
        response.headers["Content-Security-Policy"] = _PAPER
    return response


@bp.get("/turnover/<int:turnover_id>.zip")
def archive(turnover_id: int) -> ResponseReturnValue:
    """Give the whole package as one archive, as it is read: nothing is kept of it."""
    row = turnovers.get(session(), turnover_id)
    folder = package.place_of(settings(), row)
    if row.state != "done" or not folder.is_dir():
        raise RefusedError(f"{folder}: it is not whole, or was taken away since. Make the turnover again.")
    response = Response(_zipped(folder), mimetype="application/zip")
    response.headers["Content-Disposition"] = f'attachment; filename="{folder.parent.name} {folder.name}.zip"'
    return response


class _Pipe(io.RawIOBase):
    """Takes what an archive writes and gives it on, piece by piece."""

    def __init__(self) -> None:
        super().__init__()
        self.held: list[bytes] = []

    def write(self, data: Any) -> int:
        """Take bytes."""
        self.held.append(bytes(data))
        return len(data)

    def writable(self) -> bool:
        """Say that it takes what is written; it cannot be sought in."""
        return True

    def taken(self) -> bytes:
        """Give what was written since."""
        found, self.held = b"".join(self.held), []
        return found


def _zipped(folder: Path) -> Iterator[bytes]:
    """Return a folder as an archive, uncompressed: sound and pictures would not shrink."""
    pipe = _Pipe()
    with zipfile.ZipFile(pipe, "w", zipfile.ZIP_STORED, allowZip64=True) as made:
        for path in sorted(one for one in folder.rglob("*") if one.is_file()):
            info = zipfile.ZipInfo.from_file(path, f"{folder.name}/{path.relative_to(folder).as_posix()}")
            with made.open(info, "w", force_zip64=True) as out, path.open("rb") as file:
                while block := file.read(_PIECE):
                    out.write(block)
                    yield pipe.taken()
            yield pipe.taken()
    yield pipe.taken()
