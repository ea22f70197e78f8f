"""Every cause that two files can show, simulated from card to verdict: the fault that was made is the one named."""

import pytest
from tests.conftest import SHORT, make_shoot

from vesk.core.timecode import FrameRate
from vesk.dailies.judging import judge_two, timecode_offset
from vesk.dailies.located import locate
from vesk.dailies.measuring import measure_by_sound

CAMERA, RECORDER = "phase = 0.2\n", "distance_m = 0.5\n"


def shot_with(folder, *, camera="", recorder="", phase=0.05, rate="25", start="10:00:00:00", jumps="", walks=""):
    """Shoot one take of 18 s with the devices' faults; return its verdict and what was measured."""
    text = SHORT.format(rate=rate, jam=start[:8], start=start).replace("distance_m = 1.0", "distance_m = 0.5", 1)
    text = text.replace(CAMERA, f"phase = {phase}\n{camera}", 1)
    head, tail = text.rsplit(RECORDER, 1)
    text = head + RECORDER + recorder + tail
    text = text.replace("length = 9", "length = 18").replace("[[2.0, 8.5]]", "[[2.0, 8.5], [9.5, 17.0]]")
    text = text.replace("to = 9.0", f"to = 18.0{walks}").replace("to = 10.2", f"to = 19.2{jumps}")
    shoot = make_shoot(text, folder)
    picture, sound = (locate(next(shoot.folder.rglob(ending)), folder / "cache") for ending in ("*.mov", "*.wav"))
    clock = FrameRate.parse(rate)
    offset = timecode_offset(picture.facts, sound.facts, clock)
    found = measure_by_sound(picture, sound, proposal_s=float(offset))
    return judge_two(found, picture, sound, clock).verdict, found


@pytest.mark.parametrize(
    ("cause", "says", "given"),
    [
        ("within tolerance", "In sync", {}),
        ("sub-frame slip", "0.40 frame late", {"phase": 0.4}),
        ("whole-frame offset", "1.00 frame late", {"phase": 1.0}),
        ("offset", "fixed offset", {"camera": "header_off_s = -3.12\n"}),
        ("clock set wrong", "1 h", {"camera": "header_off_s = 3600.0\n"}),
        ("drop/non-drop confusion", "drop-frame labels", {
            "camera": "header_off_s = 36.0\n", "rate": "29.97 DF", "start": "10:00:00;00",
        }),
        ("rate-label confusion", "wrong rate", {"camera": "header_off_s = -36.036\n", "rate": "23.976"}),
        ("free-running drift", "1497.0 ppm slow", {"recorder": "ppm = 1500.0\n"}),
        ("pull-down or pull-up", "0.100 %", {"recorder": "ppm = -999.0\n"}),
        ("sample rate mislabelled", "44.1 kHz named 48", {"recorder": "ppm = -81250.0\n"}),
        ("24 run as 25", "25 fps run at 24", {"recorder": "ppm = 41666.7\n"}),
        ("jump", "lost 1 001 samples", {"jumps": ", jumps = [[9.0, -1001]]"}),
        ("within tolerance", "Somebody moves", {"walks": ", walks = [[7.5, 0.0], [11.0, 4.0]]"}),
    ],
    ids=lambda value: value if isinstance(value, str) and "." not in value else "",
)  # fmt: skip
def test_the_fault_that_was_made_is_the_cause_that_is_named(tmp_path, cause, says, given):
    verdict, found = shot_with(tmp_path, **given)
    assert found.decision == "matched"
    assert verdict.cause == cause, verdict.text
    assert says in verdict.text.replace("\N{NARROW NO-BREAK SPACE}", " ")
    assert verdict.holds == (cause == "within tolerance")
