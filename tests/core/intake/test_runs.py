"""Which files are parts of one recording, and which only look like it."""

from dataclasses import replace
from fractions import Fraction

import pytest

from vesk.core.intake.counting import Names
from vesk.core.intake.filed import Filed
from vesk.core.intake.runs import Signs, find_joints, find_runs
from vesk.core.intake.sets import find_sets
from vesk.core.kinds import Kind

HOUR = Fraction(36_000)


def part(number: int, *, start=None, long=600, clock="none", size=0, source="E", name="clip{:04}.mov", **more):
    file = name.format(number)
    return Filed(
        key=file, name=file, path=f"{source}/{file}", source=source, kind=Kind.PICTURE, start=start, header=start,
        clock=clock, duration=Fraction(long), fps=Fraction(25), sample_rate=48_000, channels=1,
        size=size or 5000 * long, **more,
    )  # fmt: skip


GOES_ON, BREAKS = 8.0, -11.0  # nats


def runs(files, sound=0.0, apart=(), gap_s=None):
    joints = find_joints(files)
    said = {(j.first, j.second): Signs(sound, gap_s) for j in joints}
    return [run.keys for run in find_runs(joints, said, apart)]


def test_parts_that_restart_at_zero_are_one_by_number_and_limit():
    files = [part(1, start=Fraction(0)), part(2, start=Fraction(0)), part(3, start=Fraction(0), long=211)]
    assert runs(files) == [("clip0001.mov", "clip0002.mov", "clip0003.mov")]
    # A number that lacks is a file that lacks: what stands on either side of it is not one.
    assert runs([files[0], files[2]]) == []


def test_takes_of_a_counter_that_stands_still_between_them_are_not_one():
    # Rec run: the end of each is the start of the next, whatever time lay between.
    files = [
        part(1, start=HOUR, long=31, clock="header"),
        part(2, start=HOUR + 31, long=47, clock="header"),
        part(3, start=HOUR + 78, long=12, clock="header"),
    ]
    assert runs(files) == []
    assert runs(files, 0.44) == []  # what hiss says of any two
    assert runs(files, GOES_ON) == [tuple(one.key for one in files)]


def test_ends_that_always_meet_say_nothing():
    """A counter that runs only while it records: of four takes none leaves a gap, and no limit was reached."""
    lengths, files = [31, 47, 12, 26], []
    for number, long in enumerate(lengths):
        files.append(part(number + 1, start=HOUR + sum(lengths[:number]), long=long, clock="header"))
    assert runs(files, 3.5) == []
    assert runs(files, GOES_ON) == [tuple(one.key for one in files)]
    # One that leaves gaps counts on between takes: where two of its files meet, that is a sign.
    later = [*files[:2], *(replace(one, start=one.start + 60, header=one.start + 60) for one in files[2:])]
    assert runs(later, 3.5) == [tuple(one.key for one in files[:2]), tuple(one.key for one in files[2:])]


def test_no_sign_decides_alone():
    """A break by sound is wrong once in a thousand true joints: what else is known of them is weighed with it."""
    at_a_limit = [part(1, start=HOUR, clock="header"), part(2, start=HOUR + 600, clock="header")]
    alike = [replace(one, start=HOUR + 347 * n, duration=Fraction(347)) for n, one in enumerate(at_a_limit)]
    assert len(runs(at_a_limit)) == len(runs(at_a_limit, BREAKS)) == 1
    assert len(runs(alike)) == 1
    assert runs(alike, BREAKS) == []
    assert len(runs(alike, BREAKS, gap_s=62e-6)) == 1  # a recorder holds both, one after the other
    # Takes of equal length whose names count on: the recorder's files for them lie minutes apart.
    takes = [replace(one, start=None, clock="none") for one in alike]
    assert len(runs(takes)) == 1
    assert runs(takes, gap_s=131.0) == runs(takes, gap_s=0.08) == []
    assert runs(takes, BREAKS) == []


def test_parts_that_all_bear_the_label_of_the_first_are_one_where_sound_or_their_lengths_say_so():
    files = [part(n, start=HOUR, clock="header", long=211 if n == 3 else 347) for n in (1, 2, 3)]
    assert runs(files, GOES_ON) == [tuple(one.key for one in files)]
    assert runs(files, gap_s=62e-6) == [tuple(one.key for one in files)]
    # Two devices in one folder that were started and stopped together bear one label as well.
    assert runs(files) == runs(files, BREAKS) == runs(files, GOES_ON, gap_s=-347.0) == []
    # No hand stops a third at just that length.
    later = [
        replace(part(n), start=HOUR + 999, clock="header", duration=Fraction(347 if n == 8 else 40)) for n in (8, 9)
    ]
    assert len(runs([*files, *later])) == 2
    assert runs([*files, *later], BREAKS) == []
    assert runs([replace(one, channels=0) for one in [*files, *later]]) == []  # a rig of mute cameras
    assert len(runs([replace(one, size=4_290_000_000) for one in files])) == 1


@pytest.mark.parametrize("label", [Fraction(0), HOUR])
def test_a_part_that_comes_later_goes_on_where_the_others_end(label):
    files = [part(n, start=label, clock="header", long=211 if n == 4 else 347) for n in (1, 2, 3, 4)]
    first = replace(files[0], key="run", name="clip0001-0003.mov", duration=Fraction(3 * 347), members=tuple(files[:3]))
    assert runs([first, files[3]], GOES_ON) == [("run", files[3].key)]
    assert runs([first, replace(files[3], name="clip0005.mov")], GOES_ON) == []
    tracks = replace(first, duration=Fraction(347))  # a set is as long as each of its tracks
    assert runs([tracks, files[3]], GOES_ON) == []


@pytest.mark.parametrize("gap", [Fraction(1, 10), Fraction(-1), Fraction(3600)])
def test_labels_that_leave_a_gap_say_no(gap):
    files = [part(1, start=HOUR, clock="header"), part(2, start=HOUR + 600 + gap, clock="header")]
    assert runs(files, GOES_ON) == []


def test_files_of_several_kinds_are_never_neighbours():
    one = part(1)
    for other in (
        replace(part(2), sample_rate=44_100),
        replace(part(2), fps=Fraction(24)),
        replace(part(2), source="F"),
        replace(part(2), path="E/other/clip0002.mov"),
        replace(part(2), channels=2),
    ):
        assert find_joints([one, other]) == []


@pytest.mark.parametrize(
    ("size", "long", "words"),
    [
        (4_290_000_000, 1733, "4.29 GB"),
        (1_000_000, 1800, "just 30 min"),
        (1_000_000, 1733, ""),
    ],
)
def test_a_limit_is_named(size, long, words):
    joint = find_joints([part(1, size=size, long=long), part(2, long=20)])[0]
    assert words in joint.full
    assert bool(joint.full) == bool(words)


def test_takes_that_last_as_long_as_a_song_end_at_no_limit():
    """Two are just as large, and three as long: others end just below, where no device ends a file by itself."""
    for sizes, longs in (((1000, 998, 985, 991), (200, 199, 197, 198)), ((1000, 975, 990, 960), (200, 200, 200, 197))):
        files = [
            part(n, size=size * 100_000, long=long) for n, (size, long) in enumerate(zip(sizes, longs, strict=True))
        ]
        assert runs(files) == []
        limits = [*files[:2], part(2, size=files[0].size, long=200), part(3, size=7_000_000, long=30)]
        assert (
            len(runs([replace(one, size=files[0].size, duration=Fraction(200)) for one in limits[:3]] + limits[3:]))
            == 1
        )


def test_what_a_person_took_apart_stays_so():
    files = [part(1), part(2), part(3), part(4, long=99)]
    assert runs(files, apart={("clip0002.mov", "clip0003.mov")}) == [
        ("clip0001.mov", "clip0002.mov"),
        ("clip0003.mov", "clip0004.mov"),
    ]


def test_names_count_on_over_nines_and_letters():
    counts_on = Names([]).count_on
    assert counts_on("A_0009", "A_0010")
    assert counts_on("12a", "12b")
    assert counts_on("REC_0042", "REC_0042_0001")
    assert not counts_on("A1_take2", "A2_take2")
    assert not counts_on("clip", "clip")


def test_parts_that_are_numbered_before_their_clip_are_its_run_and_the_next_clip_is_not():
    stems = ("XA010042", "XA010043", "XA020042", "XA020043", "XA030042", "XA010044")
    files = [part(0, name=f"{stem}.mov") for stem in stems]
    assert sorted(runs(files)) == [("XA010042.mov", "XA020042.mov", "XA030042.mov"), ("XA010043.mov", "XA020043.mov")]
    first_without = Names(["XAVE0042", "XA010042", "XA020042", "XAVE0043"])
    assert first_without.count_on("XAVE0042", "XA010042")
    assert not first_without.count_on("XAVE0042", "XAVE0043")
    # A plain counter of six digits has no part of every clip.
    assert Names(["XA019999", "XA020000", "XA020001"]).count_on("XA019999", "XA020000")


def track(name, *, channels=1, header=HOUR, samples=480_000, **more):
    return Filed(
        key=name, name=name, path=f"S1/{name}", source="S1", kind=Kind.SOUND, header=header, start=header,
        sample_rate=48_000, channels=channels, samples=samples, duration=Fraction(samples, 48_000), **more,
    )  # fmt: skip


def named(name, scene, take, number, **more):
    return track(name, tokens={"scene": scene, "take": take, "track": number}, **more)


def test_tracks_of_one_take_are_a_set_in_their_order():
    files = [named(f"37_01_{n}.wav", "37", "01", str(n)) for n in (10, 2, 1)]
    other = named("37_02_1.wav", "37", "02", "1", header=HOUR + 60)
    [found] = find_sets([*files, other])
    assert found.keys == ("37_01_1.wav", "37_01_2.wav", "37_01_10.wav")


def test_a_family_by_ixml_needs_no_name():
    files = [track(f"{word}.wav", family="F1", family_index=str(n)) for n, word in ((2, "aa"), (1, "zz"))]
    assert [one.keys for one in find_sets(files)] == [("zz.wav", "aa.wav")]


def test_a_mix_its_tracks_and_a_lower_copy_of_a_take_are_a_set_without_a_label():
    take = {"header": None, "samples": 960_123}
    names = ("270319_004_Tr2.WAV", "270319_004_D.WAV", "270319_004_Tr1.WAV", "270319_004.WAV")
    files = [track(name, channels=1 if "Tr" in name else 2, **take) for name in names]
    others = [track("270319_005.WAV", **take), track("270319_006_Tr1.WAV", **take), track("270319_007_D.WAV", **take)]
    [found] = find_sets([*files, *others])
    assert found.keys == tuple(names[n] for n in (3, 2, 0, 1))
    assert "same label" not in found.reason
    # One that is a sample longer is no track of it; nor are parts that a limit cut to one length.
    longer = [track("T_LR.wav", channels=2, **take), track("T_Tr1.wav", header=None, samples=960_124)]
    assert find_sets(longer) == []
    assert find_sets([track(f"270319_004_000{n}.WAV", channels=2, **take) for n in (1, 2)]) == []


def test_takes_that_only_look_like_tracks_are_no_set():
    assert find_sets([track("REC_07.wav", header=Fraction(0)), track("REC_08.wav", header=Fraction(0))]) == []
    assert find_sets([track("REC_07.wav"), track("REC_08.wav", header=HOUR + 60)]) == []
    assert find_sets([track("REC_07.wav"), track("REC_08.wav", samples=480_001)]) == []
    assert find_sets([named("37_01_1.wav", "37", "01", "1", channels=2), named("37_01_2.wav", "37", "01", "2")]) == []
    # Twice the same track is a doubled file, not a set.
    assert find_sets([named("37_01_1.wav", "37", "01", "1"), named("37_01_1b.wav", "37", "01", "1")]) == []
