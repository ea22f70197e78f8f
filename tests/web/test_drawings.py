"""What pages draw and write: the chart of the day, waveforms, formats, progress, held against plain arithmetic."""

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.paper_day import paper_day, picture, sound

from vesk.actions.placing import Placed, place_recordings
from vesk.core.conform.correction import Correction
from vesk.core.pairing.judgement import Judgement, Side
from vesk.core.sound.measurement import Jump, Line, Measurement
from vesk.core.timecode import FrameRate
from vesk.dailies.located import Located
from vesk.media import cache
from vesk.media.peaks import PeaksBuilder
from vesk.store import days, progress, recordings
from vesk.store.tables import Pairing
from vesk.web.day.chart import IDLE, LEFT, RIGHT, WIDTH, Axis, chart
from vesk.web.recording.waveform import HEIGHT, waveforms
from vesk.web.shared import formats
from vesk.web.shared.progress_view import progress_line
from vesk.web.shared.trace_plot import trace_plot

PAL = FrameRate(Fraction(25))


@given(st.lists(st.tuples(st.integers(0, 80_000), st.integers(1, 4000)), min_size=1, max_size=25))
def test_the_axis_keeps_order_folds_only_idle_time_and_stays_on_the_page(spans):
    spans = [(Fraction(a), Fraction(a + n)) for a, n in spans]
    axis = Axis(spans)
    moments = sorted({moment for span in spans for moment in span})
    places = [axis.x(moment) for moment in moments]
    assert places == sorted(places)
    assert places[0] == pytest.approx(LEFT)
    assert places[-1] <= WIDTH - RIGHT + 0.01
    for (_, stop), (start, _) in zip(axis.runs[:-1], axis.runs[1:], strict=True):
        assert start - stop >= IDLE
    # Seconds inside a run are all as wide.
    widths = [(axis.x(b) - axis.x(a)) / float(b - a) for a, b in axis.runs]
    assert max(widths) - min(widths) < 1e-6 * max(widths) + 1e-9


def test_recordings_lie_on_their_lanes_and_nothing_without_a_time_is_drawn(db):
    day = paper_day(db, {"A/a.mov": picture("09:00:00:00"), "E/e.mov": picture(""), "S1/s.wav": sound("08:59:58:00")})
    rows = recordings.of_day(db, day.id)
    for row in rows:
        row.start = {"a.mov": Fraction(32_400), "s.wav": Fraction(32_398)}.get(row.name)
    placed = place_recordings(rows, [], PAL)
    drawn = chart(days.sources(db, day.id), rows, PAL, {}, placed, {})
    by_tag = {lane.source.tag: lane.blocks for lane in drawn.lanes}
    assert {tag: len(blocks) for tag, blocks in by_tag.items()} == {"A": 1, "E": 0, "S1": 1}
    assert by_tag["S1"][0].x < by_tag["A"][0].x
    assert "09:00:00:00" in by_tag["A"][0].title
    assert chart(days.sources(db, day.id), rows, PAL, {}, {}, {}) is None
    # Sound that joins a recording without a clock to one that has a clock says where it lies, from one to the next.
    names = {row.name: row for row in rows}
    paired = [Pairing(day_id=day.id, picture_id=names["e.mov"].id, sound_id=names["s.wav"].id, offset=Fraction(-3))]
    placed = place_recordings(rows, paired, PAL)
    assert placed[names["e.mov"].id] == Placed(Fraction(32_401), Fraction(20), by_sound=True)


def test_gaps_overlaps_and_idle_hours_name_the_files_that_make_them(db):
    starts = {"a1.mov": 32_400, "a2.mov": 32_440, "a3.mov": 32_455, "b.mov": 40_000}
    day = paper_day(db, {f"A/{name}": picture("09:00:00:00", 20) for name in starts})
    rows = recordings.of_day(db, day.id)
    for row in rows:
        row.start = Fraction(starts[row.name])
    drawn = chart(days.sources(db, day.id), rows, PAL, {}, place_recordings(rows, [], PAL), {}, 4 * WIDTH)
    (lane,) = drawn.lanes
    assert [(one.says, one.overlap) for one in lane.between] == [
        ("A did not roll for 20.0 s, from a1.mov to a2.mov", False),
        ("a3.mov begins 5.0 s before a2.mov ends: one device cannot record both", True),
        ("A did not roll for 2 h 5 min, from a3.mov to b.mov", False),
    ]
    assert drawn.folds[0][2].endswith("from a3.mov to b.mov")
    assert lane.says == "A, A: 4 recordings, a1.mov to b.mov"
    assert drawn.width == 4 * WIDTH


def test_a_waveform_is_drawn_from_its_peaks_each_channel_to_its_own_height(tmp_path):
    facts = sound("09:00:00:00", 2, channels=2, track_names=("mix", "boom"))
    store = cache.entry_of(tmp_path, "ab" * 16)
    store.folder.mkdir(parents=True)
    place = Located(tmp_path / "a.wav", facts, store)
    assert waveforms(place) == []  # not listened to yet
    loud = np.sin(np.arange(96_000) / 10).astype(np.float32)
    builder = PeaksBuilder(2, store.peaks)
    builder.add(np.stack([0.5 * loud, 0 * loud]))
    builder.finish()
    mix, boom = waveforms(place)
    assert (mix.name, boom.name, boom.peak_db) == ("mix", "boom", None)
    assert mix.peak_db == pytest.approx(-6.02, abs=0.05)
    heights = [float(point.split(",")[1]) for point in mix.points.split()]
    assert min(heights) == pytest.approx(0.02 * HEIGHT, abs=0.2)
    assert max(heights) == pytest.approx(0.98 * HEIGHT, abs=0.2)


@pytest.mark.parametrize(
    ("said", "text"),
    [
        (formats.frames(0.0528, Fraction(25)), "+1.32 f"), (formats.frames(None, Fraction(25)), "—"),
        (formats.ms(-0.055), "−55.0 ms"), (formats.ms(3600.5), "+3600.500 s"), (formats.fine_ms(1e-9), "+0.00 ms"),
        (formats.samples(0.5, 48_000), "+24\N{NARROW NO-BREAK SPACE}000"), (formats.samples(None, 48_000), "—"),
        (formats.plus_minus(0.0001, Fraction(25)), "0.0025"), (formats.plus_minus(0.04, Fraction(25)), "1.0"),
        (formats.bytes_(1_234_567_890), "1.23 GB"), (formats.bytes_(2_500_000), "2.5 MB"),
        (formats.bytes_(99), "0.1 kB"),
        (formats.rate("30000/1001"), "29.97"), (formats.rate(None), ""),
        (formats.label(None, PAL), "—"), (formats.label(Fraction(3600), PAL), "01:00:00:00"),
    ],
)  # fmt: skip
def test_a_number_is_written_one_way(said, text):
    assert said == text


def test_progress_counts_the_work_since_nothing_was_open(db):
    day = paper_day(db, {"A/a.mov": picture("09:00:00:00")})
    progress.open_one(db, day_id=day.id, kind="listen", subject_id=1, what="listening to a.mov")
    old = progress.find(db, "listen", 1)
    progress.set_state(db, old, "done")
    db.commit()
    quiet = progress_line(db, day.id)
    assert (quiet.open, quiet.text, quiet.percent) == (False, "", 100)
    for number, what in ((2, "measuring a with b"), (3, "measuring c with d"), (3, "measuring c with d")):
        progress.open_one(db, day_id=day.id, kind="measure", subject_id=number, what=what)
    one, two = (progress.find(db, "measure", number) for number in (2, 3))
    line = progress_line(db, day.id)
    assert (line.open, line.done, line.total) == (True, 0, 2)
    assert line.text == "waiting for a worker: measuring a with b"
    progress.set_state(db, one, "failed", problem="it is gone.")
    progress.set_state(db, two, "running", done=3, total=9)
    db.commit()
    line = progress_line(db, day.id)
    assert line.text == "measuring c with d (3 of 9)"
    assert line.failed == ("measuring a with b: it is gone.",)
    assert (line.done, line.total) == (1, 2)
    assert line.stamp != quiet.stamp
    assert progress.stop_open(db, day.id) == 1


def test_a_mend_that_lies_beside_its_jump_is_drawn_where_it_is():
    """The correction was made on an earlier measurement: between jump and mend the sound is off, and nowhere else."""
    line = Line(30.0, -2.0, 0.0, 1e-6, 0.01, (Jump(30.0, 0.036, 29.99, 30.01, 1e-6),))
    found = Measurement("matched", "", line, 1.0, 30.0, 59.0)
    mended = Correction(Fraction(0), Fraction(0), Fraction(0), ((Fraction(3201, 100), Fraction(36, 1000)),))
    side = Side("A", Fraction(60))
    judged = Judgement(side, side, found, Fraction(-2), Fraction(25), 48_000, correction=mended)
    plot = trace_plot(judged, width=580, height=100, left=0, pad=0)
    off = [abs(y - plot.zero) > 1 for _, y in plot.line]
    assert any(off)
    # Where one end of a stroke is off, its other end is no more than some pixels away, at ten a second.
    for (x, _), (after, _), one, other in zip(plot.line[:-1], plot.line[1:], off[:-1], off[1:], strict=True):
        assert after >= x
        assert not (one or other) or 289 < x <= after < 291
    exact = replace(judged, correction=replace(mended, jumps=((Fraction(32), Fraction(36, 1000)),)))
    plot = trace_plot(exact, width=580, height=100, left=0, pad=0)
    assert all(abs(y - plot.zero) < 1 for _, y in plot.line)  # what was lost sounds nowhere, and lies nowhere wrong
