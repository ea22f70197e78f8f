"""One question for one cause: which devices are asked of together."""

from dataclasses import replace

import pytest

from vesk.core.day.questions import Off, ask_of_clocks

FRAME = 0.04
HOUR = 3600.0


def off(camera, recorder, frames, *, n=1, frame_s=FRAME):
    return Off(camera, recorder, ((f"{camera}{n}", f"{recorder}{n}"),), ((n * HOUR, frames * FRAME),), frame_s)


def asked(*offs):
    return {one.device: [pair for (pair,) in one.groups] for one in ask_of_clocks(offs)}


@pytest.mark.parametrize("hour", [HOUR / FRAME, -HOUR / FRAME])
def test_a_recorder_an_hour_off_is_asked_of_once_for_all_cameras(hour):
    given = [off(tag, "S1", hour + phase) for tag, phase in (("A", 0.0), ("B", 0.7), ("C", -0.3))]
    assert asked(*given, off("A", "S2", 3.0)) == {
        "S1": [("A1", "S11"), ("B1", "S11"), ("C1", "S11")],
        "A": [("A1", "S21")],
    }


def test_a_camera_an_hour_off_is_asked_of_once_for_all_recorders_and_stretches():
    hour = HOUR / FRAME
    assert asked(off("B", "S1", hour), off("B", "S1", hour, n=2)) == {"B": [("B1", "S11"), ("B2", "S12")]}
    found = asked(off("B", "S1", hour), off("B", "S1", hour, n=2), off("B", "S2", hour), off("A", "S1", 4.0))
    assert found == {"B": [("B1", "S11"), ("B1", "S21"), ("B2", "S12")], "A": [("A1", "S11")]}


@pytest.mark.parametrize(
    "given",
    [
        [off("A", "S1", 1.4), off("B", "S1", 1.6)],  # where frames begin is each camera's own
        [off("A", "S1", 5.0), off("B", "S1", 6.2)],
        [off("A", "S1", 5.0), off("B", "S1", -5.0)],
        [off("A", "S1", 5.0), off("B", "S2", 5.0)],
        [off("A", "S1", 5.0), off("B", "S1", 5.0, frame_s=1 / 50)],  # their frames are no one figure
    ],
)
def test_what_differs_is_asked_of_each(given):
    assert set(asked(*given)) == {"A", "B"}


def test_whose_clock_it_is_tells_who_agrees_with_whom():
    """One camera, two recorders: it agrees with the first, so the second is off; alone with one, it may be either."""
    far = HOUR / FRAME
    for given in ([off("A", "S2", far)], [off("A", "S2", far), off("A", "S2", -far, n=2)], [off("A", "S2", 3.0)]):
        assert {one.device for one in ask_of_clocks(given, {("A", "S1")})} == {"S2"}
        assert {one.device for one in ask_of_clocks(given, {("B", "S1")})} == {"A"}
        assert {one.device for one in ask_of_clocks([*given, off("A", "S1", 0.6)])} == {
            "S2",
            "A",
        }  # half a frame is none
        # Another camera agrees with that recorder too: it is this one's.
        assert {one.device for one in ask_of_clocks(given, {("A", "S1"), ("B", "S2")})} == {"A"}


def drifts(camera, ppm, *, phase=0.0, since=9, ahead_s=0.0, rounded=0.3):
    """Off by a drift from a jam on, hour by hour; labels are rounded now and then. `ahead_s`: of the camera's label."""
    course = tuple(
        (at * HOUR + ahead_s, ppm * 1e-6 * (at - since) * HOUR + (phase + rounded * (at % 2)) * FRAME)
        for at in range(since, since + 9)
    )
    return Off(camera, "S1", ((f"{camera}1", "S11"),), course, FRAME)


def test_a_recorder_that_drifts_against_all_cameras_is_asked_of_once():
    found = asked(drifts("A", 8.0), drifts("B", 8.6, phase=0.4, rounded=0.0), drifts("C", -2.0))
    assert found == {"S1": [("A1", "S11"), ("B1", "S11")], "C": [("C1", "S11")]}
    # Two cameras that drift are two causes, also where they never come further apart than a frame.
    assert set(asked(drifts("A", 2.6), drifts("B", 3.8))) == {"A", "B"}
    # Nor is one that stands off by what the other comes to at noon.
    assert set(asked(drifts("A", 8.0), drifts("B", 0.0, phase=3.2, rounded=0.0))) == {"A", "B"}
    # Morning and afternoon, a jam between them, are off by as much in their middles, and are two.
    later = replace(drifts("A", 8.0), pairings=(("A2", "S12"),))
    later = replace(later, course=tuple((at + 10 * HOUR, off_s) for at, off_s in later.course))
    assert len(ask_of_clocks([drifts("A", 8.0), later])) == 2
