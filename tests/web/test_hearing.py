"""How single takes hear: said for a take, for what is selected, for a part of the day; followed, shown, undone."""

import gc
import re
import weakref

import pytest
from tests.paper_day import picture, recording
from tests.web.test_deciding import EARLY, PHASE, answer, chosen, day, shown, source, statuses

from vesk.actions import overview, pairing
from vesk.core.pairing.judgement import Judgement
from vesk.core.sound.distance import distance_delay_s
from vesk.store import days, journal, pairings
from vesk.store.tables import Recording

__all__ = ["day"]
MS = 1e-3


def wants(now):
    """Where the picture wants the sound, seconds from where it lies."""
    return [float(one.proposal.slip) for one in now]


def test_a_part_of_the_day_hears_otherwise_and_its_neighbours_do_not(client, db, day):
    number = statuses(db, day, "A")[0].picture_source.id
    sent = {"device": number, "since_label": "09:05:00", "before_label": "09:15:00", "metres": "34.3"}
    says = shown(client.post(f"/days/{day.id}/clocks/hearing/preview", data=sent))
    assert "It touches <b>1 take</b>: A: microphone 34.3 m away" in says
    # As it lies it is 0.31 f late by its labels; on picture it belongs a tenth of a second earlier than was heard.
    assert re.search(r"then</td><td class=\"num\">\+2\.8\d", says)
    page = shown(client.post(f"/days/{day.id}/clocks/hearing", data=sent))
    assert "Everything of it follows" in page
    assert "A: microphone 34.3 m away: A001_001.mov, says test editor" in page
    now = statuses(db, day, "A")
    assert wants(now) == pytest.approx([PHASE, PHASE - distance_delay_s(34.3), PHASE], abs=1e-4)
    assert now[1].errors.middle_s == pytest.approx(-PHASE + distance_delay_s(34.3), abs=1e-4)
    # A card that comes in later holds one that was taken in that part of the day, and one that was not.
    camera = statuses(db, day, "A")[0].picture_source
    for name, at in (("A001_009.mov", "09:12:00:00"), ("A001_010.mov", "09:25:00:00")):
        facts = picture(at)
        db.add(
            Recording(
                day_id=day.id, source_id=camera.id, path=f"A/{name}", name=name, size=1, modified_ns=1, content=name,
                kind=facts.kind, duration=facts.duration, facts=facts,
            )
        )  # fmt: skip
    db.flush()
    pairing.pair_day(db, day)
    db.commit()
    assert [recording(db, day, f"A001_0{n}.mov").distance_mm for n in ("09", "10")] == [34300, None]
    line = next(one for one in journal.of_day(db, day.id) if "34.3 m" in one.what)
    client.post(f"/days/{day.id}/journal/{line.id}/undo")
    assert wants(statuses(db, day, "A")) == pytest.approx([PHASE] * 3, abs=1e-4)
    pairing.pair_day(db, days.get_day(db, day.id))
    db.commit()
    assert recording(db, day, "A001_009.mov").distance_mm is None


def test_what_is_selected_hears_as_is_said_and_its_device_no_longer_contradicts_it(client, db, day):
    own = statuses(db, day, "C")
    assert all(one.contradiction for one in own)
    far = answer(client, day, "hearing", pairing=chosen(own[:1]), whose="picture", metres="3")
    assert "The evidence of C disagrees with what is entered" in far  # a distance alone would silence that
    assert statuses(db, day, "C")[0].contradiction
    sent = {"pairing": chosen(own[:1]), "whose": "picture", "delay_ms": "-40"}
    assert "C: internal sound delay -40 ms" in answer(client, day, "hearing/preview", **sent)
    assert "C001_000.mov: internal sound delay -40 ms. Everything" in answer(client, day, "hearing", **sent)
    first, second = statuses(db, day, "C")
    assert first.contradiction is None
    assert float(first.proposal.slip) == pytest.approx(EARLY + 40 * MS, abs=1e-4)
    assert second.contradiction is not None  # of the other one takes are asked as before
    back = answer(client, day, "hearing", pairing=chosen([first]), whose="picture", metres="", delay_ms="")
    assert "as its device hears" in back  # what was said is taken back, and it is asked with the others again
    assert statuses(db, day, "C")[0].contradiction
    stale = client.post(f"/days/{day.id}/hearing", data=sent)
    assert stale.status_code == 409
    nothing = client.post(f"/days/{day.id}/hearing", data={"whose": "sound", "metres": "3"})
    assert "tick the takes first" in nothing.text


def test_a_take_is_said_on_the_bench_stands_above_its_device_and_is_taken_back(client, db, day):
    one = statuses(db, day, "A")[2]
    page = shown(client.post(f"/bench/{one.pairing.id}/hear", data={
        "version": one.pairing.version, "whose": "sound", "metres": "10", "delay_ms": "",
    }))  # fmt: skip
    assert "Hears otherwise here" in page
    earlier = distance_delay_s(10)  # what the recorder heard late lies earlier than it was heard
    assert wants(statuses(db, day, "A"))[2] == pytest.approx(PHASE + earlier, abs=1e-4)
    recorder = source(db, day, "S1")
    client.post(f"/sources/{recorder.id}", data={
        "version": recorder.version, "name": "recorder", "distance_m": "3", "delay_ms": "0",
    })  # fmt: skip
    now = wants(statuses(db, day, "A"))
    assert now == pytest.approx([PHASE + distance_delay_s(3)] * 2 + [PHASE + earlier], abs=1e-4)
    one = statuses(db, day, "A")[2]
    back = {"version": one.pairing.version, "whose": "sound", "metres": "", "delay_ms": ""}
    assert "Hears as its devices do" in shown(client.post(f"/bench/{one.pairing.id}/hear", data=back))
    assert wants(statuses(db, day, "A"))[2] == pytest.approx(PHASE + distance_delay_s(3), abs=1e-4)


@pytest.mark.parametrize(("sent", "says"), [({"metres": "501"}, "between 0 and 500 m"), ({"metres": "x"}, "metres")])
def test_what_cannot_be_is_refused(client, db, day, sent, says):
    one = statuses(db, day, "A")[0]
    answered = client.post(
        f"/bench/{one.pairing.id}/hear", data={"version": one.pairing.version, "whose": "picture", **sent}
    )
    assert answered.status_code == 422
    assert says in answered.text


def test_a_take_that_is_slipped_on_and_on_leaves_nothing_behind(client, db, day, monkeypatch):
    number = statuses(db, day, "A")[0].pairing.id
    made = []
    # Followed from when they are made: whoever asks for all objects holds what other threads are just making.
    plain = Judgement.__init__
    monkeypatch.setattr(
        Judgement, "__init__", lambda one, *a, **k: made.append(weakref.ref(one)) or plain(one, *a, **k)
    )

    def judgements():
        overview.forget()
        gc.collect()
        return sum(one() is not None for one in made)

    def slip(times):
        for n in range(times):
            version = pairings.get(db, number).version
            client.post(f"/bench/{number}/own", data={"version": version, "slip_frames": n / 10, "ppm": "0"})
            client.get(f"/days/{day.id}/")
            db.expire_all()

    slip(4)
    before = judgements()
    slip(12)
    assert judgements() <= before + 1 < len(made)
