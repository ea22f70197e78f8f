"""iXML: written and read back whole, and harmless when it is not."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.facts import FACTS, Facts
from vesk.core.kinds import SOUND
from vesk.media import ixml

TEXT = st.text(st.characters(blacklist_categories=("Cs", "Cc")), max_size=20).map(str.strip)


@given(
    scene=TEXT, take=TEXT, note=TEXT, names=st.lists(TEXT, max_size=5), drop=st.booleans(), circled=st.booleans(),
    rate=st.sampled_from([None, Fraction(25), Fraction(24_000, 1001), Fraction(30_000, 1001)]),
    family=st.sampled_from([("", "", ""), ("F1", "2", "3")]),
)  # fmt: skip
def test_what_is_written_is_read(scene, take, note, names, drop, circled, rate, family):
    info = ixml.IXml(
        scene=scene, take=take, note=note, circled=circled, track_names=tuple(names), timecode_rate=rate,
        drop=drop and rate is not None, timestamp=1 << 33, timestamp_rate=48_000,
            family=family[0], family_index=family[1], family_size=family[2],
    )  # fmt: skip
    assert ixml.parse(ixml.build(info, sample_rate=48_000, time_reference=1 << 33)) == info


@pytest.mark.parametrize(
    "text",
    [
        "", "   ", "not xml", "<BWFXML>", '<!DOCTYPE x [<!ENTITY a "aaaa">]><BWFXML>&a;</BWFXML>',
        '<BWFXML><!ENTITY b SYSTEM "file:///etc/passwd"></BWFXML>',
    ],
)  # fmt: skip
def test_what_is_none_or_could_harm_is_passed_over(text):
    assert ixml.parse(text) is None


@pytest.mark.parametrize("written", ["25/0", "fast", "1/3", "-25"])
def test_a_rate_that_cannot_be_is_not_invented(written):
    text = f"<BWFXML><SPEED><TIMECODE_RATE>{written}</TIMECODE_RATE></SPEED></BWFXML>"
    assert ixml.parse(text).timecode_rate is None


def test_tracks_come_by_their_channel_and_odd_ones_do_no_harm():
    text = (
        "<BWFXML><TRACK_LIST><TRACK><CHANNEL_INDEX>2</CHANNEL_INDEX><NAME>boom</NAME></TRACK>"
        "<TRACK><CHANNEL_INDEX>1</CHANNEL_INDEX><NAME>mix</NAME></TRACK>"
        "<TRACK><CHANNEL_INDEX>x</CHANNEL_INDEX><NAME>odd</NAME></TRACK></TRACK_LIST></BWFXML>"
    )
    assert ixml.parse(text).track_names == ("mix", "boom")


@pytest.mark.parametrize(
    ("places", "names"),
    [
        ((2, 1, 3), ("mix", "boom", "lav")),  # the mix is the recorder's last track, and lies first in the file
        ((1, 3, 4), ("boom", "", "mix", "lav")),  # nothing is said of one that lies between
        ((1, 1, 2), ("boom", "mix", "lav")),  # that cannot be: the recorder's own order
    ],
)
def test_tracks_are_called_by_where_they_lie_in_the_file(places, names):
    tracks = "".join(
        f"<TRACK><CHANNEL_INDEX>{channel}</CHANNEL_INDEX><INTERLEAVE_INDEX>{place}</INTERLEAVE_INDEX>"
        f"<NAME>{name}</NAME></TRACK>"
        for channel, place, name in zip((1, 7, 8), places, ("boom", "mix", "lav"), strict=True)
    )
    assert ixml.parse(f"<BWFXML><TRACK_LIST>{tracks}</TRACK_LIST></BWFXML>").track_names == names


def test_facts_survive_the_database():
    facts = Facts(
        kind=SOUND, container="wav", duration=Fraction(1, 3), timecode_rate=Fraction(24_000, 1001), drop=False,
        track_names=("a", "b"), remarks=("odd",), family="F", family_index="1", origins={"scene": "iXML"},
    )  # fmt: skip
    assert FACTS.load(FACTS.dump(facts)) == facts
    older = FACTS.fields(facts)
    for name in ("family", "family_index", "family_size"):  # as written before these were known
        del older[name]
    assert FACTS.load(older).family == ""
