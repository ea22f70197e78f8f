"""Evidence of one take that cannot be true together: its clap, its slate, against its sound."""

from dataclasses import replace

import pytest

from vesk.core.day.evidence import slate_of
from vesk.core.day.solve import solve
from vesk.core.kinds import LTC, PICTURE, SOUND, Asked, Discord
from vesk.simulator.evidence import MadeDay, MadeDevice

HOUR, FRAME = 3600.0, 0.04
A = MadeDevice("A", PICTURE, lambda _at: 0.0, LTC)
S1 = MadeDevice("S1", SOUND)


def a_day(*devices):
    day = MadeDay(devices, seed=3)
    return day, [day.take([one.tag for one in devices], (9 + n) * HOUR, 40) for n in range(8)]


def moved(evidence, key, by_s, *, likely=0.98, twice=False):
    """Lay what a take's claps show later on its picture than on its sound; they may be seen twice."""
    seen = []
    for one in evidence.seen:
        its = one.recording == key
        own = replace(one, low_s=one.low_s - by_s, high_s=one.high_s - by_s, likely=likely) if its else one
        later = replace(own, low_s=own.low_s + 9, high_s=own.high_s + 9, heard_s=own.heard_s + 9)
        seen += [own, later] if its and twice else [own]
    return replace(evidence, seen=tuple(seen))


def asked(solution):
    return [(one.asked, one.device, one.pairings) for one in solution.questions]


def test_a_take_whose_confirmed_clap_is_four_frames_off_is_named_where_its_camera_is_right_else():
    day, keys = a_day(A, S1)
    solution = solve(moved(day.day(), keys[5][0], 4 * FRAME))
    (found,) = solution.contradictions
    assert (found.about, found.pairings, found.agreeing, found.claps) == (Discord.CLAP, (tuple(keys[5]),), 1, 1)
    assert 3 * FRAME <= found.apart_s <= 4.6 * FRAME
    assert asked(solution) == [(Asked.CLAP, "A", (tuple(keys[5]),))]
    assert abs(solution.lateness["A"].best_s) < FRAME / 4  # one take does not bend the camera


@pytest.mark.parametrize(("likely", "twice", "named"), [(0.85, False, 0), (0.85, True, 1), (0.3, True, 0)])
def test_claps_nobody_confirmed_speak_against_their_camera_only_where_two_of_a_take_agree(likely, twice, named):
    day, keys = a_day(A, S1)
    solution = solve(moved(day.day(), keys[2][0], -3 * FRAME, likely=likely, twice=twice))
    assert [one.about for one in solution.contradictions] == [Discord.CLAP] * named
    assert all(one.apart_s < 0 for one in solution.contradictions)


def test_one_take_whose_microphone_stood_further_off_is_a_contradiction_until_that_is_said_of_it_alone():
    day, keys = a_day(A, S1)
    pair = tuple(keys[4])
    day.mistake(*pair, 12 / 343)
    evidence = day.day()
    assert [(one.about, one.pairings) for one in solve(evidence).contradictions] == [(Discord.PATTERN, (pair,))]
    said = tuple(replace(one, late_s=12 / 343) if one.key == pair[0] else one for one in evidence.recordings)
    solution = solve(replace(evidence, recordings=said))
    assert not solution.contradictions
    off = {key: place.offset_s - day.places[key] for key, place in solution.places.items()}
    assert max(map(abs, off.values())) < 0.004
    # And wherever the whole camera is then said to be, that one stays.
    further = replace(evidence, recordings=said, devices=tuple(
        replace(one, late_s=0.02, said="Ines") if one.tag == "A" else one for one in evidence.devices
    ))  # fmt: skip
    moved = solve(further).places
    assert moved[pair].offset_s == pytest.approx(solution.places[pair].offset_s, abs=1e-9)
    assert moved[tuple(keys[0])].offset_s == pytest.approx(solution.places[tuple(keys[0])].offset_s - 0.02, abs=1e-9)


def slates(evidence, of):
    return replace(evidence, recordings=tuple(replace(one, slate=of(one.key)) for one in evidence.recordings))


def test_a_slate_written_wrong_is_named_and_moves_nothing():
    day, keys = a_day(A, S1)
    own = {key: f"24 / {n}" for n, pair in enumerate(keys) for key in pair}
    evidence = day.day()
    right = solve(slates(evidence, own.__getitem__))
    assert not right.contradictions
    wrong = own | {keys[3][1]: "24 / 9"}
    solution = solve(slates(evidence, wrong.__getitem__))
    (found,) = solution.contradictions
    assert (found.about, found.pairings, found.pattern) == (Discord.SLATE, (tuple(keys[3]),), 7)
    assert found.name == "24 / 3 on A, 24 / 9 on S1"
    pair = tuple(keys[3])
    assert solution.places[pair].offset_s == right.places[pair].offset_s


def test_devices_that_write_slates_in_ways_of_their_own_do_not_contradict_each_other():
    day, keys = a_day(A, S1)
    own = {key: f"{key[0]}24 / {n}" for n, pair in enumerate(keys) for key in pair}
    assert not solve(slates(day.day(), own.__getitem__)).contradictions


def test_a_sound_that_runs_on_over_two_takes_bears_the_slate_of_one():
    day, keys = a_day(A, S1)
    sound = day.roll("S1", 20 * HOUR, 200)
    one, other = day.roll("A", 20 * HOUR + 10, 40), day.roll("A", 20 * HOUR + 100, 40)
    own = {key: f"24 / {n}" for n, pair in enumerate(keys) for key in pair}
    own |= {sound: "25 / 1", one: "25 / 1", other: "25 / 2"}
    assert not solve(slates(day.day(), own.__getitem__)).contradictions


@pytest.mark.parametrize("scene", ["24a", " 024A", "24-A", "24 A"])
def test_one_slate_however_it_is_written(scene):
    assert slate_of(scene, "03") == "24a / 3"
    assert slate_of("1.12", "3") != slate_of("11.2", "3")
