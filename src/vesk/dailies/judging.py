"""Pairs of files judged: measured, held against their clocks and against their rivals."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import partial
from pathlib import Path

from vesk.core.conform.correction import Correction
from vesk.core.day.day import Match
from vesk.core.day.evidence import match_of
from vesk.core.day.recording import Known
from vesk.core.day.solution import Solution
from vesk.core.day.solve import solve
from vesk.core.errors import MediaError
from vesk.core.facts import Facts
from vesk.core.kinds import HEADER, MATCHED, REFUSED
from vesk.core.pairing.by_timecode import Proposal
from vesk.core.pairing.in_order import rivalries_in_order
from vesk.core.pairing.judgement import Judgement, Side
from vesk.core.pairing.rivals import Claim, displaced, parted, to_compare
from vesk.core.sound.measurement import Measurement, refused
from vesk.core.timecode import FrameRate, wrap_day
from vesk.core.timemap import exact_seconds
from vesk.core.verdict.causes import Verdict
from vesk.dailies import measuring
from vesk.dailies.located import Located
from vesk.dailies.solving import claps_of, day_of
from vesk.dailies.sync_points import SyncPoints
from vesk.media.guarded import bordered

_USUAL_RATE = 48_000


@dataclass(frozen=True, slots=True)
class Measured:
    """A pair of a folder's recordings, measured: their names, the seconds that clocks say they share, the judgement."""

    picture: str
    sound: str
    overlap: Fraction
    found: Measurement
    judged: Judgement

    @property
    def fps(self) -> Fraction:
        """Picture frames a second."""
        return self.judged.fps

    @property
    def verdict(self) -> Verdict:
        """The cause and its sentence."""
        verdict = self.judged.verdict
        if verdict is None:
            raise AssertionError("what was measured has a verdict")
        return verdict

    @property
    def afterwards(self) -> Verdict:
        """The same once what is proposed is done."""
        return replace(self.judged, correction=self.correction or Correction()).verdict or self.verdict

    @property
    def correction(self) -> Correction | None:
        """What is proposed."""
        return self.judged.proposal


def measure_pair(
    found: Mapping[str, Located], known: Mapping[str, Known], proposal: Proposal, day: FrameRate
) -> Measured:
    """Measure a pair that is proposed; a file that cannot be read costs only this."""
    picture, sound = found[proposal.picture], found[proposal.sound]
    try:
        measure = partial(measuring.measure_by_sound, picture, sound, proposal_s=float(proposal.offset))
        result = bordered(picture.path, measure)
    except MediaError as error:
        result = refused(str(error))
    return judge(known, proposal, result, day)


def judge(known: Mapping[str, Known], proposal: Proposal, result: Measurement, day: FrameRate) -> Measured:
    """Return a measured pair with what is known of both."""
    picture, sound = known[proposal.picture], known[proposal.sound]
    judged = Judgement(
        _side(picture), _side(sound), result, proposal.offset, picture.item.facts.fps or day.fps,
        sound.item.facts.sample_rate or _USUAL_RATE,
    )  # fmt: skip
    return Measured(proposal.picture, proposal.sound, proposal.overlap, result, judged)


def _side(one: Known) -> Side:
    return Side(one.item.source, one.item.facts.duration, one.start, one.clock, one.off_speed)


def with_rivals(
    found: Mapping[str, Located], known: Mapping[str, Known], measured: Sequence[Measured]
) -> list[Measured]:
    """Judge again what claims moments that another file of the same device claims as well."""
    claims = [
        Claim(
            str(n), one.picture, one.sound, one.judged.picture.tag, one.judged.sound.tag, one.found.head_s,
            one.found.tail_s, one.found.line.offset_s, -one.found.log10_false_alarm, one.judged.picture.start,
            one.judged.sound.start, is_open=one.found.decision != MATCHED,
        )
        for n, one in enumerate(measured)
        if one.found.line is not None and one.found.decision != REFUSED
    ]  # fmt: skip
    two = {
        shared.pair
        for shared in to_compare(claims)
        if measuring.same_moment(found[shared.one], found[shared.other], shared.offset_s)
    }
    kept = list(measured)
    rivals = rivalries_in_order(claims, two, {key: key for key in known})
    by_label = _all_by_label(measured)
    other_days = {key: one.other_day for key, one in known.items() if one.other_day}
    for key, rivalry in (rivals | displaced(by_label, claims, rivals, other_days)).items():
        one, said = measured[int(key)], ""
        if rivalry.other:
            other = measured[int(rivalry.other)]
            name = other.sound if other.sound != one.sound else other.picture
            said = f"{known[name].item.source} · {Path(name).name}"
        kept[int(key)] = replace(one, judged=replace(one.judged, rivalry=rivalry, rival=said))
    return kept


def _all_by_label(measured: Sequence[Measured]) -> list[Claim]:
    return [
        _by_label(str(n), one)
        for n, one in enumerate(measured)
        if one.found.decision == REFUSED and not one.found.unheard
    ]


def _by_label(key: str, one: Measured) -> Claim:
    """Return what labels alone lay, and sound refused, as a claim."""
    picture, sound, offset = one.judged.picture, one.judged.sound, float(one.judged.offset)
    return Claim(
        key, one.picture, one.sound, picture.tag, sound.tag, max(0.0, offset),
        min(float(picture.duration), offset + float(sound.duration)), offset, 0.0, picture.start, sound.start,
    )  # fmt: skip


def matches_of(measured: Sequence[Measured]) -> list[Match]:
    """Return what was measured as the day's solution takes it; a pair with a rival is not sure.

    Parameters
    ----------
    measured : sequence of Measured
        Judged with their rivals.
    """
    matches = []
    for one in measured:
        match = match_of(one.picture, one.sound, one.found)
        rivalry = one.judged.rivalry
        if match is not None and (rivalry is None or rivalry.settled is None):
            matches.append(replace(match, sure=match.sure and rivalry is None))
    return matches


def with_solution(
    known: Mapping[str, Known],
    heard: Mapping[str, SyncPoints],
    measured: Sequence[Measured],
    rate: FrameRate,
    late: Mapping[str, float],
    across: Sequence[Match] = (),
) -> tuple[list[Measured], Solution]:
    """Judge again with what the day as a whole says of each pair, and with the claps of both.

    Parameters
    ----------
    known : mapping of str to Known
    heard : mapping of str to SyncPoints
        Claps of recordings.
    measured : sequence of Measured
        Judged with their rivals.
    rate : FrameRate
        The day's.
    late : mapping of str to float
        How late devices hear, seconds, by tag, as a person says.
    across : sequence of Match
        Recordings of one kind, measured against each other.
    """
    found = solve(day_of(known, heard, matches_of(measured), rate, late, across))
    own = {str(n): one.judged.rivalry for n, one in enumerate(measured) if one.judged.rivalry is not None}
    left_open = {
        str(n): (one.picture, one.sound)
        for n, one in enumerate(measured)
        if one.found.decision != REFUSED and (one.found.decision != MATCHED or str(n) in own)
    }
    by_clocks = parted(_all_by_label(measured), left_open, found.apart, own)
    kept = []
    for n, one in enumerate(measured):
        place = found.places.get((one.picture, one.sound))
        claps = claps_of(heard.get(one.picture), heard.get(one.sound))
        said = late.get(one.judged.picture.tag, 0.0) - late.get(one.judged.sound.tag, 0.0)
        rivalry = by_clocks.get(str(n), one.judged.rivalry)
        rival = "" if str(n) in by_clocks else one.judged.rival
        judged = replace(one.judged, place=place, claps=claps, known_late_s=said, rivalry=rivalry, rival=rival)
        kept.append(replace(one, judged=judged))
    return kept, found


def timecode_offset(picture: Facts, sound: Facts, rate: FrameRate) -> Fraction | None:
    """Return where timecode lays a sound on a picture, whether or not the two then meet; None where one has none."""
    starts = [facts.span("", "", "", rate).start_on(rate) for facts in (picture, sound)]
    if starts[0] is None or starts[1] is None:
        return None
    return wrap_day(starts[1] - starts[0], rate.day)


def judge_two(found: Measurement, picture: Located, sound: Located, rate: FrameRate) -> Judgement:
    """Judge two files by themselves: against their timecode where both have it, else against the place found."""
    base = timecode_offset(picture.facts, sound.facts, rate)
    if base is None:
        base = exact_seconds(found.line.offset_s) if found.line else Fraction(0)
    sides = [
        Side(one.path.stem, one.facts.duration, one.facts.span("", "", "", rate).start_on(rate), HEADER)
        for one in (picture, sound)
    ]
    fps = picture.facts.fps or rate.fps
    return Judgement(sides[0], sides[1], found, base, fps, sound.facts.sample_rate or _USUAL_RATE)
