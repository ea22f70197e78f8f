"""Pairing by timecode: exact offsets, several partners, and a reason for everyone left alone."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.kinds import PICTURE, SOUND
from vesk.core.pairing.by_timecode import MIN_OVERLAP, Span, pair_by_timecode
from vesk.core.timecode import FrameRate, Timecode

PAL = FrameRate(Fraction(25))
FILM_VIDEO = FrameRate(Fraction(24000, 1001))


def span(key, kind, start, seconds, rate=PAL):
    at = Timecode.parse(start, rate).seconds if isinstance(start, str) else start
    return Span(key, f"{key}.file", key[0].upper(), kind, at, rate, Fraction(seconds))


def test_one_sound_over_two_takes_and_one_take_over_two_sounds():
    spans = [
        span("a1", PICTURE, "10:00:00:00", 20),
        span("a2", PICTURE, "10:00:40:00", 60),
        span("s1", SOUND, "09:59:58:00", 70),
        span("s2", SOUND, "10:01:09:12", 60),
    ]
    proposals, alone = pair_by_timecode(spans, PAL)
    assert [(p.picture, p.sound, p.offset) for p in proposals] == [
        ("a1", "s1", -2),
        ("a2", "s1", -42),
        ("a2", "s2", Fraction(2987, 100) - Fraction(39, 100)),
    ]
    assert not alone


def test_an_offset_across_midnight_is_small():
    rate = FrameRate(Fraction(30000, 1001), drop=True)
    spans = [span("a", PICTURE, "23:59:50;00", 30, rate), span("s", SOUND, "00:00:05;00", 10, rate)]
    (proposal,), _ = pair_by_timecode(spans, rate)
    # 15 s of label without a skipped number: 450 frames, and ten minutes' boundary skips none.
    assert proposal.offset == Fraction(450 * 1001, 30000)


def test_a_recorder_that_counts_at_24_meets_a_camera_at_23_976_by_label():
    camera = span("a", PICTURE, "10:00:00:00", 30, FILM_VIDEO)
    recorder = span("s", SOUND, "10:00:02:00", 30, FrameRate(Fraction(24)))
    (proposal,), _ = pair_by_timecode([camera, recorder], FILM_VIDEO)
    assert proposal.offset == Fraction(2002, 1000)  # two seconds of label last 2.002 s of real time


def test_every_recording_left_alone_says_why():
    spans = [
        span("a1", PICTURE, "11:48:02:21", 14),
        span("a2", PICTURE, None, 14),
        span("s1", SOUND, "12:05:00:00", 30),
        span("s2", SOUND, "11:48:16:12", 30),
    ]
    proposals, alone = pair_by_timecode(spans, PAL)
    reasons = {item.key: item.reason for item in alone}
    assert not proposals
    assert "touches it for only 0.36 s" in reasons["a1"]
    assert "no timecode" in reasons["a2"]
    assert "no camera was rolling 12:05:00:00 to 12:05:30:00" in reasons["s1"]
    assert "17 min before" in reasons["s1"]


def test_alone_in_the_world():
    _, alone = pair_by_timecode([span("a", PICTURE, "10:00:00:00", 14)], PAL)
    assert "no recorder has timecode" in alone[0].reason


starts = st.integers(0, PAL.frames_per_day - 1)


@given(st.lists(st.tuples(starts, st.integers(1, 4000), st.booleans()), min_size=2, max_size=12))
def test_pairs_are_exactly_those_that_overlap(recordings):
    """Against laying every recording out frame by frame round the clock."""
    spans = [
        span(str(n), SOUND if is_sound else PICTURE, Fraction(start, 25), Fraction(length, 25))
        for n, (start, length, is_sound) in enumerate(recordings)
    ]
    proposals, alone = pair_by_timecode(spans, PAL)
    day = PAL.frames_per_day
    want = set()
    for n, (start, length, is_sound) in enumerate(recordings):
        for m, (other, other_length, other_sound) in enumerate(recordings):
            if is_sound or not other_sound:
                continue
            shared = {(start + k) % day for k in range(length)} & {(other + k) % day for k in range(other_length)}
            if Fraction(len(shared), 25) >= MIN_OVERLAP:
                want.add((str(n), str(m)))
    assert {(p.picture, p.sound) for p in proposals} == want
    assert {item.key for item in alone} == {s.key for s in spans} - {key for pair in want for key in pair}


def test_unknown_rate_is_not_invented():
    with pytest.raises(Exception, match="Fraction"):
        FrameRate(25.0)
