"""One question for one cause: which devices are asked of together."""

import pytest

from vesk.core.day.questions import Off, ask_of_clocks

FRAME = 0.04
HOUR = 3600.0


def off(camera, recorder, frames, *, n=1, frame_s=FRAME):
    return Off(camera, recorder, ((f"{camera}{n}", f"{recorder}{n}"),), frames * FRAME, frame_s)


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
