"""Claps kept, confirmed by a person, and what they then say of a pairing and of a camera."""

from dataclasses import replace
from fractions import Fraction

import pytest
from tests.conftest import SHORT, make_shoot, measured_takes, named_day

from vesk.actions import gathering, intake, measuring, pairing, sync_points
from vesk.core.errors import MediaError, RefusedError, StaleError
from vesk.core.facts import Marker
from vesk.core.kinds import Work, WorkState
from vesk.jobs import tasks
from vesk.store import days, progress, recordings
from vesk.store import sync_points as points
from vesk.web import create_app


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    """Return the first two takes of A with their sound, measured and searched for claps."""
    without = ("B004*", "3[2346]*", "A006_00[34567]*", "WT*")
    named = measured_takes(db, settings, ferry, tmp_path / "media", *without)
    for row in recordings.ready_of_day(db, named.id):
        sync_points.keep_sync_points(db, settings, row.id)
    db.commit()
    return named


def take(db, day, name="A006_001.mov"):
    return next(now for now in gathering.of_day(db, day) if now.picture.name == name)


def seen(db, now):
    """Return the clearest clap seen: the first, since they come by likelihood."""
    found = points.of_recordings(db, [now.picture.id])[now.picture.id]
    return next(row for row in found if row.how == points.SEEN)


def test_the_clap_is_proposed_on_its_frame_and_bounds_the_error(db, day, ferry):
    now = take(db, day)
    true = next(r for r in ferry.truth["recordings"] if r["path"].endswith("A006_001.mov"))
    assert seen(db, now).frame == true["clap_frame"]
    evidence = {item.kind: item for item in now.evidence}
    assert "proposed" in evidence["sync point"].says
    bound = now.judged.error_by_claps(confirmed=False)
    assert bound.low_s - 0.001 <= now.errors.head_s <= bound.high_s + 0.001
    assert bound.high_s - bound.low_s <= 0.0601  # a frame, and an exposure that lasts half of one
    assert now.judged.setting.seen_s is None  # nobody confirmed it


def test_what_was_listened_to_stays_whatever_becomes_of_its_claps(db, settings, day, monkeypatch):
    """One job does both: a picture that cannot be looked at costs nobody what was heard, nor who waits for it."""
    row = take(db, day).picture
    before = len(points.of_recordings(db, [row.id])[row.id])
    row.heard = None
    db.commit()
    for name, value in settings.environment().items():
        monkeypatch.setenv(name, value)

    def unreadable(*_):
        raise MediaError(row.path, "its picture cannot be read", "Copy it again.")

    tasks.ask_listen(db, row)
    db.commit()
    monkeypatch.setattr(tasks.sync_points_action, "keep_sync_points", unreadable)
    tasks.listen(row.id)
    db.expire_all()
    told = progress.find(db, Work.LISTEN, row.id)
    assert told.state == WorkState.FAILED
    assert "its picture cannot be read. Copy it again. Its sound was listened to" in told.problem
    assert recordings.get(db, row.id).heard is not None
    monkeypatch.undo()
    for name, value in settings.environment().items():
        monkeypatch.setenv(name, value)
    tasks.listen(row.id)
    db.expire_all()
    assert progress.find(db, Work.LISTEN, row.id).state == WorkState.DONE
    assert len(points.of_recordings(db, [row.id])[row.id]) == before


def test_confirmed_claps_give_the_cameras_internal_delay(db, settings, day):
    source = next(one for one in days.sources(db, day.id) if one.tag == "A")
    with pytest.raises(RefusedError, match="No clap"):
        sync_points.take_delay(db, settings, source.id, version=source.version)
    for name in ("A006_001.mov", "A006_002.mov"):
        row = seen(db, take(db, day, name))
        sync_points.decide(db, settings, row.id, version=row.version, frame=row.frame)
    found = sync_points.source_delay(db, source)
    assert (found.agreeing, found.claps) == (2, 2)
    assert found.low_s <= 0.0005  # its sound is in place, within what two claps can tell
    assert found.high_s >= -0.0005
    assert found.high_s - found.low_s < 0.06
    assert take(db, day).judged.setting.seen_s is not None
    assert take(db, day).verdict.cause == "sub-frame slip"
    sync_points.take_delay(db, settings, source.id, version=source.version)
    assert take(db, day).late_s == pytest.approx(take(db, day).late_s, abs=1e-6)
    assert source.delay_us == round(found.middle_s * 1e6)


def test_a_camera_whose_sound_is_a_frame_early_is_told_from_an_offset(db, settings, tmp_path):
    """Sound fits sound perfectly and the picture is a frame off: only the clap seen can tell."""
    text = SHORT.format(rate="25", jam="07:30:00", start="09:00:00").replace(
        "phase = 0.2", "phase = 0.0\nlate_ms = -40.0"
    )
    (tmp_path / "media").mkdir()
    folder = make_shoot(text, tmp_path / "media").folder
    named = named_day(db, settings, folder)
    intake.take_in(db, settings, named)
    (pid,) = pairing.pair_day(db, named)
    measuring.measure_pairing(db, settings, pid)
    for row in recordings.ready_of_day(db, named.id):
        sync_points.keep_sync_points(db, settings, row.id)
    for source, metres in zip(days.sources(db, named.id), (1000, 500), strict=True):
        source.distance_mm = metres
    (now,) = gathering.of_day(db, named)
    # A clear clap and a header that was jammed agree against the scratch: one take, and nothing holds by itself.
    assert now.verdict.cause == "evidence disagrees"
    assert "frame early" in now.verdict.text
    row = seen(db, now)
    sync_points.decide(db, settings, row.id, version=row.version, frame=row.frame)
    (now,) = gathering.of_day(db, named)
    assert (now.contradiction.agreeing, now.contradiction.claps) == (1, 1)
    assert now.contradiction.apart_s == pytest.approx(-0.04, abs=0.008)
    assert abs(float(now.proposal.slip)) < 0.008  # the picture wants the sound where its labels lay it
    sync_points.take_delay(db, settings, now.picture_source.id, version=now.picture_source.version)
    (now,) = gathering.of_day(db, named)
    # One clap: good to three quarters of a frame, either way.
    assert now.picture_source.delay_us == pytest.approx(-40_000, abs=31_000)
    assert abs(now.errors.head_s) < 0.032


def test_decisions_stay_are_refused_when_stale_and_survive_a_new_search(db, settings, day):
    row = seen(db, take(db, day))
    sync_points.decide(db, settings, row.id, version=1, frame=None)
    with pytest.raises(StaleError):
        sync_points.decide(db, settings, row.id, version=1, frame=20)
    with pytest.raises(RefusedError, match="frames 0 to"):
        sync_points.decide(db, settings, row.id, version=2, frame=100_000)
    db.commit()
    before = len(points.of_recordings(db, [row.recording_id])[row.recording_id])
    sync_points.keep_sync_points(db, settings, row.recording_id)
    db.commit()
    kept = points.of_recordings(db, [row.recording_id])[row.recording_id]
    assert len(kept) == before
    assert [one.state for one in kept if one.id == row.id] == ["refused"]


def test_the_recordings_page_shows_claps_and_takes_the_persons_word(db, settings, day):
    app = create_app(settings)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    now = take(db, day)
    row = seen(db, now)
    page = client.get(f"/recordings/{now.picture.id}")
    assert f'value="{row.frame}" class="frame chosen"' in page.text
    assert page.text.count('class="wave"') == 1
    answer = client.post(f"/sync-points/{row.id}", data={"version": row.version, "frame": row.frame})
    assert f"Closed on frame {row.frame}: confirmed." in answer.text
    stale = client.post(f"/sync-points/{row.id}", data={"version": row.version, "frame": "none"})
    assert stale.status_code == 409
    assert "confirmed" in client.get(f"/bench/{now.pairing.id}").text
    intake_page = client.get(f"/days/{day.id}/intake").text
    assert "1 of 1 claps" in " ".join(intake_page.split())


def test_what_a_person_puts_and_what_the_file_marks_stay_through_a_new_search(db, settings, day):
    now = take(db, day)
    sound, film = now.sound, now.picture
    sound.facts = replace(sound.facts, markers=(Marker(Fraction(3, 2), "bell"), Marker(Fraction(4))))
    db.flush()
    word = sync_points.make(db, settings, film.id, at="1.5", name=" first   word ", kind="word")
    light = sync_points.make(db, settings, film.id, at="1.5", name="lamp", kind="light")
    assert (word.how, word.heard_us, word.name) == ("heard", 1_500_000, "first word")
    assert (light.how, light.frame) == ("seen", 37)
    for at, words in [("99 s", "is not on it"), ("frame 0", "choose a later one"), ("noon", "is no moment")]:
        with pytest.raises(RefusedError, match=words):
            sync_points.make(db, settings, film.id, at=at, kind="light")
    db.commit()
    for row in (sound, film):
        sync_points.keep_sync_points(db, settings, row.id)
    db.commit()
    marked = {one.name: one for one in points.of_recordings(db, [sound.id])[sound.id] if one.origin == "marker"}
    assert sorted(marked) == ["", "bell"]
    sync_points.change(db, settings, marked["bell"].id, version=1, at="1.6 s", name="bell", kind="tone")
    sync_points.remove(db, settings, marked[""].id, version=1)
    db.commit()
    for row in (sound, film):
        sync_points.keep_sync_points(db, settings, row.id)
    db.commit()
    again = [one for one in points.of_recordings(db, [sound.id])[sound.id] if one.origin == "marker"]
    assert sorted((one.name, one.heard_us, one.state) for one in again) == [
        ("", 4_000_000, "refused"), ("bell", 1_600_000, "confirmed"),
    ]  # fmt: skip
    assert {one.name for one in points.of_recordings(db, [film.id])[film.id]} >= {"first word", "lamp"}
