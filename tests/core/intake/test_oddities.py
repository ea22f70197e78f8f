"""Each kind of oddity from the smallest day that shows it, and a clean day that shows none."""

from dataclasses import replace
from fractions import Fraction

import pytest

from vesk.core.clocks.choice import Clocks, choose_clock
from vesk.core.intake.filed import Filed
from vesk.core.intake.naming import read_name
from vesk.core.intake.oddities import LOST, Lost, find_oddities
from vesk.core.intake.off_speed import find_conflicts, find_off_speed
from vesk.core.kinds import CARE, HEADER, LTC, NONE, NOTE, Flaw, Kind, Unusable
from vesk.core.sound.levels import SoundLevel
from vesk.core.timecode import FrameRate

PAL = FrameRate(Fraction(25))
TEN = Fraction(36_000)
FINE = SoundLevel(-8.0, -24.0, 0)


def picture(name="A006_001.mov", start=TEN, *, long=20, source="A", **more):
    given = {
        "key": name, "name": name, "path": f"{source}/{name}", "source": source, "kind": "picture", "content": name,
        "start": start, "header": start, "duration": Fraction(long), "fps": Fraction(25), "sample_rate": 48_000,
        "channels": 1, "levels": (FINE,), "tokens": read_name(name.split(".")[0]),
    }  # fmt: skip
    return Filed(**(given | more))


def sound(name="31A_01.wav", start=TEN - 3, *, long=26, source="S1", **more):
    return replace(picture(name, start, long=long, source=source), kind=Kind.SOUND, fps=None, **more)


def odd(*recordings, unusable=()):
    slow = find_off_speed(recordings)
    conflicts = find_conflicts(recordings, slow)
    return find_oddities(recordings, PAL, off_speed=slow, conflicts=conflicts, unusable=unusable)


def test_a_clean_day_has_none():
    assert odd(picture(), sound(), picture("A006_002.mov", TEN + 60), sound("31A_02.wav", TEN + 58)) == []


def test_what_was_meant_so_of_a_device_stays_so_for_more_of_the_same_and_for_nothing_else():
    takes = [picture(f"A006_00{n}.mov", TEN + 60 * n, fps=Fraction(30)) for n in (1, 2, 3)]
    keys = [[one.key for one in odd(*some)] for some in (takes[:2], takes)]
    assert keys[0] == keys[1] == ["frame rate differs: A 30 fps, the day at 25"]
    others = [replace(one, fps=Fraction(24)) for one in takes]
    assert [one.key for one in odd(*others)] != keys[0]


@pytest.mark.parametrize(
    ("kind", "says", "recordings"),
    [
        ("no timecode", "carries no timecode", [picture(start=None)]),
        ("starts at zero", "a counter from zero", [sound(start=Fraction(0))]),
        ("frame rate differs", "29.97 fps, the day at 25", [picture(fps=Fraction(30000, 1001))]),
        ("no timecode", "S1: none of its 2 recordings carries", [sound(start=None), sound("31A_02.wav", None)]),
        ("sample rate differs", "44100 Hz", [sound(sample_rate=44_100)]),
        ("sample rate differs", "which no recorder uses", [sound(sample_rate=46_000)]),
        ("header and LTC disagree", "header is 1 h", [picture(header=TEN + 3600, ltc=TEN, clock="LTC")]),
        ("hole in the sound", "stops for 0.200 s at 12.50 s", [picture(holes=((12.5, 0.2),))]),
        ("LTC breaks", "11:30:00:00 where 10:00:20:00", [picture(ltc_breaks=((20.0, "10:00:20:00", "11:30:00:00"),))]),
        ("LTC leaks", "channel 2, -44 dB", [picture(leaks_db={1: -44.2})]),
        ("silent channel", "channel 2 is silent", [sound(channels=2, levels=(FINE, SoundLevel(-96.0, -110.0, 0)))]),
        ("clipped channel", "clips at 37 places", [sound(levels=(SoundLevel(0.0, -9.0, 37),))]),
        ("humming channel", "hums: 81%", [sound(hum={0: 0.81})]),
        ("doubled file", "once more, byte for byte", [sound(), sound("31A_01 copy.wav", content="31A_01.wav")]),
        (
            "smaller copy",
            "and 1 more in A006/sub",
            [
                picture(pixels=900, levels=(FINE,)),
                picture("A006_002.mov", TEN + 60, pixels=900, levels=(FINE,)),
                *(
                    replace(
                        picture(f"A006_00{n}.mov", at, pixels=400, levels=(FINE,)),
                        key=f"small {n}",
                        path=f"A006/sub/A006_00{n}.mov",
                        content=f"small {n}",
                    )
                    for n, at in ((1, TEN), (2, TEN + 60))
                ),
            ],
        ),
        ("number missing", "lacks number 002", [picture(), picture("A006_003.mov", TEN + 60)]),
        ("cut short or inexact", "cut short", [sound(flaws=(Flaw.CUT_SHORT,))]),
        ("off-speed picture", "4 times slowed", [picture(capture_fps=Fraction(100))]),
        ("overlap within a source", "formats differ", [picture(), picture("A006_002.mov", TEN + 8, channels=2)]),
    ],
)
def test_each_kind(kind, says, recordings):
    found = {one.kind: one for one in odd(*recordings)}
    assert kind in found
    assert says in found[kind].says
    assert found[kind].do
    assert recordings[0].path.split("/")[0] in found[kind].says


def test_a_mono_set_that_lacks_a_track():
    takes = [sound(f"31A_0{t}_{track}.wav", TEN + 60 * t) for t in (1, 2, 3) for track in ("mix", "boom")]
    (found,) = [one for one in odd(*takes[:-1]) if one.kind == "mono set incomplete"]
    assert "31A_03 has no track boom" in found.says


def test_timecode_that_is_no_clock_is_told_once_for_its_source_and_called_no_counter_from_zero():
    takes = [picture(f"A001_{n:03}.mov", TEN + 40 * n, clock=NONE) for n in range(3)]
    (told,) = [one for one in odd(*takes) if one.kind != "number missing"]
    assert (told.kind, len(told.about)) == ("timecode is no clock", 3)
    assert "the timecode of 3 recordings is no clock" in told.says


def test_a_clock_an_hour_off_is_found_by_what_would_meet():
    cameras = [picture(f"A006_00{n}.mov", TEN + 300 * n) for n in range(1, 6)]
    late = [sound(f"31A_0{n}.wav", TEN + 300 * n - 3 - 3600) for n in range(1, 6)]
    (found,) = [one for one in odd(*cameras, *late) if one.kind == "clock off by hours" and "S1" in one.says]
    assert "1 h behind" in found.says
    met = [sound(f"31A_0{n}.wav", TEN + 300 * n - 3) for n in range(1, 6)]
    assert "clock off by hours" not in {one.kind for one in odd(*cameras, *met)}


def test_the_worst_come_first_and_keep_their_keys():
    found = odd(
        sound(sample_rate=44_100),
        unusable=[Lost("S1/x.wav", "S1/x.wav: nothing in it.", Unusable.EMPTY), Lost("n.bin", "no")],
    )
    assert [one.weight for one in found] == sorted((one.weight for one in found), reverse=True)
    assert (found[0].kind, found[0].weight) in {("cannot be read", LOST), ("empty file", LOST)}
    again = odd(sound(sample_rate=44_100))
    assert again[0].key in {one.key for one in found}


def test_the_tracks_of_a_cameras_own_sound_are_no_numbers_of_its_clips():
    def shot(n):
        own = [sound(f"A001_00{n}{track}.wav", source="A") for track in (1, 2)]
        one = picture(f"A001_00{n}.mov", TEN + 60 * n)
        return replace(one, members=(one, *own))

    assert "number missing" not in {one.kind for one in odd(*map(shot, (1, 2, 3)))}
    (told,) = [one for one in odd(shot(1), shot(3)) if one.kind == "number missing"]
    assert "lacks number 002" in told.says


def test_what_is_no_recording_is_told_once_a_card_and_more_loudly_where_it_may_be_a_picture():
    def foreign(*paths, size=0):
        return [Lost(path, f"{path}: it is neither", Unusable.FOREIGN, size) for path in paths]

    stills = foreign(*(f"C/clip1/clip1_{n:06}.dng" for n in range(3000)))
    cards = foreign("A/PRIVATE/INDEX.BDM", "A/1.CPI", "A/2.CPI", "B/x.raw", "B/y.raw", size=150_000_000)
    told = {one.of or one.about[0]: one for one in odd(unusable=[*stills, *cards[:3], *foreign("README")])}
    assert told["C .dng"].says == "C: 3000 files are neither movies nor sound, and left out (3000 .dng)"
    assert (told["C .dng"].weight, "movie made of them" in told["C .dng"].do) == (CARE, True)
    assert "A: 3 files" in told["A .bdm .cpi"].says
    assert "(2 .cpi, 1 .bdm)" in told["A .bdm .cpi"].says
    assert told["README"].weight == NOTE
    (raw,) = odd(unusable=cards[3:])
    assert (raw.weight, "camera's own format" in raw.do) == (CARE, True)


class TestOffSpeed:
    """A device makes one file at a time."""

    def silent(self, name, start, long, **more):
        return picture(name, start, long=long, source="D", channels=0, levels=(), **more)

    def test_silent_files_that_run_into_the_next_and_the_last_of_them(self):
        day = [self.silent(f"D001_00{n}.mov", TEN + 10 * n, 12) for n in (1, 2, 3)]
        found = find_off_speed(day)
        assert set(found) == {"D001_001.mov", "D001_002.mov", "D001_003.mov"}
        assert found["D001_001.mov"].real == 10
        assert not found["D001_003.mov"].sure
        assert find_conflicts(day, found) == []

    def test_what_the_file_says_is_exact(self):
        found = find_off_speed([self.silent("D001_001.mov", TEN, 12, capture_fps=Fraction(100))])
        assert (found["D001_001.mov"].real, found["D001_001.mov"].sure) == (3, True)

    def test_silence_alone_is_no_slow_motion(self):
        assert find_off_speed([self.silent("D001_001.mov", TEN, 12), self.silent("D001_002.mov", TEN + 60, 12)]) == {}

    def test_a_camera_with_sound_that_overlaps_is_a_conflict_not_off_speed(self):
        day = [picture(), picture("A006_002.mov", TEN + 12)]
        assert find_off_speed(day) == {}
        (conflict,) = find_conflicts(day, {})
        assert (conflict.first, conflict.second, conflict.shared) == ("A006_001.mov", "A006_002.mov", 8)

    def test_a_thousand_files_that_all_overlap_are_told_in_one_line_and_a_copy_hides_nothing(self):
        day = [picture(f"A006_{n:04}.mov", TEN + Fraction(n, 100)) for n in range(1000)]
        found = find_conflicts(day, {})
        assert {one.second for one in found} == {one.key for one in day[1:]}
        assert len(found) == 999  # not half a million
        (told,) = [one for one in odd(*day) if one.kind == "overlap within a source"]
        assert "and 998 more of its files overlap others" in told.says
        assert {*told.about} == {one.key for one in day}
        copied = [day[0], picture("copy.mov", content="A006_0000.mov"), picture("A006_0500.mov", TEN + 5)]
        assert [(one.first, one.second, one.copies) for one in find_conflicts(copied, {})] == [
            ("A006_0000.mov", "copy.mov", True), ("A006_0000.mov", "A006_0500.mov", False),
        ]  # fmt: skip


HALF = Fraction(1, 25)


def taken(*takes, size=0):
    """Return what the header of each take says: when it begins after ten o'clock, and how long it lasts."""
    return [Clocks(TEN + at, PAL, None, None, HALF, Fraction(long), size or 10**7 * long) for at, long in takes]


@pytest.mark.parametrize(
    ("recordings", "clock", "says"),
    [
        ([Clocks(TEN, PAL, None, None, HALF)], HEADER, "in the header"),
        ([Clocks(TEN, PAL, TEN + HALF / 3, PAL, HALF)] * 2, LTC, "agree to a frame"),
        ([Clocks(TEN - 3600, PAL, TEN, PAL, HALF)] * 2, LTC, "1 h"),
        ([Clocks(None, PAL, TEN, PAL, HALF)], LTC, "headers carry none"),
        ([Clocks(None, PAL, None, None, HALF)], NONE, "no recording carries"),
        ([Clocks(Fraction(0), PAL, None, None, HALF)] * 3, NONE, "a counter"),
        ([Clocks(TEN, PAL, None, None, HALF)] * 3, NONE, "the same label"),
        (
            taken((0, 31), (31, 47), (78, 12), (90, 26)),
            NONE,
            "records: 3 of 3 recordings start where the one before ended",
        ),
        (taken((90, 26), (0, 31), (78, 12), (31, 47), (116, 9), (140, 9)), NONE, "counts only while it records"),
        (taken((0, 31), (31, 47), (78, 12), (100, 26)), HEADER, "in the header"),  # it counts on in between
        (taken((0, 600), (600, 600), (1200, 600), (1800, 211)), HEADER, "in the header"),  # parts of one recording
        (taken((0, 600), (600, 640), (1240, 580), (1820, 590), (2410, 90), size=4 * 10**9), HEADER, "in the header"),
        ([Clocks(TEN + n, PAL, TEN if n == 0 else None, PAL, HALF) for n in range(4)], HEADER, "in the header"),
    ],
)
def test_which_clock_is_trusted(recordings, clock, says):
    choice = choose_clock(recordings, PAL)
    assert choice.clock == clock
    assert says in choice.reason
