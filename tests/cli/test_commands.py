"""Commands for scripts: what they print, to where, and how they end."""

import json

import numpy as np
import pytest

from vesk.cli.main import COMMANDS, main
from vesk.media import ixml
from vesk.media.wave import Bext, write_wave

RATE = 48_000


@pytest.fixture(autouse=True)
def own_cache(tmp_path, monkeypatch):
    monkeypatch.setenv("VESK_VAR", str(tmp_path / "var"))


@pytest.fixture
def folder(tmp_path):
    """A recorder's folder: two takes of two tracks, a file each, and one that lacks its second."""
    place = tmp_path / "media" / "S1 roll"
    place.mkdir(parents=True)
    noise = np.random.default_rng(1).standard_normal((RATE * 3, 5)).astype(np.float32) * 0.05
    for number, (name, track, start) in enumerate(
        [
            ("7_01_1.wav", "mix", 9),
            ("7_01_2.wav", "boom", 9),
            ("8_01_1.wav", "mix", 10),
            ("9_02_1.wav", "mix", 11),
            ("9_02_2.wav", "boom", 11),
        ]
    ):
        info = ixml.IXml(scene=name[0], take="1", track_names=(track,), timecode_rate=25)
        bext = Bext(time_reference=start * 3600 * RATE)
        write_wave(
            place / name, iter([noise[:, number : number + 1]]), sample_rate=RATE, channels=1, bext=bext,
            ixml=ixml.build(info, sample_rate=RATE, time_reference=start * 3600 * RATE),
        )  # fmt: skip
    (place / "broken.wav").write_bytes(b"RIFF")
    return place.parent


def run(capsys, *arguments):
    code = main([str(one) for one in arguments])
    told = capsys.readouterr()
    return code, told.out, told.err


def test_intake_prints_recordings_sets_and_what_is_odd(capsys, folder):
    report = folder.parent / "r.csv"
    report.write_text("file,scene,take\n7_01_1.wav,7,1\n9_01.wav,9,1\n", encoding="utf-8")
    code, out, err = run(capsys, "intake", folder, "--json", "--sound-report", report)
    told = json.loads(out)
    assert code == 0
    assert "listening to S1 roll/7_01_1-2.wav" in err  # progress does not spoil the result
    assert [one["path"] for one in told["recordings"]] == [
        "S1 roll/8_01_1.wav",
        "S1 roll/7_01_1-2.wav",
        "S1 roll/9_02_1-2.wav",
    ]
    joined, _ = told["sets"]
    assert joined["files"] == ["S1 roll/7_01_1.wav", "S1 roll/7_01_2.wav"]
    assert told["runs"] == []
    kinds = {one["kind"] for one in told["oddities"]}
    assert {"on the report, no file", "file, not on the report", "mono set incomplete", "cannot be read"} <= kinds
    whole = told["recordings"][1]
    assert whole["known"]["scene"]["value"] == "7"
    assert whole["files"] == joined["files"]


def test_every_file_is_listened_to_once_and_what_cannot_be_is_told_once(capsys, folder):
    _, out, err = run(capsys, "intake", folder, "--json")
    heard = [line for line in err.splitlines() if line.startswith("listening to")]
    assert len(heard) == len(set(heard)) == 3
    unreadable = [one["path"] for one in json.loads(out)["unreadable"]]
    assert unreadable == ["S1 roll/broken.wav"]


def test_intake_in_words_names_the_clock_and_what_to_do(capsys, folder):
    code, out, _ = run(capsys, "intake", folder, "--fps", "25")
    assert code == 0
    assert "S1: 3 recordings; clock: header" in out
    assert "Look for the file on the card." in out


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["intake", "/nowhere"], "there is no such folder"),
        (["ltc", "/nowhere.wav"], "not there any more"),
        (["measure", "--picture", "/nowhere.mov", "--sound", "/nowhere.wav"], "not there any more"),
    ],
)
def test_what_cannot_be_done_is_said_on_one_line(capsys, arguments, words):
    code, out, err = run(capsys, *arguments)
    assert (code, out) == (1, "")
    assert words in err
    assert err.startswith("vesk: ")
    assert "Traceback" not in err


def test_a_report_that_is_none_stops_before_any_work(capsys, folder):
    bad = folder.parent / "bad.csv"
    bad.write_text("hello\n", encoding="utf-8")
    code, out, err = run(capsys, "intake", folder, "--camera-report", bad)
    assert (code, out) == (1, "")
    assert "bad.csv: No line of it names its columns" in err
    assert "listening" not in err


@pytest.mark.parametrize("arguments", [["intake"], ["intake", ".", "--fps", "17"], ["unknown"], []])
def test_wrong_use_is_told_by_its_exit_code(capsys, arguments):
    with pytest.raises(SystemExit) as ended:
        main(arguments)
    assert ended.value.code == 2
    capsys.readouterr()


def test_probe_goes_on_past_a_broken_file(capsys, folder):
    files = sorted((folder / "S1 roll").iterdir())
    _, out, _ = run(capsys, "probe", *files, "--json")
    told = json.loads(out)
    assert [("error" in one, one["path"].split("/")[-1]) for one in told] == [
        *((False, name) for name in ("7_01_1.wav", "7_01_2.wav", "8_01_1.wav", "9_02_1.wav", "9_02_2.wav")),
        (True, "broken.wav"),
    ]


def test_no_timecode_on_a_channel_is_an_answer_not_an_error(capsys, folder):
    code, out, _ = run(capsys, "ltc", folder / "S1 roll" / "7_01_1.wav", "--json")
    assert (code, json.loads(out)["channels"]) == (1, [])
    code, _, err = run(capsys, "ltc", folder / "S1 roll" / "7_01_1.wav", "--channel", "5")
    assert code == 1
    assert "it has 1 channels, none is number 5" in err


def test_every_command_says_what_it_is_for(capsys):
    for name in COMMANDS:
        with pytest.raises(SystemExit) as ended:
            main([name, "--help"])
        assert ended.value.code == 0
        assert f"vesk {name}" in capsys.readouterr().out


def test_pair_in_words_says_of_every_file_what_became_of_it(capsys, folder):
    code, out, _ = run(capsys, "pair", folder)
    assert code == 0
    assert "8_01_1.wav: unpaired, " in out
    assert "broken.wav" in out
