"""The Clocks page: what it says of each device, another truth, and one typed correction taken and undone."""

import re

import pytest
from tests.web.test_deciding import PHASE, day, shown, statuses

from vesk.actions import correct
from vesk.store import journal

__all__ = ["day"]
HERE = "/days/{}/clocks"


def typed(db, made, **more):
    one = statuses(db, made, "A")[0]
    values = {"camera": one.picture_source.id, "recorder": one.sound_source.id}
    return {**values, **more}


def test_each_device_has_its_plot_and_its_figures_against_whichever_is_the_truth(client, db, day):
    page = shown(client.get(HERE.format(day.id)))
    assert page.count('class="clock"') == 3
    assert "As heard −0.31 f at its first take, −0.31 f at its last" in page
    assert "f an hour" in page
    assert "S1 <span" in page
    assert "every other clock is told against this one" in page
    assert page.count('class="mark') == 5
    assert "As heard −1.00 f at its first take" in page  # C: its ears are a frame early, its clock is right
    assert re.search(r"With ears taken out [+−]0\.0\d f\. Hears −40", page)
    against = shown(client.get(HERE.format(day.id), query_string={"truth": "A"}))
    assert "source A, taken for the truth" in against
    assert "+0.31 f at its first take" in against  # S1, against A
    for nonsense in ({"since": "x"}, {"since": "1e99", "until": "-1"}, {"tall": "nan"}, {"truth": "nobody"}):
        assert client.get(HERE.format(day.id), query_string=nonsense).status_code == 200


def test_a_typed_correction_says_what_it_touches_is_taken_and_is_undone(client, settings, db, day):
    first = statuses(db, day, "A")[0]
    correct.check(db, settings, first.pairing.id, version=first.pairing.version)
    db.commit()
    asked = typed(db, day, slip="-0.31", since_label="08:00:00", before_label="12:00:00")
    preview = shown(client.post(f"{HERE.format(day.id)}/preview", data=asked))
    assert "It touches <b>2 takes</b>" in preview  # the checked one stays as it was seen
    assert re.search(r"best: .*\+0\.31 f.*then.*[+−]0\.00 f", preview)
    page = shown(client.post(f"{HERE.format(day.id)}/correct", data=asked))
    assert "2 takes corrected by one correction." in page
    now = statuses(db, day, "A")
    assert [bool(one.scoped) for one in now] == [False, True, True]
    assert float(now[1].as_corrected.slip) == pytest.approx(PHASE, abs=1e-9)
    (line,) = [one for one in journal.of_day(db, day.id) if one.act]
    assert "as typed" in line.what
    client.post(f"/days/{day.id}/acts/{line.act}/undo")
    assert [one.state for one in statuses(db, day, "A")] == ["checked", "measured", "measured"]


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"slip": "a lot"}, "is not a number of frames"),
        ({"since_label": "25:00:00"}, "is no time of the day"),
        ({"since_label": "20:00:00"}, "nothing was done"),
        ({"recorder": "999999"}, "Choose a camera and a recorder"),
    ],
)
def test_what_cannot_be_is_said_and_nothing_is_done(client, db, day, more, words):
    sent = typed(db, day, slip="1") | more
    assert words in shown(client.post(f"{HERE.format(day.id)}/preview", data=sent))
    answered = client.post(f"{HERE.format(day.id)}/correct", data=sent)
    assert answered.status_code == 422
    assert words in shown(answered)
    assert all(not one.scoped for one in statuses(db, day, "A"))
