"""Reports: tables as people make them, matched to recordings, and what does not fit."""

from fractions import Fraction

import pytest

from vesk.core.errors import ReportError
from vesk.core.intake.filed import Filed
from vesk.core.intake.reports import Report, compare, entries_of, guess_mapping, is_circled, read_table
from vesk.core.kinds import Kind
from vesk.core.timecode import FrameRate

PAL = FrameRate(Fraction(25))
NINE = Fraction(9 * 3600)

REPORT = """Production;The Lantern Ferry
Sound roll;SR06

File name;Scene;Take #;Start TC;Circled;Comments
31A_01.wav;31A;1;09:00:00:00;x;"horn; far away"
31A_02;31A;2;09:10:00:00;;
;32;1;09:20:00;;two lines
99_01.wav;99;1;;;
;;;;;
"""


def recording(name, scene, take, start, **more):
    return Filed(
        key=name,
        name=name,
        path=f"S1/{name}",
        source="S1",
        kind=Kind.SOUND,
        start=start,
        scene=scene,
        take=take,
        **more,
    )


def report(text=REPORT, **mapping):
    table = read_table(text)
    return Report("sound.csv", "sound", "", entries_of(table, mapping or guess_mapping(table.columns)))


def test_a_table_is_found_below_what_stands_above_it_whatever_parts_its_columns():
    table = read_table(REPORT)
    assert table.columns == ("File name", "Scene", "Take #", "Start TC", "Circled", "Comments")
    assert len(table.lines) == 4
    assert table.lines[0][5] == "horn; far away"
    tabbed = read_table("clip\tscene\ttake\nA001_001\t1\t2\n")
    assert entries_of(tabbed, guess_mapping(tabbed.columns))[0].says == {"file": "A001_001", "scene": "1", "take": "2"}


@pytest.mark.parametrize("text", ["", "hello\nworld", "a,b,c\n1,2,3"])
def test_what_is_no_report_is_refused_with_what_to_do(text):
    with pytest.raises(ReportError, match="first line with at least two"):
        read_table(text)


def test_lines_are_joined_by_file_and_by_scene_and_take():
    files = [
        recording("31A_01.wav", "31A", "01", NINE),
        recording("31A_02.wav", "31A", "2", NINE + 600),
        recording("noise.wav", "32", "1", NINE + 1200),
        recording("WT1.wav", "WT1", "1", NINE + 2000),
    ]
    found = compare(report(), files, PAL)
    assert {key: entry.number for key, entry in found.matched.items()} == {
        "31A_01.wav": 1,
        "31A_02.wav": 2,
        "noise.wav": 3,
    }
    assert [entry.says["file"] for entry in found.without_file] == ["99_01.wav"]
    assert found.without_entry == ("WT1.wav",)
    assert found.disagree == ()
    assert is_circled(found.matched["31A_01.wav"])
    assert not is_circled(found.matched["31A_02.wav"])


def test_what_report_and_file_say_differently_is_told_with_direction():
    found = compare(report(), [recording("31A_01.wav", "31B", "01", NINE - 62)], PAL)
    said = [text for _, text in found.disagree]
    assert said == [
        "scene 31A on the report, 31B in the file",
        "the report starts it 1 min 2 s later than the file",
    ]


def test_a_second_by_hand_is_no_disagreement_and_midnight_is_crossed():
    text = "file,start\na.wav,23:59:59\nb.wav,00:00:05\n"
    day = Fraction(24 * 3600)
    files = [recording("a.wav", "", "", day - Fraction(1, 5)), recording("b.wav", "", "", day - 1)]
    found = compare(report(text), files, PAL)
    assert [key for key, _ in found.disagree] == ["b.wav"]


def test_of_several_that_fit_the_roll_and_the_nearest_start_decide():
    text = "roll,scene,take,tc\nB004,5,1,09:00:10:00\nA006,5,1,09:00:00:00\n"
    files = [
        recording("x.mov", "5", "1", NINE + 900, tape="A006"),
        recording("y.mov", "5", "1", NINE, tape="A006"),
        recording("z.mov", "5", "1", NINE, tokens={"roll": "B004"}),
    ]
    found = compare(report(text), files, PAL)
    assert {key: entry.says["roll"] for key, entry in found.matched.items()} == {"z.mov": "B004", "y.mov": "A006"}
    assert found.without_entry == ("x.mov",)


def test_a_line_that_names_a_part_is_about_the_whole():
    parts = tuple(recording(f"37_01_{n}.wav", "37", "01", NINE) for n in (1, 2))
    whole = recording("37_01_1-2.wav", "37", "01", NINE, members=parts)
    found = compare(report("file,scene\n37_01_2.wav,37\n"), [whole], PAL)
    assert found.matched["37_01_1-2.wav"].number == 1


def test_columns_are_known_by_their_names_once_each():
    assert guess_mapping(["Sound Roll", "Slate", "Tk", "Clip Name", "TC In", "Notes for editor"]) == {
        "roll": "Sound Roll", "scene": "Slate", "take": "Tk", "file": "Clip Name", "timecode": "TC In",
        "note": "Notes for editor",
    }  # fmt: skip
    assert guess_mapping(["Scene", "Scene"]) == {"scene": "Scene"}
