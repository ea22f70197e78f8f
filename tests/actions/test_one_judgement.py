"""Commands and pages say the same of the same files: held against each other on the demo day, field by field."""

import os
import shutil
from dataclasses import replace

import pytest
from tests.conftest import heard_and_merged, named_day

from vesk.actions import gathering, measuring, pairing, sync_points
from vesk.actions.overview import Overview
from vesk.core.sound.measurement import MEASUREMENT
from vesk.dailies import measuring as by_sound
from vesk.dailies.folder import walk_folder
from vesk.store import days, recordings


@pytest.fixture
def measured_once(monkeypatch):
    """What either side asks to be measured is measured once, if it is asked in the same way."""
    real = by_sound.measure_by_sound
    kept = {}

    def once(picture, sound, *, proposal_s=None, channels=None, near_only=False, on_progress=None):
        asked = (*picture.files, *sound.files, proposal_s, channels, near_only)
        if asked not in kept:
            kept[asked] = real(picture, sound, proposal_s=proposal_s, channels=channels, near_only=near_only)
        return kept[asked]

    monkeypatch.setattr(by_sound, "measure_by_sound", once)
    return kept


def without_keys(place):
    """What the day says of a pair: rows have numbers, files their paths."""
    if place is None:
        return None
    told = place.contradiction and replace(place.contradiction, pairings=())
    return replace(place, picture="", sound="", contradiction=told)


@pytest.mark.parametrize(
    ("parts", "least"), [(["ferry"], 6), pytest.param(["ferry", "afternoon"], 12, marks=pytest.mark.slow)]
)
def test_pages_and_commands_judge_alike(db, settings, request, tmp_path, measured_once, parts, least):
    folder = tmp_path / "media"
    without = shutil.ignore_patterns("A006_00[34]*", "33*")  # as the others, and long
    for part in map(request.getfixturevalue, parts):
        shutil.copytree(part.folder, folder, copy_function=os.link, dirs_exist_ok=True, ignore=without)
    day = named_day(db, settings, folder, number=6)
    heard_and_merged(db, settings, day)
    for pairing_id in pairing.pair_day(db, day):
        measuring.measure_pairing(db, settings, pairing_id)
    for row in pairing.to_search(db, day):
        pairing.pair_by_sound(db, settings, row.id, lambda _done, _total: True)
    measuring.compare_rivals(db, settings, day.id)
    assert measuring.close_loops(db, settings, day.id) > 0
    assert measuring.close_loops(db, settings, day.id) == 0  # what was asked is not asked again
    for row in recordings.ready_of_day(db, day.id):
        sync_points.keep_sync_points(db, settings, row.id)
    by_pages = {(one.picture.path, one.sound.path): one for one in gathering.of_day(db, day)}
    asked = set(measured_once)
    walked = walk_folder(folder, settings.cache)
    by_commands = {(one.picture, one.sound): one for one in walked.pairings}
    anew = [[str(part) for part in one] for one in measured_once.keys() - asked]
    assert not anew  # it is asked in the very same way
    assert len(by_pages) >= least
    assert by_pages.keys() == by_commands.keys()
    tags = {source.id: source.tag for source in days.sources(db, day.id)}
    assert {row.path: tags[row.source_id] for row in recordings.ready_of_day(db, day.id)} == walked.sources
    for names, page in by_pages.items():
        one = by_commands[names].judged
        # A trace is kept to a nanosecond.
        assert (page.judged.picture, page.judged.sound) == (one.picture, one.sound), names
        assert page.judged.found == MEASUREMENT.load(MEASUREMENT.dump(one.found)), names
        assert (page.judged.offset, page.fps, page.judged.sample_rate) == (one.offset, one.fps, one.sample_rate), names
        assert (page.proposal, page.errors, page.points) == (one.proposal, one.errors, one.points), names
        assert page.verdict == one.verdict, names
        assert page.evidence == one.evidence, names
        assert without_keys(page.judged.place) == without_keys(one.place), names
    loops = Overview(db, day).solution.loops
    assert [(one.misclosure_s, one.se_s) for one in loops] == [
        (one.misclosure_s, one.se_s) for one in walked.solution.loops
    ]
    assert len(loops) > 0
    assert abs(loops[0].misclosure_s) < 0.001  # the demo's loops close, whoever is late
