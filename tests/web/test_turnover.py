"""The Turnover page: a recipe seen before it is made, kept and chosen; documents and the archive fetched."""

import io
import zipfile
from dataclasses import replace
from pathlib import Path

import pytest
from sqlalchemy.orm.exc import StaleDataError
from tests.actions.test_day import checked
from tests.actions.test_day import day as ferry_day
from tests.web.test_deciding import shown

from vesk.actions import package, recipes, turnover
from vesk.core.handover.recipe import Recipe
from vesk.store import turnovers

__all__ = ["ferry_day"]
FORM = {
    "sound": "one for each picture file", "pattern": "{scene}-{take}", "which": "checked", "scratch": "yes",
    "start": "at the first recording's timecode", "start_label": "", "handles": "0", "timeline": "yes",
}  # fmt: skip


@pytest.fixture
def day(ferry_day, db, settings):
    checked(db, settings, ferry_day, "A006_001.mov")
    return ferry_day


def test_a_recipe_is_seen_in_words_and_counts_before_it_is_made(client, day):
    here = f"/days/{day.id}/turnover"
    page = shown(client.get(here))
    assert "1 of 4 takes go out (checked)" in page
    assert "the first is called <b>sound/A006_001.wav</b>" in page
    preview = shown(client.post(f"{here}/preview", data=FORM | {"movies": "yes", "edl": "yes"}))
    assert "1 movie, picture as it is, good sound first, in movies/" in preview
    assert "sound/31A-1.wav" in preview
    assert "day.otio, moments.otio, an edit list for each device" in preview
    for wrong, words in (
        ({"pattern": "{who}"}, "is no word of a pattern"),
        ({"sound": "loud"}, "Choose one of these"),
        ({"start": "at a label", "start_label": "soon"}, "is no label to begin at"),
        ({"handles": "-1"}, 'class="problem"'),
        ({"sound": "none", "timeline": ""}, "makes nothing but a report"),
    ):
        assert words in shown(client.post(f"{here}/preview", data=FORM | wrong)).replace("&#39;", "'")


def changed_in_between(*_args, **_more):
    raise StaleDataError("UPDATE statement on table 'recipe' expected to update 1 row(s); 0 were matched.")


def test_a_recipe_is_kept_chosen_by_name_and_makes_what_it_says(client, db, settings, day, monkeypatch):
    here = f"/days/{day.id}/turnover"
    kept = shown(client.post(f"{here}/recipe", data=FORM | {"name": "editor", "movies": "yes"}))
    assert "The recipe editor is kept, for every day of this production." in kept
    # Somebody else keeps another of that name meanwhile: told with both sides, and nothing of theirs is lost.
    theirs = recipes.keep(db, replace(settings, person="Ida"), day, "editor", Recipe(movies=True, handles=7), version=1)
    db.commit()
    late = client.post(f"{here}/recipe", data=FORM | {"name": "editor", "shown": "editor", "version": "1"})
    assert late.status_code == 409
    assert "Theirs: recipe 'editor' kept (Ida" in late.text.replace("&#39;", "'")
    assert "Yours, not applied: " in late.text
    monkeypatch.setattr(recipes, "keep", changed_in_between)
    late = client.post(f"{here}/recipe", data=FORM | {"name": "editor", "shown": "editor", "version": "2"})
    assert late.status_code == 409
    assert "The latest on this day: recipe 'editor' kept (Ida" in late.text.replace("&#39;", "'")
    assert "Yours, not applied: " in late.text
    db.refresh(theirs)
    assert theirs.recipe.handles == 7
    page = shown(client.get(here, query_string={"recipe": "editor"}))
    assert 'name="movies" value="yes" checked' in page
    made = shown(client.post(here, data=FORM | {"name": "editor"}))
    assert "The turnover is being made" in made
    (row,) = turnovers.of_day(db, day.id)
    assert (row.named, row.recipe.pattern, row.recipe.movies) == ("editor", "{scene}-{take}", False)
    row.state = "done"
    db.commit()
    for wrong, words in (
        ({"which": "circled and checked"}, "this recipe would hand over nothing"),
        ({"pattern": ""}, "A pattern has at least one word"),
        ({"root": "/etc"}, "is none of the folders that packages may go to"),
    ):
        answered = client.post(here, data=FORM | wrong)
        assert answered.status_code == 422, wrong
        assert words in shown(answered)
    assert len(turnovers.of_day(db, day.id)) == 1


def test_every_document_can_be_fetched_and_all_of_it_as_one_archive(client, db, settings, day):
    row = turnover.plan(db, settings, day, Recipe(pdf=True))
    db.commit()
    assert client.get(f"/turnover/{row.id}.zip").status_code == 422  # it is not whole yet
    package.make(db, settings, row.id)
    page = shown(client.get(f"/days/{day.id}/turnover"))
    assert "Every file holds, measured again; 1 of 4 picture files are in it." in page
    for name in row.documents:
        with client.get(f"/turnover/{row.id}/{name}") as answered:
            assert answered.status_code == 200, name
            assert answered.data == (Path(row.folder) / name).read_bytes()
    with client.get(f"/turnover/{row.id}/report.html") as report:
        assert "sandbox" in report.headers["Content-Security-Policy"]
        assert "script-src" not in report.headers["Content-Security-Policy"]
    for outside in ("../../web.secret", "UNFINISHED.txt", "sound/../report.csv"):
        assert client.get(f"/turnover/{row.id}/{outside}").status_code in {404, 308}
    archive = zipfile.ZipFile(io.BytesIO(client.get(f"/turnover/{row.id}.zip").data))
    assert archive.testzip() is None
    folder = Path(row.folder)
    names = {f"{folder.name}/{one.relative_to(folder).as_posix()}" for one in folder.rglob("*") if one.is_file()}
    assert set(archive.namelist()) == names
