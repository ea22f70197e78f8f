"""Which device made each file, by the same rules for a folder and for a day that has sources already."""

from fractions import Fraction

from vesk.core.facts import Facts
from vesk.core.intake.devices import Proposed
from vesk.core.intake.naming import DEFAULT_PATTERNS
from vesk.dailies.sources import hints_of, propose_sources


def camera(**more):
    both = {"kind": "picture", "container": "mov", "duration": Fraction(9), "sample_rate": 48_000, "channels": 1}
    return Facts(**{**both, **more})


def recorder(**more):
    return camera(**{"kind": "sound", "container": "wav", **more})


def tags(files, known=()):
    given, sources = propose_sources(list(files.items()), DEFAULT_PATTERNS, known)
    return {path: sources[index].tag for path, index in zip(files, given, strict=True)}


def test_one_flat_folder_is_parted_by_kind_reel_and_device():
    assert tags({
        "A001_C001.mov": camera(), "B001_C001.mov": camera(), "A001_C002.mov": camera(), "60_01.wav": recorder(),
        "x1.mov": camera(camera="deck"), "y1.wav": recorder(originator="engine room"),
    }) == {
        "A001_C001.mov": "A", "B001_C001.mov": "B", "A001_C002.mov": "A", "60_01.wav": "S1", "x1.mov": "A",
        "y1.wav": "S1",
    }  # fmt: skip


def test_a_further_card_joins_its_camera_and_a_tag_is_given_once():
    known = [Proposed("A006 main", "picture", [hints_of("A006 main/A006_001.mov", camera(), DEFAULT_PATTERNS)], "A")]
    files = {"A007/A007_001.mov": camera(), "card 3/clip1.mov": camera(), "card 4/clip1.mov": camera()}
    given = tags(files, known)
    assert given["A007/A007_001.mov"] == "A"
    assert len(set(given.values())) == 3
    assert len(known) == 1  # what is there is not written to


def test_sound_that_a_camera_writes_beside_its_picture_is_no_recorder_whatever_its_label_counts_at():
    film, label = Fraction(24000, 1001), "10:00:00:00"
    picture = camera(
        channels=0, sample_rate=0, fps=film, timecode=label, timecode_rate=film, duration=Fraction(1001, 24)
    )
    sound = recorder(timecode=label, duration=Fraction(1001, 24), originator="deck")
    files = {"A/AUDIO/x0100.mxf": sound, "A/AUDIO/x0101.mxf": sound, "A/VIDEO/x01.mov": picture, "A/y.wav": sound}
    assert list(tags(files).values()) == ["A", "A", "A", "S1"]
