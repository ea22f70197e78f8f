"""Joining by hand without a browser: typed times, what is refused, what a person's word then counts."""

from fractions import Fraction

import pytest
from tests.paper_day import paper_day, picture, recording, sound

from vesk.actions import gathering, pairing
from vesk.actions.overview import Overview
from vesk.core.kinds import MATCHED
from vesk.core.sound.measurement import Jump, Line, Measurement, refused
from vesk.store import journal, pairings, progress
from vesk.store import sync_points as points

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
    (now,) = gathering.of_day(db, day)
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
    assert gathering.of_day(db, day)[0].correction is None


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
    assert gathering.of_day(db, day) == []


def test_two_pictures_are_no_pair(client, db, day):
    row = recording(db, day, "D001_001.mov")
    wrong = client.get(HERE.format(day.id), query_string={"picture": row.id, "sound": row.id})
    assert "is not a recorder" in shown(wrong)


def test_a_change_made_meanwhile_is_shown_and_not_overwritten(client, db, day):
    client.post(HERE.format(day.id), data=sent(db, day, picture_at="1", sound_at="2"))
    stale = client.post(HERE.format(day.id), data=sent(db, day, picture_at="3", sound_at="2"))
    assert stale.status_code == 409
    db.expire_all()
    assert gathering.of_day(db, day)[0].laid.offset == -1


@pytest.fixture
def mute(db):
    """Three takes of a camera without sound, an hour and some frames off, and a recorder's files; no clap anywhere."""
    files = {}
    for n in range(3):
        files[f"D/D001_00{n}.mov"] = picture(f"10:{10 * n:02}:00:11", channels=0, samples=0)
        files[f"S1/31_0{n}.wav"] = sound(f"09:{10 * n:02}:00:00")
    made = paper_day(db, files)
    pairing.pair_day(db, made)
    db.commit()
    return made


def solved(db, day):
    """Pair what the day as a whole knows, as the worker does; return how each pairing stands, by picture's name."""
    pairing.pair_by_solution(db, day)
    for row in pairings.of_day(db, day.id):
        if row.measured_as is None:  # as a worker finds: it heard nothing
            row.state, row.measurement = pairings.MEASURED, refused("D has no sound", unheard=True)
    db.commit()
    db.expire_all()
    return {now.picture.name: now for now in gathering.of_day(db, day)}


def test_one_event_on_both_lays_a_mute_take_and_by_its_clock_all_others_and_follows_when_it_is_moved(client, db, mute):
    assert solved(db, mute) == {}
    both = recording(db, mute, "D001_001.mov"), recording(db, mute, "31_01.wav")
    asked = {"picture": both[0].id, "sound": both[1].id, "version": 0, "picture_at": "frame 155", "sound_at": "9.05"}
    assert "Give it a name" in shown(client.post(HERE.format(mute.id), data={**asked, "do": "point"}))
    page = shown(client.post(HERE.format(mute.id), data={**asked, "do": "point", "name": "door slams"}))
    assert "It is a sync point of both now" in page
    now = solved(db, mute)
    assert sorted(now) == ["D001_000.mov", "D001_001.mov", "D001_002.mov"]
    late = 155 / 25 - 9.05
    for one in now.values():
        assert one.proposal is not None
        assert float(one.proposal.on(one.pairing.offset).offset) == pytest.approx(late, abs=0.02)
    bench = shown(client.get(f"/bench/{now['D001_001.mov'].pairing.id}"))
    assert "the same event on both: door slams" in bench
    # Moved on the sound by half a second, everything of the camera follows; taken away, nothing is claimed; undone.
    (point,) = points.of_recordings(db, [both[1].id])[both[1].id]
    sent = {"version": point.version, "name": "door slams", "kind": "word", "at": "9.55"}
    assert "Set." in shown(client.post(f"/sync-points/{point.id}/change", data=sent))
    assert client.post(f"/sync-points/{point.id}/change", data=sent).status_code == 409
    for one in solved(db, mute).values():
        assert float(one.proposal.on(one.pairing.offset).offset) == pytest.approx(late - 0.5, abs=0.02)
    client.post(f"/sync-points/{point.id}/remove", data={"version": point.version})
    assert all(one.proposal is None for one in solved(db, mute).values())
    page = shown(client.get(f"/recordings/{both[1].id}"))
    assert "taken away by test editor" in page
    for place in (late - 0.5, late):
        db.expire_all()
        client.post(f"/sync-points/{point.id}/undo", data={"version": point.version})
        found = solved(db, mute)["D001_000.mov"]
        assert float(found.proposal.on(found.pairing.offset).offset) == pytest.approx(place, abs=0.02)
    # Laid there it is within what one frame tells, not within what is let pass: a person looks at it.
    own = found.pairing
    client.post(f"/bench/{own.id}/proposal", data={"version": own.version})
    laid = solved(db, mute)["D001_000.mov"]
    assert laid.verdict.brief.startswith("placed within ±1.2")
    assert laid.needs_person
    assert any("31_01.wav: word door slams at 9.5500 s taken away" in one.what for one in journal.of_day(db, mute.id))


def test_a_take_joined_and_checked_by_hand_tells_the_clock_of_its_neighbours(client, db, mute):
    both = recording(db, mute, "D001_001.mov"), recording(db, mute, "31_01.wav")
    asked = {"picture": both[0].id, "sound": both[1].id, "version": 0, "picture_at": "frame 155", "sound_at": "9.05"}
    client.post(HERE.format(mute.id), data=asked)
    now = solved(db, mute)
    assert "joined it by hand" in now["D001_001.mov"].verdict.text
    assert now["D001_002.mov"].proposal is not None
    page = shown(client.get(f"/days/{mute.id}/?show=joined"))
    assert "joined by hand 1" in page
    own = now["D001_001.mov"].pairing
    client.post(f"/bench/{own.id}/unjoin", data={"version": own.version})
    assert solved(db, mute)["D001_002.mov"].proposal is None


def test_two_that_belong_together_stay_so_while_sound_looks_for_a_place(client, db, mute):
    both = recording(db, mute, "D001_001.mov"), recording(db, mute, "31_02.wav")
    asked = {"picture": both[0].id, "sound": both[1].id, "version": 0, "do": "belong"}
    done = client.post(HERE.format(mute.id), data={**asked, "picture_at": "", "sound_at": ""})
    assert done.status_code == 303
    pairing.pair_day(db, mute)
    db.commit()
    (row,) = pairings.of_day(db, mute.id)
    assert (row.said_by, row.sound_id) == ("test editor", both[1].id)
    assert progress.find(db, "measure", row.id).state == "waiting"
    assert "by hand, test editor" in shown(client.get(f"/bench/{row.id}"))


def test_of_two_that_claim_the_same_moments_a_person_says_which_is_meant(client, db):
    day = paper_day(db, {"A/a.mov": picture(""), "S1/b.wav": sound(""), "S1/c.wav": sound("")})
    film, *two = (recording(db, day, name) for name in ("a.mov", "b.wav", "c.wav"))
    for row in two:
        pair = pairings.propose(db, day_id=day.id, picture_id=film.id, sound_id=row.id, offset=Fraction(0))
        line = Line(10.0, 0.0, 0.0, 1e-5, 0.1)
        pair.state, pair.measurement = (
            pairings.MEASURED,
            Measurement(MATCHED, "", line, 0.0, 10.0, 20.0, share=1.0, log10_false_alarm=-40.0),
        )
    db.commit()
    one, other = gathering.of_day(db, day)
    assert not one.settled
    assert not other.settled
    page = shown(client.post(f"/bench/{one.pairing.id}/prefer", data={"version": one.pairing.version}))
    assert "This is the one; set aside: a.mov with c.wav" in page
    db.expire_all()
    one, other = gathering.of_day(db, day)
    assert one.settled
    assert (other.state, other.aside) == ("set aside", "a.mov with b.wav was preferred")
    again = client.post(f"/bench/{one.pairing.id}/prefer", data={"version": one.pairing.version})
    assert "nothing to prefer it to" in shown(again)


def test_a_step_in_a_pause_is_mended_from_the_bench_and_left_again(client, db):
    made = paper_day(db, {"A/A001_001.mov": picture("09:00:00:00"), "S1/41_01.wav": sound("09:00:00:00")})
    pairing.pair_day(db, made)
    (row,) = pairings.of_day(db, made.id)
    step = Jump(13.0, 0.0125, 12.0, 14.0, 1e-4)
    line = Line(10.0, float(row.offset), 0.0, 1e-6, 0.01, unsure=(step,))
    row.measurement, row.state = Measurement(MATCHED, "", line, 0.0, 10.0, 20.0, log10_false_alarm=-60.0), "measured"
    db.commit()
    bench = shown(client.get(f"/bench/{row.id}"))
    assert "somebody moved by 4.3 m, or S1 lost 600 samples" in bench
    assert "Samples were lost there: mend it" in bench
    done = shown(client.post(f"/bench/{row.id}/mend", data={"version": row.version}))
    assert "Mended as a jump" in done
    assert "the jump mended" in done
    assert "Samples were lost there" not in done
    db.expire_all()
    (now,) = gathering.of_day(db, made)
    assert float(now.as_corrected.jumps[0][1]) == pytest.approx(0.0125)
    assert now.verdict.holds
    client.post(f"/bench/{row.id}/undo", data={"version": now.pairing.version})
    assert "Samples were lost there" in shown(client.get(f"/bench/{row.id}"))


def test_two_whole_devices_are_chosen_and_what_follows_for_their_other_takes_is_said(client, db):
    day = paper_day(
        db,
        {f"{tag}/{tag}{n}.{'mov' if tag == 'A' else 'wav'}": make(f"{9 + n:02}:00:00:00")
         for tag, make in (("A", picture), ("S1", sound)) for n in range(3)},
    )  # fmt: skip
    pairing.pair_day(db, day)
    db.commit()
    view = Overview(db, day)
    of = {one.kind: one.id for one in view.sources}
    page = shown(client.get(f"/days/{day.id}/"))
    for number in of.values():
        assert f'data-device="{number}"' in page
    page = shown(client.get(HERE.format(day.id), query_string={"camera": of["picture"], "recorder": of["sound"]}))
    assert "A · A0.mov" in page
    assert "S1 · S10.wav" in page  # by its clock the one that lies beside it
    asked = {"picture": recording(db, day, "A1.mov").id, "sound": recording(db, day, "S11.wav").id}
    says = shown(client.get(HERE.format(day.id) + "said", query_string=asked | {"picture_at": "4", "sound_at": "5"}))
    assert "2 more takes of A then lie on S1&#39;s sound" in says
    says = shown(client.get(HERE.format(day.id) + "said", query_string=asked | {"picture_at": "40", "sound_at": "1"}))
    assert "more take" not in says
    only = client.get(HERE.format(day.id), query_string={"camera": of["picture"]}).text
    assert "Choose a picture and a sound" in only
