"""The walk without server or database, run as a script would run it, against the simulator's truth."""

import csv
import hashlib
import json
import os
import shutil
import subprocess
import sys
from fractions import Fraction

import pytest
import soundfile
from tests.conftest import SHORT, make_shoot

from vesk.media import wave

FAR_MS = 22 / 0.343  # the far bank's microphone: a person's word


def vesk(*arguments, cache, check=True):
    done = subprocess.run(
        [sys.executable, "-m", "vesk", *map(str, arguments)], capture_output=True, text=True, check=False, timeout=300,
        env={**os.environ, "VESK_VAR": str(cache.parent / "walk-var")},
    )  # fmt: skip
    assert not check or done.returncode == 0, done.stderr
    return done


@pytest.fixture(scope="module")
def conformed(ferry, cache, tmp_path_factory):
    """Return the folder's fingerprint before, what `vesk conform` printed, and where it wrote."""
    before = fingerprint(ferry.folder)
    out = tmp_path_factory.mktemp("out")
    printed = json.loads(vesk("conform", ferry.folder, out, "--late", f"B={FAR_MS}", "--json", cache=cache).stdout)
    return before, printed, out


def fingerprint(folder):
    return {
        str(path.relative_to(folder)): (hashlib.sha256(path.read_bytes()).hexdigest(), path.stat().st_mtime_ns)
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


def test_source_media_is_never_written_to(ferry, conformed):
    before, _, _ = conformed
    assert fingerprint(ferry.folder) == before


def test_every_pairing_is_measured_as_it_truly_is(ferry, conformed):
    _, printed, _ = conformed
    assert len(printed["pairings"]) == len(ferry.truth["pairs"]) == 9
    for one in printed["pairings"]:
        true = ferry.pair(one["picture"], one["sound"])
        assert one["status"] == "measured", one["verdict"]
        assert one["decision"] == "matched"
        # Within the band that is printed, and microseconds where the camera stands near.
        close = 4e-5 if "B004" in one["picture"] else 1.5e-5
        assert one["offset_s"] == pytest.approx(true["heard_offset_s"], abs=close), one["picture"]
        assert abs(one["offset_s"] - true["heard_offset_s"]) < one["uncertainty_s"]
        assert abs(one["offset_s"] - true["heard_offset_s"]) < 3 * one["uncertainty_s"]
        assert one["ppm"] == pytest.approx(true["ppm"], abs=0.1 if true["shared_s"] > 100 else 2)
        assert one["offset_frames"] == pytest.approx(one["offset_s"] * 25)
        assert one["jumps"] == []
        assert {item["kind"] for item in one["evidence"]} == {"timecode", "sound", "sync point"}


def test_causes_are_told_apart(conformed):
    _, printed, _ = conformed
    by_picture = {one["picture"].split("/")[-1]: one["verdict"] for one in printed["pairings"]}
    assert by_picture["A006_001.mov"]["cause"] == "within tolerance"
    assert by_picture["B004_001.mov"]["cause"] == "free-running drift"
    assert "B's clock runs 66." in by_picture["B004_001.mov"]["text"]
    assert "slow against S1" in by_picture["B004_001.mov"]["text"]


def test_what_disagrees_is_not_delivered_without_a_word(ferry, cache, tmp_path):
    few = tmp_path / "few"
    without = shutil.ignore_patterns("A006_00[34567]*", "3[34]*", "WT*", "B004_003*")
    shutil.copytree(ferry.folder, few, copy_function=os.link, ignore=without)
    printed = json.loads(vesk("conform", few, tmp_path / "out", "--json", cache=cache).stdout)
    (found,) = printed["contradictions"]  # the far bank hears 64 ms late; nobody said so here
    assert (found["device"], found["about"]) == ("B", "scratch against picture")
    assert found["apart_ms"] == pytest.approx(FAR_MS, abs=5)
    told = {row["picture"].split("/")[-1]: row for row in printed["deliveries"]}
    for name in ("B004_001.mov", "B004_002.mov"):
        assert told[name]["delivered"] == "no"
        assert "Without a person's word it is not delivered" in told[name]["reason"]
        assert "--late B=MS" in told[name]["reason"]
    assert told["A006_001.mov"]["delivered"] == "yes"
    places = {one["picture"].split("/")[-1]: one for one in printed["pairings"]}
    for name in ("B004_001.mov", "B004_002.mov"):  # where the picture wants it, a microphone's few metres left
        one = places[name]
        assert abs(one["place_s"] - ferry.pair(one["picture"], one["sound"])["offset_s"]) < 0.006
    refused = vesk("pair", few, "--late", "Z=4", "--json", cache=cache, check=False)
    assert "There is no device Z here, but A, B, S1." in refused.stderr


def test_what_has_no_partner_or_cannot_be_read_says_why(conformed):
    _, printed, _ = conformed
    reasons = {item["path"].split("/")[-1]: item["reason"] for item in printed["unpaired"]}
    assert set(reasons) == {"A006_006.mov", "WT01_01.wav"}
    assert "no recorder was rolling 11:48:02:21" in reasons["A006_006.mov"]
    (broken,) = printed["unreadable"]
    assert broken["path"].endswith("B004_003.mov")
    assert "Copy it again" in broken["reason"]


def test_sources_and_facts_are_printed(conformed):
    _, printed, _ = conformed
    assert {item["source"] for item in printed["recordings"]} == {"A", "B", "S1"}
    assert printed["fps"] == "25"
    facts = {item["path"].split("/")[-1]: item["facts"] for item in printed["recordings"]}
    assert facts["33_01-02.wav"]["scene"] == "33"
    assert facts["A006_005.mov"]["timecode"] == "11:15:30:12"


def test_delivered_files_are_as_long_as_their_picture_and_measure_right(conformed):
    _, printed, out = conformed
    with (out / "report.csv").open(encoding="utf-8", newline="") as file:
        report = {row["picture"].split("/")[-1]: row for row in csv.DictReader(file)}
    facts = {item["path"].split("/")[-1]: item["facts"] for item in printed["recordings"]}
    assert len(report) == 10  # nine camera takes and the broken file
    assert report["A006_006.mov"]["delivered"] == "no"
    assert "no recorder was rolling" in report["A006_006.mov"]["reason"]
    made = {name: row for name, row in report.items() if row["delivered"] == "yes"}
    assert len(made) == 8
    for name, row in made.items():
        header = wave.read_header(out / row["file"])
        assert header.samples == facts[name]["frames"] * 1920
        label = facts[name]["timecode"]
        hours, minutes, seconds, frames = map(int, label.split(":"))
        assert header.bext.time_reference == ((hours * 60 + minutes) * 60 + seconds) * 48_000 + frames * 1920
        assert "<NAME>mix</NAME>" in header.ixml
        for place in ("head", "middle", "tail"):
            assert abs(float(row[f"residual_{place}_ms"])) < 10 / 4, (name, place)
    far = [float(made["B004_001.mov"][f"residual_{place}_ms"]) for place in ("head", "middle", "tail")]
    assert max(far) - min(far) < 0.3  # 12 ms of drift are gone


def test_a_take_over_two_sound_files_is_cut_from_both_with_silence_between(conformed):
    _, _, out = conformed
    sound, rate = soundfile.read(out / "A006_005.wav", always_2d=True)
    # By the clocks the first file ends 28.9 s into the take and the second begins at 31.35 s.
    silent = [abs(sound[int(t * rate)]).max() == 0 for t in (29.0, 30.0, 31.2)]
    assert all(silent)
    assert abs(sound[int(28.0 * rate) : int(28.8 * rate)]).max() > 0
    assert abs(sound[int(31.5 * rate) : int(33.0 * rate)]).max() > 0


def test_measure_prints_one_pair_and_says_by_its_exit_code(ferry, cache):
    by_name = {path.name: path for path in ferry.folder.rglob("*.*")}
    picture = by_name["A006_001.mov"]
    good = vesk("measure", "--picture", picture, "--sound", by_name["31A_01.wav"], "--json", cache=cache)
    printed = json.loads(good.stdout)
    true = ferry.pair("A006_001.mov", "31A_01.wav")
    assert printed["offset_s"] == pytest.approx(true["heard_offset_s"], abs=1e-4)
    assert len(printed["trace"]) > 10
    wrong = vesk("measure", "--picture", picture, "--sound", by_name["WT01_01.wav"], "--json", cache=cache, check=False)
    assert wrong.returncode == 3
    assert json.loads(wrong.stdout)["decision"] == "refused"


def test_conforming_into_the_media_folder_is_refused(ferry, cache):
    inside = vesk("conform", ferry.folder, ferry.folder / "out", cache=cache, check=False)
    assert inside.returncode == 1
    assert "nothing is written among originals" in inside.stderr
    assert not (ferry.folder / "out").exists()


@pytest.mark.parametrize(
    ("rate", "jam", "start", "reference"),
    [
        ("23.976", "09:00:00", "10:00:00:00", 1_729_728_000),
        # Past midnight in drop-frame: two seconds before it, 59 frames of 1001/30000 s short of a label day.
        ("29.97 DF", "22:00:00", "23:59:58;00", round((2589408 - 60) * Fraction(1001, 30000) * 48_000)),
    ],
)
def test_the_other_arithmetic(tmp_path, cache, rate, jam, start, reference):
    short = make_shoot(SHORT.format(rate=rate, jam=jam, start=start), tmp_path)
    printed = json.loads(vesk("conform", short.folder, tmp_path / "out", "--json", cache=cache).stdout)
    (one,) = printed["pairings"]
    true = short.truth["pairs"][0]
    assert one["offset_s"] == pytest.approx(true["heard_offset_s"], abs=1e-4)
    (line,) = printed["deliveries"]
    assert line["time_reference"] == reference
    fps = Fraction(printed["fps"])
    assert line["samples"] == round(Fraction(line["frames"]) / fps * 48_000)
    assert abs(float(line["residual_middle_ms"])) < 0.2


def test_a_recorder_that_lost_samples_is_named_mended_and_delivered(tmp_path):
    text = (
        SHORT.format(rate="25", jam="07:30:00", start="09:10:00:00")
        .replace("length = 9", "length = 24")
        .replace("[[2.0, 8.5]]", "[[2.0, 23.5]]")
        .replace("to = 9.0 }", "to = 24.0 }")
        .replace("to = 10.2 }", "to = 25.2, jumps = [[13.4, -1601]] }")
    )
    shot = make_shoot(text, tmp_path)
    out = tmp_path / "out"
    (one,) = json.loads(vesk("conform", shot.folder, out, "--json", cache=tmp_path / "cache").stdout)["pairings"]
    (jump,) = one["jumps"]
    assert jump["samples"] == -1601
    # The recorder began 1.513 s before the camera.
    assert jump["at_s"] == pytest.approx(13.4 - 1.513, abs=0.06)
    assert jump["low_s"] - 0.02 <= 13.4 - 1.513 <= jump["high_s"] + 0.02
    assert one["verdict"]["cause"] == "jump"
    assert "lost 1\N{NARROW NO-BREAK SPACE}601 samples" in one["verdict"]["text"]
    (line,) = csv.DictReader((out / "report.csv").read_text(encoding="utf-8").splitlines())
    (mend,) = one["correction"]["jumps"]
    assert mend == {"sound_s": pytest.approx(13.4, abs=0.06), "step_s": pytest.approx(1601 / 48_000, abs=2e-5)}
    assert line["remark"] == "1 jump mended"
    for place in ("head", "middle", "tail"):
        assert abs(float(line[f"residual_{place}_ms"])) < 0.05


def test_a_camera_whose_scratch_lost_samples_keeps_its_sound_where_the_picture_wants_it(tmp_path):
    """What the recorder is said to have gained there, another camera on it did not hear."""
    text = SHORT.format(rate="25", jam="07:30:00", start="09:10:00:00").replace("length = 9", "length = 25")
    camera = text[text.index("[[device]]") : text.index('[[device]]\ntag = "S1"')]
    other = camera.replace('"A"', '"B"').replace("A007", "B007").replace("ppm = 3.0", "ppm = -4.0")
    rolling = '{ source = "A", from = 0, to = 24, jumps = [[11.9, -1440]] }, { source = "B", from = 0.5, to = 24.5 }'
    text = (
        text.replace('[[device]]\ntag = "S1"', f'{other}[[device]]\ntag = "S1"')
        .replace("[[2.0, 8.5]]", "[[2.0, 23.5]]")
        .replace('{ source = "A", from = 0.0, to = 9.0 }', rolling)
        .replace("to = 10.2", "to = 25.2")
    )
    shot = make_shoot(text, tmp_path)
    out = tmp_path / "out"
    told = json.loads(vesk("conform", shot.folder, out, "--json", cache=tmp_path / "cache").stdout)["pairings"]
    one, beside = sorted(told, key=lambda pairing: pairing["picture"])
    assert [jump["samples"] for jump in one["jumps"]] == [1440]
    assert one["correction"]["jumps"] == beside["jumps"] == []
    assert one["verdict"]["cause"] == "within tolerance"
    assert "A's own scratch lost 1\N{NARROW NO-BREAK SPACE}440 samples at 11.90 s" in one["verdict"]["text"]
    assert one["place_s"] == pytest.approx(shot.pair("A007_001.mov", "40_01.wav")["heard_offset_s"], abs=1e-4)
    for line in csv.DictReader((out / "report.csv").read_text(encoding="utf-8").splitlines()):
        assert line["delivered"] == "yes"
        assert all(abs(float(line[f"residual_{place}_ms"])) < 0.1 for place in ("head", "middle", "tail"))


def test_what_a_scratch_doubled_is_seen_in_itself_and_its_sound_stays_with_the_picture(tmp_path):
    """One camera and one recorder: nobody else says that the recorder lost nothing."""
    text = SHORT.format(rate="25", jam="07:30:00", start="09:10:00:00").replace("length = 9", "length = 25")
    rolling = '{ source = "A", from = 0, to = 24, jumps = [[11.9, 1440]] }'
    text = (
        text.replace("[[2.0, 8.5]]", "[[2.0, 23.5]]")
        .replace('{ source = "A", from = 0.0, to = 9.0 }', rolling)
        .replace("to = 10.2", "to = 25.2")
    )
    shot = make_shoot(text, tmp_path)
    said = vesk("conform", shot.folder, tmp_path / "out", "--json", cache=tmp_path / "cache")
    (one,) = json.loads(said.stdout)["pairings"]
    assert [(jump["samples"], jump["gained"]) for jump in one["jumps"]] == [(-1440, "twice")]
    assert (one["correction"]["jumps"], one["verdict"]["cause"]) == ([], "within tolerance")
    told = "A's own scratch doubled 1\N{NARROW NO-BREAK SPACE}440 samples at 11.90 s: the sound stays with the picture"
    assert f" {told}." in one["verdict"]["text"]
    (line,) = csv.DictReader((tmp_path / "out" / "report.csv").read_text(encoding="utf-8").splitlines())
    assert told in line["remark"]
    assert all(abs(float(line[f"residual_{place}_ms"])) < 0.1 for place in ("head", "middle", "tail"))


def test_claps_heard_and_seen_agree_with_the_shoot(ferry, cache):
    told = next(r for r in ferry.truth["recordings"] if r["path"].endswith("A006_001.mov"))
    found = json.loads(vesk("sync-points", ferry.folder / told["path"], "--json", cache=cache).stdout)
    assert found["heard"][0]["kind"] == "clap"
    assert found["seen"][0]["frame"] == told["clap_frame"]
    # Two metres away and 0.31 frame late: it hears what it sees within the interval of one clap.
    assert found["sound_delay"]["low_s"] <= 0.0058 <= found["sound_delay"]["high_s"]
    assert found["sound_delay"]["high_s"] - found["sound_delay"]["low_s"] == pytest.approx(0.06)
