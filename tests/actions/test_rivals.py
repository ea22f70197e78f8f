"""Two files of what is filed as one device claim the same moments: two takes, or two devices."""

from dataclasses import replace
from fractions import Fraction

import pytest
from tests.conftest import make_shoot, measured_takes, named_day

from vesk.actions import correct, gathering, intake, joining, measuring, pairing, turnover
from vesk.actions.overview import Overview
from vesk.core.errors import RefusedError
from vesk.core.kinds import AMBIGUOUS
from vesk.core.pairing.rivals import Displaced
from vesk.core.sound.measurement import refused
from vesk.dailies.folder import walk_folder
from vesk.store import recordings
from vesk.store.tables import Pairing
from vesk.web.day import ledger


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    without = ("B004*", "3[2346]*", "A006_00[234567]*", "WT*")
    return measured_takes(db, settings, ferry, tmp_path / "media", *without)


STRONG = {
    -70.0: {"31A_01.wav": "ambiguous", "31A_02.wav": "ambiguous"},
    -9.0: {"31A_01.wav": "sub-frame slip", "31A_02.wav": "wrong partner"},
}  # how strongly the second matched, and what both are then


def test_one_recorder_cannot_have_made_both(db, settings, day):
    (now,) = gathering.of_day(db, day)
    other = next(row for row in recordings.of_day(db, day.id) if row.name == "31A_02.wav")
    stronger = replace(now.found, log10_false_alarm=-80.0)
    row = db.get(Pairing, now.pairing.id)
    row.measurement = stronger
    # As when a playback, or the same lines again, matched here as well.
    second = Pairing(
        day_id=day.id, picture_id=now.picture.id, sound_id=other.id, offset=now.pairing.offset, state="measured",
        measurement=stronger,
    )  # fmt: skip
    db.add(second)
    for strength, causes in STRONG.items():
        second.measurement = replace(now.found, log10_false_alarm=strength)
        db.commit()
        found = {one.sound.name: one for one in gathering.of_day(db, day)}
        assert {name: one.verdict.cause for name, one in found.items()} == causes
        for name, cause in causes.items():
            if cause != "sub-frame slip":
                assert found[name].proposal is None
                assert "S1 · 31A_0" in found[name].verdict.text
        assert gathering.of_pairing(db, second.id).verdict.cause == causes["31A_02.wav"]  # the bench says the same
    # Their own sound was asked: it is that of two takes, and they stay rivals.
    assert measuring.compare_rivals(db, settings, day.id) == 1
    assert measuring.compare_rivals(db, settings, day.id) == 0
    for strength, causes in reversed(STRONG.items()):
        second.measurement = replace(now.found, log10_false_alarm=strength)
        db.commit()
        assert {one.sound.name: one.verdict.cause for one in gathering.of_day(db, day)} == causes


def test_where_a_label_lays_a_take_of_another_day_this_days_take_holds_and_nobody_is_asked(db, settings, day):
    (now,) = gathering.of_day(db, day)
    left = next(row for row in recordings.of_day(db, day.id) if row.name == "31A_02.wav")
    left.start = now.sound.start - Fraction(1, 2)
    left.facts = replace(left.facts, created="2027-03-17 00:00:00")
    second = Pairing(
        day_id=day.id, picture_id=now.picture.id, sound_id=left.id, offset=now.pairing.offset - 1, state="measured",
        measurement=refused("nothing in common"),
    )  # fmt: skip
    db.add(second)
    db.commit()
    found = gathering.of_day(db, day)
    assert [(one.sound.name, one.state) for one in found] == [("31A_01.wav", "measured"), ("31A_02.wav", "set aside")]
    assert found[1].aside == "its two files are of different days, and S1 · 31A_01.wav belongs here"
    assert not found[1].needs_person
    assert gathering.of_pairing(db, second.id).state == "set aside"  # the bench says the same
    (item,) = [one for one in turnover.items(db, day) if one.pairings]
    assert item.obstacle == "not checked yet: 31A_01.wav (measured)"
    with pytest.raises(RefusedError, match="Nobody set it aside"):
        correct.undo(db, settings, second.id, version=second.version)
    # What was heard to share nothing on one day is no other's: a second device may have been too far away.
    left.facts = replace(left.facts, created="2027-03-18 00:00:00")
    db.commit()
    assert {one.state for one in gathering.of_day(db, day)} == {"measured"}
    left.facts = replace(left.facts, created="2027-03-17 00:00:00")
    db.commit()
    joining.prefer(db, settings, second.id, version=second.version)
    db.commit()
    assert {one.sound.name: one.state for one in gathering.of_day(db, day)} == {
        "31A_01.wav": "set aside", "31A_02.wav": "measured",
    }  # fmt: skip


FLAT = """
[production]
name = "The Lantern Ferry"
day = 12
date = 2027-03-24
rate = "25"
seed = 12
[[device]]
tag = "A"
name = "near"
kind = "camera"
folder = "."
roll = "A"
ppm = 3.0
jams = ["09:00:00"]
noise_db = -52
level_db = -8
anonymous = true
channels = ["scratch"]
[[device]]
tag = "B"
name = "far"
kind = "camera"
folder = "."
roll = "B"
ppm = -4.0
jams = ["09:00:00"]
header_off_s = 3600.0
distance_m = 3.0
noise_db = -52
level_db = -8
anonymous = true
channels = ["scratch"]
[[device]]
tag = "S1"
name = "recorder"
kind = "recorder"
folder = "."
roll = "S"
jams = ["09:00:00"]
channels = ["mix"]
"""
SHOT = """
[[shot]]
slate = "6{n}"
take = 1
start = "10:{minute:02}:00:00"
length = 12
talk = [[1.0, 11.0]]
roll = [
  {{ source = "A", from = 0.0, to = 12.0, file = "clip{one:04}.mov" }},
  {{ source = "B", from = 0.6, to = 11.0, file = "clip{other:04}.mov" }},
  {{ source = "S1", from = -1.5, to = 13.0 }},
]
"""


@pytest.mark.slow
def test_two_cameras_in_one_flat_folder_are_told_by_their_own_sound(db, settings, tmp_path, cache):
    """Names and headers tell nothing and one clock is an hour off: both cameras heard the same moments."""
    shots = "".join(SHOT.format(n=n, minute=7 * n, one=2 * n + 1, other=2 * n + 2) for n in range(3))
    made = make_shoot(FLAT + shots, tmp_path)
    day = named_day(db, settings, made.folder, number=12)
    intake.take_in(db, settings, day)
    for pairing_id in pairing.pair_day(db, day):
        measuring.measure_pairing(db, settings, pairing_id)
    for row in pairing.to_search(db, day):
        pairing.pair_by_sound(db, settings, row.id, lambda _done, _total: True)
    assert {one.verdict.cause for one in gathering.of_day(db, day)} == {"ambiguous"}
    assert measuring.compare_rivals(db, settings, day.id) == 3
    now = {(one.picture.name, one.sound.name): one for one in gathering.of_day(db, day)}
    assert len(now) == 6
    assert all(one.settled for one in now.values())
    for (picture, sound), one in now.items():
        assert one.found.line.offset_s == pytest.approx(made.pair(picture, sound)["heard_offset_s"], abs=20e-6)
    walked = walk_folder(made.folder, cache)
    assert {(one.picture, one.sound, one.verdict.cause) for one in walked.pairings} == {
        (*names, one.verdict.cause) for names, one in now.items()
    }


@pytest.mark.slow
def test_labels_that_lead_a_whole_card_to_other_takes_are_found_out_by_sound(
    db, settings, tmp_path, cache, monkeypatch
):
    """A camera is as many minutes off as lie between takes: every label has a partner, the wrong one."""
    device = FLAT.replace('"."', '"B"', 2).replace('"B"', '"A"', 1).replace("3600.0", "420.0")
    shots = [SHOT.format(n=n, minute=7 * n, one=2 * n + 1, other=2 * n + 2) for n in range(3)]
    shots[2] = "\n".join(line for line in shots[2].splitlines() if 'source = "B"' not in line)
    made = make_shoot(device + "".join(shots), tmp_path)
    day = named_day(db, settings, made.folder, number=12)
    intake.take_in(db, settings, day)
    for pairing_id in pairing.pair_day(db, day):
        measuring.measure_pairing(db, settings, pairing_id)
    assert pairing.to_search(db, day) == []
    astray = pairing.to_search_again(db, day)
    assert [row.name for row in astray] == ["clip0002.mov", "clip0004.mov"]
    for row in astray:
        assert len(pairing.pair_by_sound(db, settings, row.id, lambda _done, _total: True)) == 1
    assert pairing.to_search_again(db, day) == []
    found = [one for one in gathering.of_day(db, day) if one.picture_source.tag == "B"]
    assert [(one.picture.name, one.state) for one in found] == [
        ("clip0002.mov", "measured"), ("clip0002.mov", "set aside"),
        ("clip0004.mov", "measured"), ("clip0004.mov", "set aside"),
    ]  # fmt: skip
    for one in found[::2]:
        assert one.found.line.offset_s == pytest.approx(
            made.pair(one.picture.name, one.sound.name)["heard_offset_s"], abs=20e-6
        )
        assert one.errors.middle_s == pytest.approx(-420, abs=0.1)
    assert found[1].aside.startswith("sound refused it and labels alone lay it here, and S1 \N{MIDDLE DOT} ")
    walked = walk_folder(made.folder, cache)
    judged = {(one.picture, one.sound): one.verdict.cause for one in walked.pairings}
    assert judged == {(one.picture.path, one.sound.path): one.verdict.cause for one in gathering.of_day(db, day)}
    # One that nothing is found for is searched for once, and again when others have come.
    for one in found[::2]:
        db.delete(one.pairing)
    db.flush()
    assert len(pairing.to_search_again(db, day)) == 2
    for row in astray:
        row.searched = 3
    db.flush()
    assert pairing.to_search_again(db, day) == []
    pairing.pair_day(db, day)
    assert pairing.to_search_again(db, day) == []
    # What has a partner already, as one that another's search found meanwhile, is searched for among all.
    among = []
    monkeypatch.setattr(pairing, "find_partners", lambda _key, _one, others, *_told: among.append(len(others)) or [])
    near = next(one for one in gathering.of_day(db, day) if one.picture_source.tag == "A")
    for row in (near.sound, near.picture):
        pairing.pair_by_sound(db, settings, row.id, lambda _done, _total: True)
    assert among == [5, 3]


@pytest.mark.slow
def test_a_take_nobody_recorded_is_not_laid_beside_what_the_recorders_clock_says(db, settings, tmp_path, cache):
    """The recorder is off by what lies between takes: the label partner of a take that it missed is another's."""
    off = FLAT.replace('roll = "S"', 'roll = "S"\nheader_off_s = 420.0')
    shots = [SHOT.format(n=n, minute=7 * n, one=2 * n + 1, other=2 * n + 2) for n in range(5)]
    shots = ["\n".join(line for line in shot.splitlines() if 'source = "B"' not in line) for shot in shots]
    shots[2] = "\n".join(line for line in shots[2].splitlines() if 'source = "S1"' not in line)
    made = make_shoot(off + "\n".join(shots), tmp_path)
    day = named_day(db, settings, made.folder, number=12)
    intake.take_in(db, settings, day)
    for pairing_id in pairing.pair_day(db, day):
        measuring.measure_pairing(db, settings, pairing_id)
    for row in (*pairing.to_search(db, day), *pairing.to_search_again(db, day)):
        pairing.pair_by_sound(db, settings, row.id, lambda _done, _total: True)
    (missed,) = [one for one in gathering.of_day(db, day) if one.picture.name == "clip0005.mov"]
    assert (missed.state, missed.needs_person) == ("set aside", False)
    assert missed.aside == "sound refused it, and the clocks of its devices lay the two apart"
    assert len([one for one in gathering.of_day(db, day) if one.settled]) == 4
    view = Overview(db, day)
    assert ledger.headline(ledger.rows(view)) == "5 camera takes: 0 hold, 4 need you, 1 has no sound; 3 set aside"
    assert [row.recording.name for row in ledger.rows(view) if row.shown_by("unpaired")] == ["clip0005.mov"]
    named = {one.picture.name: one.scene_take for one in turnover.items(db, day)}
    assert (named["clip0003.mov"], named["clip0005.mov"]) == (("61", "1"), ("", ""))  # never by another take's sound
    walked = {
        one.picture: one.judged.rivalry for one in walk_folder(made.folder, cache).pairings if not one.judged.line
    }
    assert walked["clip0005.mov"].settled == Displaced.CLOCKS
    # Had sound left it open, as where a song is played, clocks say the same; not of what somebody worked on.
    other = next(one for one in gathering.of_day(db, day) if one.settled)
    row, refused_it = db.get(Pairing, missed.pairing.id), missed.found
    there = replace(other.found.line, at_middle_s=float(row.offset))
    row.measurement = replace(other.found, decision=AMBIGUOUS, line=there)
    db.commit()
    asides = []
    for _ in range(2):
        (now,) = [one for one in gathering.of_day(db, day) if one.picture.name == "clip0005.mov"]
        asides.append((now.aside, now.rivalry and now.rivalry.settled))
        if now.aside:
            correct.set_own(db, settings, row.id, version=row.version, slip=Fraction(1, 25))
            db.commit()
    assert asides == [(Displaced.OTHER_TIME, Displaced.OTHER_TIME), ("", None)]
    correct.undo(db, settings, row.id, version=row.version)
    row.measurement = refused_it
    db.commit()
    # Who says that it is the one stands above all clocks.
    joining.prefer(db, settings, missed.pairing.id, version=missed.pairing.version)
    (missed,) = [one for one in gathering.of_day(db, day) if one.picture.name == "clip0005.mov"]
    assert missed.state == "measured"


@pytest.mark.slow
def test_a_second_recorder_that_is_an_hour_off_is_no_day_of_wild_tracks(db, settings, tmp_path, cache):
    """Every picture has a partner already, by labels that are right: nothing lacks a sound."""
    second = FLAT.split("[[device]]")[3].replace('"S1"', '"S2"').replace('"."', '"S2"').replace('"S"', '"T"')
    shots = [SHOT.format(n=n, minute=7 * n, one=2 * n + 1, other=2 * n + 2) for n in range(5)]
    shots = ["\n".join(line for line in shot.splitlines() if 'source = "B"' not in line) for shot in shots]
    shots = [shot.rstrip("],\n") + ',\n  { source = "S2", from = -0.9, to = 12.6 },\n]\n' for shot in shots]
    made = make_shoot(f"{FLAT}[[device]]{second}header_off_s = 3600.0\n" + "".join(shots), tmp_path)
    day = named_day(db, settings, made.folder, number=12)
    intake.take_in(db, settings, day)
    for pairing_id in pairing.pair_day(db, day):
        measuring.measure_pairing(db, settings, pairing_id)
    assert pairing.to_search(db, day) == []
    lost = pairing.to_search_again(db, day)
    assert len(lost) == 3  # some of them: where they are, its clock tells the others
    for row in lost:
        assert len(pairing.pair_by_sound(db, settings, row.id, lambda _done, _total: True)) == 1
    for pairing_id in pairing.pair_by_solution(db, day):
        measuring.measure_pairing(db, settings, pairing_id)
    assert pairing.to_search_again(db, day) == []
    own = [one for one in gathering.of_day(db, day) if one.sound_source.tag == "S2"]
    assert [(one.settled, one.placed_by, round(one.errors.middle_s)) for one in own] == [(True, "sound", 3600)] * 5
    walked = walk_folder(made.folder, cache)
    assert len([one for one in walked.pairings if one.judged.placed_by == "sound"]) == 10
    assert [len(one.pairings) for one in walked.solution.questions] == [5]
