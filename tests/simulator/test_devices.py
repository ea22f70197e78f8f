"""Devices of the stand-in shoot: labels, parts, boxes set anew, files that are lost; held against plain arithmetic."""

from fractions import Fraction

import numpy as np
import pytest
from tests.conftest import SHORT

from vesk.core.errors import ScenarioError
from vesk.core.ltc.listen import decode
from vesk.core.timecode import FrameRate, Timecode
from vesk.media import probe
from vesk.simulator import scenario, shoot
from vesk.simulator.devices import takes
from vesk.simulator.files import write_recording

HEAD = """
[production]
name = "The Lantern Ferry"
day = 9
date = 2027-03-21
rate = "{rate}"
seed = 5
"""
CAMERA = """
[[device]]
tag = "A"
name = "main camera"
kind = "camera"
folder = "A"
roll = "A009"
jams = ["08:00:00"]
channels = ["scratch"]
"""
RECORDER = """
[[device]]
tag = "S1"
name = "main recorder"
kind = "recorder"
folder = "S1"
roll = "SR09"
jams = ["08:00:00"]
channels = ["mix", "boom"]
"""
SHOT = """
[[shot]]
slate = "60"
take = 1
start = "10:00:00:00"
length = 6
talk = [[0.5, 5.0]]
roll = [{roll}]
"""


@pytest.fixture
def plan(tmp_path):
    def make(devices: str, roll: str, rate: str = "25", **more):
        path = tmp_path / "s.toml"
        head = "".join(f"{name} = {value}\n" for name, value in more.items())
        path.write_text(head + HEAD.format(rate=rate) + devices + SHOT.format(roll=roll), encoding="utf-8")
        read = scenario.load(path)
        return read, takes(read, tmp_path / "media")

    return make


def test_parts_count_on_in_name_label_and_frames(plan):
    _, made = plan(CAMERA + "split_s = 2.0\n", '{ source = "A", from = 0.0, to = 5.0, file = "clip0098.mov" }')
    assert [take.path.name for take in made] == ["clip0098.mov", "clip0099.mov", "clip0100.mov"]
    assert [take.frames for take in made] == [50, 50, 25]
    assert [str(take.label) for take in made] == ["10:00:00:00", "10:00:02:00", "10:00:04:00"]
    assert np.diff([take.begins for take in made]) == pytest.approx(2.0, abs=1e-9)


def test_a_recorder_from_zero_restarts_its_counter_in_every_part(plan):
    roll = '{ source = "S1", from = 0.0, to = 5.0, file = "R001.wav" }'
    _, made = plan(RECORDER + 'split_s = 2.0\nheader = "zero"\n', roll)
    assert [take.time_reference for take in made] == [0, 0, 0]
    _, jammed = plan(RECORDER + "split_s = 2.0\n", roll)
    assert np.diff([take.time_reference for take in jammed]).tolist() == [96_000, 96_000]


def test_parts_laid_end_to_end_are_the_whole_to_the_bit(plan, tmp_path):
    read, parts = plan(RECORDER + "split_s = 2.0\n", '{ source = "S1", from = 0.0, to = 5.0, file = "R001.wav" }')
    events = shoot.all_events(read)
    from vesk.simulator.files import recorded

    whole = recorded(parts[0].of, events)
    assert np.array_equal(np.concatenate([recorded(part, events) for part in parts]), whole)


def test_a_camera_at_another_rate_leaves_the_others_labels_by_a_thousandth(plan):
    _, made = plan(
        CAMERA + CAMERA.replace('"A"', '"F"').replace("A009", "F009") + 'rate = "24"\n',
        '{ source = "A", from = 0.0, to = 2.0 }, { source = "F", from = 0.0, to = 2.0 }',
        rate="23.976",
    )
    own = [float(Timecode.parse(str(take.label), take.rate).frame) / take.rate.nominal for take in made]
    # Two hours after both were given the same label, one that counts 24 a second is 7.2 s ahead.
    assert own[1] - own[0] == pytest.approx(7.2, abs=0.05)


def test_a_box_set_anew_breaks_its_timecode_once(plan, tmp_path):
    roll = '{ source = "S1", from = 0.0, to = 6.0, ltc_jump = [3.0, 50] }'
    read, (take,) = plan(RECORDER + "ltc = 1\n", roll)
    write_recording(take, read, shoot.all_events(read))
    from vesk.media.sound import SoundReader

    with SoundReader(take.path) as reader:
        track = decode(reader.read(0, reader.frames)[:, 1], 48_000)
    (broken,) = track.breaks
    assert broken.at_sample / 48_000 == pytest.approx(3.0, abs=0.05)
    assert broken.found.frame - broken.expected.frame == 50


def test_a_mono_recorder_writes_a_file_a_track_and_loses_what_is_lost(plan, tmp_path):
    read, _ = plan(RECORDER + "mono = true\n", '{ source = "S1", from = 0.0, to = 2.0 }', lost='["S1/60_01_2.wav"]')
    shoot.shoot(read, tmp_path / "media", processes=1)
    (left,) = (tmp_path / "media").rglob("*.wav")
    facts = probe.read_facts(left)
    assert (left.name, facts.channels, facts.track_names) == ("60_01_1.wav", 1, ("mix",))
    assert (facts.family_index, facts.family_size) == ("1", "2")


def test_what_hums_clips_and_is_not_connected(plan, tmp_path):
    device = RECORDER.replace('"boom"', '"empty"') + "clip = true\nhum_db = -30\n"
    read, (take,) = plan(device, '{ source = "S1", from = -4.0, to = 6.0 }')
    from vesk.simulator.files import recorded

    sound = recorded(take, shoot.all_events(read))
    assert not sound[:, 1].any()
    assert (np.abs(sound[:, 0]) >= 0.999).sum() > 50
    quiet = sound[: 3 * 48_000, 0] * np.hanning(3 * 48_000)
    spectrum = np.abs(np.fft.rfft(quiet))
    assert int(np.argmax(spectrum)) == 150  # 50 Hz in three seconds


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (CAMERA.replace('tag = "A"', 'tag = "B"'), "no device 'A'"),
        (CAMERA + 'colour = "red"\n', "colour"),
        ("", "device"),
    ],
)
def test_a_scenario_that_cannot_be_shot_says_why(plan, text, words):
    with pytest.raises(ScenarioError, match="Compare it with the one that ships") as told:
        plan(text, '{ source = "A", from = 0.0, to = 2.0 }')
    assert words in str(told.value)


def test_the_three_days_that_ship_can_be_read():
    rates = {
        name: scenario.load(shoot.SCENARIOS / name).rate
        for name in ("lantern_ferry.toml", "lantern_ferry_7.toml", "lantern_ferry_8.toml")
    }
    assert list(rates.values()) == [
        FrameRate(Fraction(25)),
        FrameRate(Fraction(24_000, 1001)),
        FrameRate(Fraction(30_000, 1001), drop=True),
    ]


def test_a_clock_that_swings_counts_its_own_samples_and_the_truth_has_a_table(tmp_path):
    head, tail = SHORT.format(rate="25", jam="10:00:00", start="10:00:00:00").rsplit("distance_m = 0.5\n", 1)
    path = tmp_path / "scenario.toml"
    path.write_text(f"{head}distance_m = 0.5\nswing_ppm = 40.0\nswing_s = 20.0\n{tail}")
    told = scenario.load(path)
    planned = takes(told, tmp_path)
    take = next(one for one in planned if one.device.swing_ppm)
    counted = np.array([take.own_time(float(true)) for true in take.times()[::4800]])
    assert counted == pytest.approx(np.arange(counted.size) / 10, abs=2e-8)
    (pair,) = shoot.truth(planned, told, tmp_path)["pairs"]
    offsets = np.array([row[1] for row in pair["table"]])
    assert 1e-6 < np.abs(np.diff(offsets, 2)).max() < 5e-5
