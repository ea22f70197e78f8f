"""Values as JSON: whole, with a version, and refused in words where they are not what was written."""

import json
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.errors import KeptError
from vesk.core.facts import FACTS, Facts
from vesk.core.heard import HEARD, Heard, HeardBreak, HeardRun, LtcHeard
from vesk.core.kinds import Decision, Flaw, Kind
from vesk.core.sound.levels import SoundLevel
from vesk.core.sound.measurement import MEASUREMENT, Line, Measurement, TracePoint
from vesk.core.told import TOLD, Told

SOME = Facts(kind=Kind.SOUND, container="wav", duration=Fraction(1, 3), remarks=("the copy was cut short",))


def test_what_was_heard_is_kept_whole():
    ltc = LtcHeard(
        Fraction(24_000, 1001), False, Fraction(35, 3), "09:00:00:00", 12.5, "09:00:00:01", 1e-5, 0.1, 0.01, 99, 1,
        "00000000", (HeardRun(12.5, "09:00:00:01", "09:00:04:04", 99, 1),), (HeardBreak(1.5, "a", "b"),),
    )  # fmt: skip
    heard = Heard((SoundLevel(-3.0, -20.0, 0),), {1: ltc}, {0: -38.0}, {0: 0.2})
    assert HEARD.load(HEARD.dump(heard)) == heard
    assert heard.best_ltc() == (1, ltc)


def test_what_older_versions_wrote_reads_as_it_was_meant():
    older = {name: value for name, value in FACTS.fields(SOME).items() if name != "flaws"}
    assert FACTS.load(older).flaws == (Flaw.CUT_SHORT,)
    assert TOLD.load({"scene": "31A", "put": "yes"}) == Told(scene="31A", by_person=True)


@pytest.mark.parametrize(
    ("change", "why"),
    [({"version": 99}, "a later version"), ({"kind": "smell"}, "kind"), ({"duration": "soon"}, "duration")],
)
def test_what_cannot_be_is_refused_with_what_and_why(change, why):
    with pytest.raises(KeptError, match=why) as told:
        FACTS.load({**FACTS.dump(SOME), **change})
    assert "Facts" in str(told.value)
    assert "No recording is harmed" in str(told.value)


fractions = st.builds(Fraction, st.integers(-(10**12), 10**12), st.integers(1, 10**9))
texts = st.text(st.characters(blacklist_categories=["Cs"]), max_size=20)
floats = st.floats(-1e6, 1e6, allow_nan=False)


@given(
    st.builds(
        Facts, kind=st.sampled_from(Kind), container=texts, duration=fractions, fps=st.none() | fractions,
        frames=st.none() | st.integers(0, 10**9), time_reference=st.none() | st.integers(0, 2**63 - 1),
        scene=texts, track_names=st.lists(texts, max_size=3).map(tuple), circled=st.booleans(),
        origins=st.dictionaries(texts, texts, max_size=3), flaws=st.lists(st.sampled_from(Flaw), max_size=2).map(tuple),
    )
)  # fmt: skip
def test_whatever_a_file_says_comes_back_through_json_as_it_was(facts):
    assert FACTS.load(json.loads(json.dumps(FACTS.dump(facts)))) == facts


@given(st.lists(st.builds(TracePoint, floats, floats, floats, agrees=st.booleans()), max_size=5), floats, floats)
def test_a_trace_comes_back_as_finely_as_it_is_shown(points, offset, ppm):
    line = Line(10.0, offset, ppm, 1e-5, 0.1, covariance=((1e-9, 0.0), (0.0, 1e-12)), places=((0.0, 1.0),))
    found = Measurement(Decision.MATCHED, "", line, trace=tuple(points))
    again = MEASUREMENT.load(json.loads(json.dumps(MEASUREMENT.dump(found))))
    assert again.line == line
    assert len(again.trace) == len(points)
    for one, other in zip(again.trace, points, strict=True):
        assert one.offset_s == pytest.approx(other.offset_s, abs=1e-9)
        assert one.agrees == other.agrees
    assert MEASUREMENT.load(MEASUREMENT.dump(again)) == again  # and no further from it the next time


@pytest.mark.parametrize("values", [{}, {"kind": "sound"}, {"kind": None, "container": 3, "duration": "1/0"}])
def test_a_value_that_is_damaged_is_told_and_never_half_read(values):
    with pytest.raises(KeptError):
        FACTS.load(values)
