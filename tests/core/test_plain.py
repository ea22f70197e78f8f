"""Values as JSON: whole, with a version, and refused in words where they are not what was written."""

from fractions import Fraction

import pytest

from vesk.core.errors import KeptError
from vesk.core.facts import FACTS, Facts
from vesk.core.heard import HEARD, Heard, HeardBreak, HeardRun, LtcHeard
from vesk.core.kinds import Flaw, Kind
from vesk.core.sound.levels import SoundLevel
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
