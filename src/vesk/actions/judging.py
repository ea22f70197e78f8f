"""What is said of two files, without a database: measured, judged against their clocks and against their rivals."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import partial
from pathlib import Path

from vesk.actions import measuring
from vesk.actions.located import Located
from vesk.core.conform.correction import Correction, propose
from vesk.core.errors import MediaError
from vesk.core.pairing.by_timecode import Proposal
from vesk.core.pairing.rivals import Claim, Rivalry, rivalries, to_compare
from vesk.core.sound.measurement import MATCHED, Measurement, refused
from vesk.core.timecode import FrameRate, wrap_day
from vesk.core.timemap import exact_seconds
from vesk.core.tolerance import Tolerance
from vesk.core.verdict.causes import Names, Setting, Verdict, give_verdict
from vesk.media.facts import Facts
from vesk.media.guarded import bordered


@dataclass(frozen=True, slots=True)
class Measured:
    """One pairing of a headless walk."""

    picture: str
    sound: str
    proposal: Proposal
    found: Measurement
    verdict: Verdict
    correction: Correction | None
    fps: Fraction


def measure_pair(found: dict[str, Located], tags: dict[str, str], proposal: Proposal) -> Measured:
    """Measure a pair that is proposed; a file that cannot be read costs only this."""
    picture, sound = found[proposal.picture], found[proposal.sound]
    try:
        measure = partial(measuring.measure_by_sound, picture, sound, proposal_s=float(proposal.offset))
        result = bordered(picture.path, measure)
    except MediaError as error:
        result = refused(str(error))
    return judged(found, tags, proposal, result)


def judged(
    found: dict[str, Located],
    tags: dict[str, str],
    proposal: Proposal,
    result: Measurement,
    rivalry: Rivalry | None = None,
    rival: str = "",
) -> Measured:
    """Give the verdict on a measured pair, and what is proposed; nothing is where another claims the same moments."""
    picture, sound = found[proposal.picture], found[proposal.sound]
    fps = picture.facts.fps or Fraction(25)
    tolerance = Tolerance()
    points = (result.head_s, result.middle_s, result.tail_s)
    correction = None
    if result.line is not None and result.decision == MATCHED and rivalry is None:
        correction = propose(proposal.offset, result.line, points, fps=fps, tolerance=tolerance)
    verdict = give_verdict(
        result, Correction().on(proposal.offset), names=Names(tags[proposal.picture], tags[proposal.sound]), fps=fps,
        tolerance=tolerance, proposal=correction, timecode_offset=proposal.offset,
        setting=replace(
            setting_of(picture.facts, sound.facts, fps),
            better=rival if rivalry and rivalry.better else "", rival=rival if rivalry and not rivalry.better else "",
        ),
    )  # fmt: skip
    return Measured(proposal.picture, proposal.sound, proposal, result, verdict, correction, fps)


def with_rivals(
    found: dict[str, Located],
    tags: dict[str, str],
    measured: list[Measured],
    starts: Mapping[str, Fraction | None],
) -> list[Measured]:
    """Judge again what claims moments that another file of the same device claims as well."""
    claims = [
        Claim(
            str(n), one.picture, one.sound, tags[one.picture], tags[one.sound], one.found.head_s, one.found.tail_s,
            one.found.line.offset_s, -one.found.log10_false_alarm, starts[one.picture], starts[one.sound],
        )
        for n, one in enumerate(measured)
        if one.found.line is not None and one.found.decision == MATCHED
    ]  # fmt: skip
    two = {
        shared.pair
        for shared in to_compare(claims)
        if measuring.same_moment(found[shared.one], found[shared.other], shared.offset_s)
    }
    kept = list(measured)
    for key, rivalry in rivalries(claims, two).items():
        one, other = measured[int(key)], measured[int(rivalry.other)]
        name = other.sound if other.sound != one.sound else other.picture
        kept[int(key)] = judged(found, tags, one.proposal, one.found, rivalry, f"{tags[name]} · {Path(name).name}")
    return kept


def timecode_offset(picture: Facts, sound: Facts, rate: FrameRate) -> Fraction | None:
    """Return where timecode lays a sound on a picture, whether or not the two then meet; None where one has none."""
    starts = [facts.span("", "", "", rate).start_on(rate) for facts in (picture, sound)]
    if starts[0] is None or starts[1] is None:
        return None
    return wrap_day(starts[1] - starts[0], rate.day)


def verdict_of(
    found: Measurement, picture: Located, sound: Located, timecode_offset: Fraction | None, rate: FrameRate
) -> Verdict:
    """Give a verdict on two files: against their timecode where they have it, else against the place found."""
    fps = picture.facts.fps or rate.fps
    tolerance, correction = Tolerance(), None
    base = timecode_offset
    if base is None:
        base = exact_seconds(found.line.offset_s) if found.line else Fraction(0)
    if found.line is not None and found.decision == MATCHED:
        points = (found.head_s, found.middle_s, found.tail_s)
        correction = propose(base, found.line, points, fps=fps, tolerance=tolerance)
    return give_verdict(
        found, Correction().on(base), names=Names(picture.path.stem, sound.path.stem), fps=fps, tolerance=tolerance,
        proposal=correction, timecode_offset=base, setting=setting_of(picture.facts, sound.facts, fps),
    )  # fmt: skip


def setting_of(picture: Facts, sound: Facts, fps: Fraction) -> Setting:
    """Return what is known of two files besides their sound."""
    start, rate = picture.start(FrameRate(fps))
    hours = None if start is None or sound.time_reference is None else float(start * rate.nominal / rate.fps) / 3600
    return Setting(float(fps), 0.0, 0.0, label_hours=hours, sample_rate=sound.sample_rate or 48_000)
