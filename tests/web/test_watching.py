"""Watching, asked without a browser: states, sound, and what is decided there."""

import json
from fractions import Fraction

import numpy as np
import opentimelineio as otio
import pytest
from tests.conftest import measured_takes

from vesk.actions import correct, light_copies
from vesk.store import pairings, recordings, watched


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    """The far bank's take with both cameras."""
    return measured_takes(
        db, settings, ferry, tmp_path / "media", "*_001.mov", "*_002.wav", "31*", "32*", "34*", "A006_00[2-6]*", "*.csv"
    )


def two(db, day):
    """Return the day's moment with two cameras: its rows by tag, and their pairings."""
    rows = pairings.of_day(db, day.id)
    sounds = [row.sound_id for row in rows]
    both = [row for row in rows if sounds.count(row.sound_id) > 1]
    names = {row.id: row.name for row in recordings.of_day(db, day.id)}
    return {names[row.picture_id][0]: row for row in both}


def get(client, day, about, what):
    return client.get(f"/days/{day.id}/watching/{about}/{what}")


def heard(client, day, about, **asked):
    asked = {"tag": "S1", "channel": "0", "begin_us": 0, "first": 0, "count": 4800, "rate": 48000, **asked}
    answer = client.get(f"/days/{day.id}/watching/{about}/sound", query_string=asked)
    assert answer.status_code == 200, answer.text
    return np.frombuffer(answer.data, "<i2").reshape(-1, int(answer.headers["X-Channels"]))


def test_a_camera_lies_in_the_others_moment_as_their_sound_lays_it_and_is_slipped_there(client, db, settings, day):
    rows = two(db, day)
    a, b = rows["A"], rows["B"]
    state = get(client, day, a.picture_id, "state").json
    assert [one["tag"] for one in state["pictures"]] == ["A", "B"]
    lying = {one["tag"]: one["map"][0][1] for one in state["pictures"]}
    assert lying["B"] - lying["A"] == pytest.approx(float(a.offset - b.offset), abs=1e-9)
    off = state["pictures"][1]["off"][str(b.sound_id)]
    answer = client.post(
        f"/days/{day.id}/watching/{a.picture_id}/slip",
        data={"pairing": b.id, "version": off["version"], "frames": 2, "tenths": -5, "samples": 0},
    )
    assert answer.status_code == 200
    moved = {one["tag"]: one for one in answer.json["state"]["pictures"]}
    assert moved["B"]["map"][0][1] == pytest.approx(lying["B"] - 1.5 / 25)  # the sound lies later on it
    now = moved["B"]["off"][str(b.sound_id)]
    errors = [after[1] - before[1] for before, after in zip(off["at"], now["at"], strict=True)]
    assert errors == pytest.approx([0.06] * 3)
    stale = client.post(
        f"/days/{day.id}/watching/{a.picture_id}/slip",
        data={"pairing": b.id, "version": off["version"], "frames": 1},
    )
    assert stale.status_code == 409
    assert "changed" in stale.json["problem"]


def test_what_is_heard_is_the_sound_where_it_lies_and_never_timecode(client, db, settings, day):
    rows = two(db, day)
    a = rows["A"]
    about = a.picture_id
    plain = heard(client, day, about, count=48_000)
    pieces = [heard(client, day, about, first=first, count=12_000) for first in range(0, 48_000, 12_000)]
    assert np.array_equal(np.concatenate(pieces), plain)
    correct.set_own(db, settings, a.id, version=a.version, slip=Fraction(1, 100), ppm=Fraction(0))
    db.commit()
    later = heard(client, day, about, count=48_000)
    assert np.abs(later[480:].astype(int) - plain[:-480]).max() <= 1
    as_recorded = heard(client, day, about, count=48_000, laid="recorded")
    assert np.array_equal(as_recorded, plain)
    split = heard(client, day, about, way="split", camera="A")
    own = heard(client, day, about, way="scratch", camera="A")
    assert np.array_equal(split[:, 1:], later[:4800])
    assert np.array_equal(split[:, :1], own)
    assert np.abs(heard(client, day, about, way="sum", camera="A") * 2 - (own.astype(int) + later[:4800])).max() <= 2
    for wrong in ({"channel": "9"}, {"count": 1 << 24}, {"speed": "9"}, {"speed": "0"}, {"rate": 3}, {"begin_us": "x"},
                  {"way": "sum", "camera": "nobody"}):  # fmt: skip
        asked = {"tag": "S1", "channel": "0", "begin_us": 0, "first": 0, "count": 10, "rate": 48000, **wrong}
        answer = client.get(f"/days/{day.id}/watching/{about}/sound", query_string=asked)
        assert answer.status_code == 422 or wrong == {"count": 1 << 24}, wrong


def test_a_light_copy_is_given_by_its_bytes(client, db, settings, day):
    a = two(db, day)["A"]
    number = a.picture_id
    assert get(client, day, number, "state").json["pictures"][0]["light"] == "making"
    assert client.get(f"/media/{number}/light.json").status_code == 404
    # First what needs a person: every take but the ones that are checked.
    b = two(db, day)["B"]
    correct.take_proposal(db, settings, a.id, version=a.version)
    correct.check(db, settings, a.id, version=pairings.get(db, a.id).version)
    correct.set_own(db, settings, b.id, version=b.version, slip=Fraction(1, 5), ppm=Fraction(0))
    db.commit()
    assert [row.id for row in light_copies.wanted(db, settings, day)] == [b.picture_id, number]
    light_copies.make(db, settings, number)
    db.commit()
    assert number not in {row.id for row in light_copies.wanted(db, settings, day)}
    told = client.get(f"/media/{number}/light.json")
    index, address = told.json, f"/media/light/{told.headers['X-Content']}.mp4"
    assert get(client, day, number, "state").json["pictures"][0]["light"] == "ready"
    whole = client.get(address)
    assert whole.status_code == 200
    low, high = index["begins"], index["begins"] + index["sizes"][0]
    part = client.get(address, headers={"Range": f"bytes={low}-{high - 1}"})
    assert (part.status_code, part.data) == (206, whole.data[low:high])
    assert part.headers["Content-Range"] == f"bytes {low}-{high - 1}/{len(whole.data)}"
    beyond = client.get(address, headers={"Range": f"bytes={len(whole.data)}-"})
    assert beyond.status_code == 416
    name = told.headers["X-Content"]
    parts = client.get(
        f"/media/light?parts={name}:{low}-{high},none:0-9,{name}:0-3,{name}:{len(whole.data) - 2}-99999999"
    )
    assert parts.headers["X-Lengths"] == f"{high - low},0,3,2"
    assert parts.data == whole.data[low:high] + whole.data[:3] + whole.data[-2:]
    for strange in ("", "..:0-3", f"{name}:3", f"{name}:-1-3", ",".join([f"{name}:0-3"] * 33)):
        assert client.get("/media/light", query_string={"parts": strange}).status_code == 422
    for strange in ("..", "a" * 200, "a%2Fb", "none"):
        assert client.get(f"/media/light/{strange}.mp4").status_code == 404


def test_what_is_wrong_the_part_handed_over_and_cuts_are_kept_and_taken_back(client, db, settings, day):
    rows = two(db, day)
    about = rows["A"].picture_id
    url = f"/days/{day.id}/watching/{about}"

    def act(what, **values):
        answer = client.post(f"{url}/{what}", data=values)
        return answer.status_code, answer.json

    _, told = act("note", at_us=2_000_000, text="  boom in   the picture ")
    assert [(one["text"], one["at"]) for one in told["state"]["notes"]] == [("boom in the picture", 2.0)]
    there = get(client, day, rows["B"].picture_id, "state").json  # seen in the other camera's moment, at its time
    lying = {one["tag"]: one["map"][0][1] for one in there["pictures"]}
    assert there["notes"][0]["at"] == pytest.approx(2.0 + lying["A"])
    assert act("note", at_us=0, text=" ")[0] == 422
    status, told = act("unnote", note=told["state"]["notes"][0]["id"])
    assert (status, told["state"]["notes"]) == (200, [])

    act("range", end="from", at_us=2_000_000)
    _, told = act("range", end="to", at_us=5_020_000)
    assert told["state"]["range"] == [2.0, 5.04]  # whole frames: the one that is touched is in
    kept = watched.ranges_of_day(db, day.id)
    other = kept[rows["B"].picture_id]
    assert (other.last - other.first) in {76, 77}
    assert act("range", end="to", at_us=1_000_000)[0] == 422
    _, told = act("whole")
    assert told["state"]["range"] is None

    _, told = act("cut", camera="A", at_us=1_000_000, version=0, sound="S1")
    _, told = act("cut", camera="B", at_us=3_000_000, version=told["state"]["cuts"]["version"], sound="S1")
    version = told["state"]["cuts"]["version"]
    status, late = act("cut", camera="A", at_us=4_000_000, version=version - 1, sound="S1")
    assert (status, "The latest on this day" in late["problem"], "camera A" in late["problem"]) == (409, True, True)
    _, told = act("trim", index=0, edge="last", frames=5, version=version)
    cuts = told["state"]["cuts"]["list"]
    assert [cut["camera"] for cut in cuts] == ["A", "B"]
    assert cuts[0]["last"] == cuts[1]["first"] == cuts[0]["first"] + 55
    timeline = otio.adapters.read_from_string(client.get(f"{url}/cut.otio").text, "otio_json")
    pictures, sound = timeline.video_tracks()[0], timeline.audio_tracks()[0]
    shown = [one for one in pictures if isinstance(one, otio.schema.Clip)]
    assert [one.name[0] for one in shown] == ["A", "B"]
    assert shown[0].source_range.duration.value == 55
    assert len([one for one in sound if isinstance(one, otio.schema.Clip)]) == 1
    listed = client.get(f"{url}/cut.edl").text
    assert listed.count("FROM CLIP NAME") == 3
    _, told = act("uncut", version=told["state"]["cuts"]["version"])
    assert told["state"]["cuts"]["list"][0]["last"] == cuts[0]["first"] + 50


def test_a_moment_is_found_by_time_and_by_need(client, db, settings, day):
    rows = two(db, day)
    one = recordings.get(db, rows["A"].picture_id)
    there = client.get(f"/days/{day.id}/watching?at={float(one.start) + 3}")
    assert f"/watching/{one.id}" in there.location or f"/watching/{rows['B'].picture_id}" in there.location
    assert client.get(f"/days/{day.id}/watching?at=noon").status_code == 422
    page = client.get(f"/days/{day.id}/watching", follow_redirects=True)
    assert page.status_code == 200
    state = json.loads(page.text.split('id="moment-state">')[1].split("</script>")[0])
    assert state["first"]["tag"] == "S1"
    sound = client.get(f"/days/{day.id}/watching/{rows['A'].sound_id}/state").json  # about a recorder: its own axis
    assert sound["seconds"] == pytest.approx(float(recordings.get(db, rows["A"].sound_id).duration))
    assert client.get(f"/days/{day.id}/watching/99999").status_code == 404
