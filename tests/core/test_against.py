"""Clocks against whichever device is taken for the truth: what was measured stays, what is shown follows."""

import numpy as np
import pytest
from tests.core.test_solution import HOUR, S1, in_step, made

from vesk.core.day.against import Sighting, shown_against
from vesk.core.day.solve import solve
from vesk.core.kinds import LTC, PICTURE, SOUND, Witness
from vesk.simulator.evidence import MadeDevice


def drifting(at):
    return 3600.0 + 9e-6 * (at - 7 * HOUR) if at < 13 * HOUR else 0.0


def sightings(day, evidence):
    starts = {one.key: float(one.start) for one in evidence.recordings}
    tags = {one.key: one.device for one in evidence.recordings}
    return [
        Sighting(
            tags[one.picture], tags[one.sound], starts[one.picture] + one.head_s,
            one.at_head_s - day.day().wrapped_s(starts[one.sound] - starts[one.picture]), one.se_s, Witness.SOUND, True,
            f"{one.picture} {one.sound}",
        )
        for one in evidence.matches
    ]  # fmt: skip


@pytest.fixture
def solved():
    day, _ = made(
        MadeDevice("A", PICTURE, **in_step(0.0)), MadeDevice("B", PICTURE, drifting, LTC), S1,
        MadeDevice("S2", SOUND, lambda at: 4e-6 * at), takes=10,
    )  # fmt: skip
    evidence = day.day()
    return solve(evidence).clocks, sightings(day, evidence)


def test_marks_lie_on_their_lines_and_a_jam_parts_them(solved):
    shown = {one.device: one for one in shown_against(*solved)}
    truth = shown["B"].truth
    assert shown[truth].segments == ()
    first, second = shown["B"].segments
    assert first.ppm - shown["B"].segments[1].ppm == pytest.approx(9.0, abs=0.5)
    assert len(shown["B"].jams) == 1
    assert shown["B"].jams[0][0] < 13 * HOUR + 3700 < shown["B"].jams[0][1] + 3700
    assert abs(first.ahead_s[0] - 3600) < 1
    assert abs(second.ahead_s[0]) < 1
    for one in shown.values():
        for _, at, ahead in one.marks:
            assert ahead == pytest.approx(one.ahead_at(at)[0], abs=0.006)


def test_another_truth_moves_every_line_by_its_own_and_its_jam_parts_them_all(solved):
    plain = {one.device: one for one in shown_against(*solved)}
    by_b = {one.device: one for one in shown_against(*solved, "B")}
    assert by_b["B"].segments == ()
    assert {one.truth for one in by_b.values()} == {"B"}
    assert len(by_b["A"].segments) == 2  # A never was set anew; B was
    at = 10 * HOUR
    for device in ("A", "S2"):
        moved = by_b[device].ahead_at(at)[0]
        assert moved == pytest.approx(plain[device].ahead_at(at)[0] - plain["B"].ahead_at(at + 3600)[0], abs=0.005)
    end = by_b["S2"].ahead_at(20 * HOUR)
    assert end[1] >= by_b["S2"].segments[-1].se_s[1]  # further on nobody measured: less is known
    assert np.isfinite(end[0])
    assert shown_against(*solved, "nobody")[0].truth == plain["A"].truth
