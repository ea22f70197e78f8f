"""Joining by hand without a browser: typed times, what is refused, what a person's word then counts."""

from fractions import Fraction

import pytest
from tests.paper_day import paper_day, picture, recording, sound

from vesk.actions import pairing, pairing_status
from vesk.store import journal, pairings, progress

HERE = "/days/{}/joining/"


@pytest.fixture
def day(db):
    """A camera without sound or timecode, and two recorder's files."""
    mute = {"channels": 0, "samples": 0, "timecode": ""}
    files = {
        "D/D001_001.mov": picture("", **mute), "S1/31_01.wav": sound("09:00:00:00"), "S1/31_02.wav": sound(""),
    }  # fmt: skip
    made = paper_day(db, files)
    pairing.pair_day(db, made)
    db.commit()
    return made


def sent(db, day, **more):
    both = recording(db, day, "D001_001.mov"), recording(db, day, "31_01.wav")
    return {"picture": both[0].id, "sound": both[1].id, "version": 0, **more}


def shown(answered):
    return " ".join(answered.text.split())


def test_from_an_unpaired_row_to_a_pairing_that_says_what_was_done(client, db, day):
    row = recording(db, day, "D001_001.mov")
    assert f"joining/?picture={row.id}" in client.get(f"/days/{day.id}/").text
    page = shown(client.get(HERE.format(day.id), query_string={"picture": row.id}))
    assert "31_01.wav (unpaired)" in page
    asked = sent(db, day, picture_at="frame 155", sound_at="9.05")
    says = shown(client.get(HERE.format(day.id) + "said", query_string=asked))
    assert "31_01.wav begins 2.850 s before D001_001.mov" in says
    done = client.post(HERE.format(day.id), data=asked)
    assert done.status_code == 303
    db.expire_all()
    (now,) = pairing_status.of_day(db, day)
    assert now.laid.offset == Fraction(-57, 20)
    assert now.state == "corrected"
    assert now.needs_person  # a person still states that it holds
    assert progress.find(db, "measure", now.pairing.id).state == "waiting"  # sound looks around it, if there is any
    assert any("slip of" in entry.what for entry in journal.of_day(db, day.id))
    # Pairing again leaves it; undone, it lies as before.
    pairing.pair_day(db, day)
    db.commit()
    assert pairings.is_standing(db, now.pairing.id)
    client.post(f"/bench/{now.pairing.id}/undo", data={"version": now.pairing.version})
    db.expire_all()
    assert pairing_status.of_day(db, day)[0].correction is None


@pytest.mark.parametrize(
    ("at", "words"),
    [
        ({"picture_at": "soon", "sound_at": "1"}, "is no moment"),
        ({"picture_at": "09:00:00:00", "sound_at": "1"}, "carries no timecode"),
        ({"picture_at": "1", "sound_at": "frame 3"}, "has no frames"),
        ({"picture_at": "400", "sound_at": "1"}, "would not reach"),
    ],
)
def test_what_cannot_be_is_refused_and_nothing_typed_is_lost(client, db, day, at, words):
    answered = client.post(HERE.format(day.id), data=sent(db, day, **at))
    assert answered.status_code == 422
    page = shown(answered)
    assert words in page
    assert f'value="{at["picture_at"]}"' in page
    db.expire_all()
    assert pairing_status.of_day(db, day) == []


def test_two_pictures_are_no_pair(client, db, day):
    row = recording(db, day, "D001_001.mov")
    wrong = client.get(HERE.format(day.id), query_string={"picture": row.id, "sound": row.id})
    assert "is not a recorder" in shown(wrong)


def test_a_change_made_meanwhile_is_shown_and_not_overwritten(client, db, day):
    client.post(HERE.format(day.id), data=sent(db, day, picture_at="1", sound_at="2"))
    stale = client.post(HERE.format(day.id), data=sent(db, day, picture_at="3", sound_at="2"))
    assert stale.status_code == 409
    db.expire_all()
    assert pairing_status.of_day(db, day)[0].laid.offset == -1
