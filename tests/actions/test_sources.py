"""What a person says of sources, and of the paper that came with them: tags, rates, clocks, patterns, reports."""

from fractions import Fraction

import pytest
from tests.conftest import shown
from tests.paper_day import paper_day, picture, recording, sound, source

from vesk.actions import clocks, facts, naming, pairing, reports, returning, sources, undoing
from vesk.actions.known import known_of_day, patterns_of
from vesk.core.errors import NamingError, RefusedError, ReportError, StaleError, VeskError
from vesk.core.intake.devices import DeviceHints, same_device
from vesk.core.kinds import PICTURE, SOUND, Kind, ReportKind
from vesk.core.timecode import FrameRate
from vesk.store import days, journal
from vesk.store import reports as kept
from vesk.store.tables import Source


@pytest.fixture
def day(db):
    return paper_day(
        db,
        {
            "A/A001_001.mov": picture("09:00:00:00", scene="7", take="1"),
            "A/A001_002.mov": picture("14:00:00:00"),
            "S1/7_01.wav": sound("08:59:58:00", scene="7", take="1"),
            "S1/7_02.wav": sound("13:59:57:00"),
            "S2/X_01.wav": sound("10:00:00:00", timecode_rate=None),
        },
    )


def start(db, day, name):
    known = known_of_day(db, day).recordings
    return known[str(recording(db, day, name).id)].start


def revise(db, settings, row, **changed):
    values = {"tag": row.tag, "position": row.position, "rate": row.rate, **changed}
    return sources.revise(db, settings, row.id, version=row.version, **values)


def test_a_tag_is_changed_once_and_never_taken_twice(db, settings, day):
    row = source(db, day, "A")
    revise(db, settings, row, tag="K")
    assert {one.tag for one in days.sources(db, day.id)} == {"K", "S1", "S2"}
    assert set(known_of_day(db, day).clocks) == {"K", "S1", "S2"}
    with pytest.raises(RefusedError, match="another source already"):
        revise(db, settings, source(db, day, "K"), tag="S1")
    with pytest.raises(RefusedError, match="a letter and up to three"):
        revise(db, settings, source(db, day, "K"), tag="7 K")
    with pytest.raises(StaleError):
        sources.revise(db, settings, row.id, version=1, tag="L", position=0, rate="")


def test_lanes_lie_in_the_order_a_person_gives(db, settings, day):
    revise(db, settings, source(db, day, "S1"), position=2)
    revise(db, settings, source(db, day, "S2"), position=1)
    assert [one.tag for one in days.sources(db, day.id)] == ["A", "S2", "S1"]


def test_a_source_that_counts_at_another_rate_moves_on_the_day(db, settings, day):
    assert start(db, day, "X_01.wav") == 36_000
    revise(db, settings, source(db, day, "S2"), rate="23.976")
    known = known_of_day(db, day).recordings[str(recording(db, day, "X_01.wav").id)]
    # 10:00:00 counted at 25 is 36 000 s; as many samples at 23.976 are an hour's label of 3 603.6 s each.
    assert known.start == Fraction(36_000 * 1000, 1001)
    assert "counted at 23.976" in known.values["timecode"].origin
    with pytest.raises(RefusedError, match="frame rate"):
        revise(db, settings, source(db, day, "S2"), rate="17")


def test_another_clock_for_a_stretch_of_the_day(db, settings, day):
    row = source(db, day, "A")
    clocks.choose_period(db, settings, row.id, version=1, since="13:40", before="18:00:00", clock="none")
    assert start(db, day, "A001_001.mov") == 9 * 3600
    assert start(db, day, "A001_002.mov") is None
    pairing.pair_day(db, day)
    assert recording(db, day, "A001_002.mov").clock == "none"
    for since, before, clock, words in (
        ("25:00", "26:00", "none", "no time of day"),
        ("9", "10:00", "none", "no time of day"),
        ("10:00", "10:00:00", "none", "ends later"),
    ):
        with pytest.raises(RefusedError, match=words):
            clocks.choose_period(db, settings, row.id, version=2, since=since, before=before, clock=clock)
    with pytest.raises(StaleError):
        clocks.choose_period(db, settings, row.id, version=1, since="1:00", before="2:00", clock="none")
    (stretch,) = days.clock_periods(db, day.id)[row.id]
    clocks.end_period(db, settings, row.id, version=2, period_id=stretch.id)
    assert start(db, day, "A001_002.mov") == 14 * 3600


def test_a_stretch_may_pass_midnight_and_yields_to_what_was_said_of_one_file(db, settings, day):
    row = source(db, day, "A")
    clocks.choose_period(db, settings, row.id, version=1, since="22:00", before="09:30", clock="none")
    assert start(db, day, "A001_001.mov") is None
    assert start(db, day, "A001_002.mov") == 14 * 3600
    facts.put_right(db, settings, day, shown(recording(db, day, "A001_001.mov")), field="clock", value="header")
    assert start(db, day, "A001_001.mov") == 9 * 3600


def test_two_sources_become_one(db, settings, day):
    with pytest.raises(RefusedError, match="Choose the source"):
        sources.merge(db, settings, source(db, day, "S2").id, version=1, into="Q")
    with pytest.raises(RefusedError, match="camera"):
        sources.merge(db, settings, source(db, day, "S2").id, version=1, into="A")
    assert sources.merge(db, settings, source(db, day, "S2").id, version=1, into="S1") == 1
    assert [one.tag for one in days.sources(db, day.id)] == ["A", "S1"]
    assert "moved X_01.wav to source S1" in [row.what for row in journal.of_day(db, day.id)]


def test_what_cannot_serve_as_a_recorder_is_said_and_nothing_changes(db, settings):
    day = paper_day(db, {"D/D001_001.mov": picture("09:00:00:00", channels=0, sample_rate=0)})
    row = source(db, day, "D")
    with pytest.raises(RefusedError, match=r"D001_001\.mov: it has no sound"):
        sources.serve_as(db, settings, row.id, version=1, kind=Kind.SOUND)
    assert source(db, day, "D").kind == "picture"
    own = picture("10:00:00:00", 3, samples=144_100).as_sound()
    assert (own.kind, own.duration, own.fps, own.timecode_rate) == ("sound", Fraction(144_100, 48_000), None, 25)
    assert own.start(days.rate_of(day))[0] == 36_000
    assert own.as_sound() is own


def test_patterns_read_names_and_a_wrong_one_changes_nothing(db, settings, day):
    naming.set_patterns(db, settings, day.id, ["{roll}_{clip}", " {scene}_{take} ", ""], version=1)
    known = known_of_day(db, day).recordings
    value = known[str(recording(db, day, "7_02.wav").id)].values["take"]
    assert (value.value, value.origin) == ("02", "file name")
    with pytest.raises(NamingError, match="stands twice"):
        naming.set_patterns(db, settings, day.id, ["{take}_{take}"], version=2)
    assert day.patterns == ["{roll}_{clip}", "{scene}_{take}"]
    naming.set_patterns(db, settings, day.id, ["X_{take}"], version=2)
    known = known_of_day(db, day).recordings
    assert known[str(recording(db, day, "7_02.wav").id)].values["take"].value == ""
    assert known[str(recording(db, day, "X_01.wav").id)].values["take"].value == "01"
    naming.set_patterns(db, settings, day.id, [], version=3)
    assert patterns_of(day)[0] == "{roll}_{clip}"


REPORT = "file,scene,take,circled,note\n7_01.wav,7,2,x,wind\n7_02.wav,8,1,,\nlost.wav,9,1,,\n"


def test_a_report_fills_what_files_do_not_say_and_tells_what_does_not_fit(db, settings, day):
    row = reports.take_up(db, settings, day, name="r.csv", text=REPORT, kind=ReportKind.SOUND)
    known = known_of_day(db, day)
    one = known.recordings[str(recording(db, day, "7_02.wav").id)]
    assert one.values["scene"].value == "8"
    assert one.values["scene"].origin == "sound report r.csv, line 2"
    said = {(item.kind, item.says) for item in known.oddities}
    assert ("report and file disagree", "S1/7_01.wav: take 2 on the report, 1 in the file (r.csv)") in said
    assert ("on the report, no file", "r.csv: line 3, 9 / 1, lost.wav: no file is there") in said
    assert ("file, not on the report", "S2/X_01.wav: it does not stand on r.csv") in said
    # About one source alone, the other's files need not stand on it.
    reports.name_columns(db, settings, row.id, version=1, mapping=dict(row.mapping), kind=ReportKind.SOUND, tag="S1")
    assert "file, not on the report" not in {item.kind for item in known_of_day(db, day).oddities}
    pairing.pair_day(db, day)
    assert recording(db, day, "7_02.wav").told.scene == "8"
    told = recording(db, day, "7_01.wav").told
    assert (told.circled, told.note) == ("yes", "wind")
    reports.remove(db, settings, row.id, version=2)
    assert known_of_day(db, day).recordings[str(recording(db, day, "7_02.wav").id)].values["scene"].value == "7"


def test_columns_named_once_are_known_in_the_next_report_like_it(db, settings, day):
    with pytest.raises(ReportError, match=r"odd\.csv: No line of it"):
        reports.take_up(db, settings, day, name="odd.csv", text="a,b\n1,2\n", kind=ReportKind.SOUND)
    text = "take,Szene,file\n1,7,7_01.wav\n"
    row = reports.take_up(db, settings, day, name="one.csv", text=text, kind=ReportKind.SOUND)
    assert row.mapping == {"file": "file", "take": "take"}
    reports.name_columns(
        db, settings, row.id, version=1, mapping={**row.mapping, "scene": "Szene"}, kind=ReportKind.SOUND, tag=""
    )
    second = reports.take_up(db, settings, day, name="two.csv", text=text, kind=ReportKind.SOUND)
    assert second.mapping["scene"] == "Szene"
    with pytest.raises(StaleError, match="taken up already"):
        reports.take_up(db, settings, day, name="two.csv", text=text, kind=ReportKind.SOUND)
    for mapping, kind, tag, words in (
        ({"file": "gone"}, "sound", "", "not in the report"),
        ({"file": "file", "scene": "file"}, "sound", "", "one thing only"),
        ({"take": "take"}, "sound", "", "holds the file"),
        ({"file": "file"}, "sound", "A", "is a camera"),
        ({"file": "file"}, "sound", "Q", "no source Q"),
    ):
        with pytest.raises(RefusedError, match=words):
            reports.name_columns(db, settings, second.id, version=1, mapping=mapping, kind=ReportKind(kind), tag=tag)
    with pytest.raises(StaleError):
        reports.name_columns(db, settings, row.id, version=1, mapping={"file": "file"}, kind=ReportKind.SOUND, tag="")
    assert len(kept.of_day(db, day.id)) == 2


def test_a_device_that_comes_back_on_a_new_day_keeps_its_tag_and_its_name_and_two_that_look_alike_are_not_mixed_up():
    near = [DeviceHints("A006", PICTURE, "cam", "A")]
    like = [DeviceHints("S1", SOUND, "deck", "")]
    one, two = Source(tag="X", kind=PICTURE), Source(tag="Y", kind=PICTURE)
    decks = [(Source(tag=tag, kind=SOUND), like) for tag in ("S1", "S2")]
    known = [[(two, [DeviceHints("B", PICTURE, "cam", "B")]), (one, near), *decks], [(two, near)]]
    assert (
        returning.known_source(known, PICTURE, "A", [DeviceHints("A007", PICTURE, "cam", "A")]) is one
    )  # the nearest day
    assert returning.known_source(known, PICTURE, "C", [DeviceHints("C", PICTURE, "other", "C")]) is None
    assert returning.known_source(known, SOUND, "S2", like) is decks[1][0]
    assert returning.known_source(known, SOUND, "S3", like) is None  # of one make: which, nobody can say
    assert returning.known_source([], SOUND, "S1", like) is None
    assert not same_device(near, [DeviceHints("A006", PICTURE, "another", "A")])


def test_a_rate_that_a_label_lies_about_is_put_right_for_single_takes_and_undone(db, settings, day):
    """A camera was set anew after lunch: only its later takes count otherwise."""
    before, later = (recording(db, day, f"A001_00{n}.mov") for n in (1, 2))
    pairing.pair_day(db, day)
    db.commit()
    assert start(db, day, "A001_002.mov") == 14 * 3600
    facts.put_right(db, settings, day, shown(later), field="counts at", value="30")
    pairing.pair_day(db, day)
    db.commit()
    known = known_of_day(db, day).recordings
    clock = known[str(later.id)].values["timecode"]
    assert "counted at 30, as a person said" in clock.origin
    assert known[str(later.id)].own_rate == FrameRate.parse("30")
    assert known[str(before.id)].own_rate == FrameRate.parse("25")
    line = next(one for one in journal.of_day(db, day.id) if "counts at" in one.what)
    undoing.undo_line(db, settings, day, line.id)
    pairing.pair_day(db, day)
    assert known_of_day(db, day).recordings[str(later.id)].own_rate == FrameRate.parse("25")
    for value in ("31", "29.97 XX", "x" * 9):
        with pytest.raises(VeskError, match="frame rate"):
            facts.put_right(db, settings, day, shown(later), field="counts at", value=value)
        db.rollback()
