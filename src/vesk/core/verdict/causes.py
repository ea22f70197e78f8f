"""The verdict: what is wrong with a pairing and why, with the figures that led to it."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.conform.correction import Correction, Errors, errors
from vesk.core.sound.measurement import AMBIGUOUS, REFUSED, Measurement
from vesk.core.timemap import TimeMap
from vesk.core.tolerance import Tolerance
from vesk.core.verdict.words import duration, how_late, signed

WITHIN = "within tolerance"
WHOLE_FRAME = "whole-frame offset"
SLIP = "sub-frame slip"
DRIFT = "free-running drift"
PULL = "pull-down or pull-up"
CLOCK = "clock set wrong"
OFFSET = "offset"
AMBIGUOUS_FIT = "ambiguous"
NO_SOUND = "no common sound"

_DRIFT_LIMIT_PPM = 300.0  # beyond this no free-running crystal is likely
_PULL_PPM = 1000.0
_CLOCK_S = 5.0


@dataclass(frozen=True, slots=True)
class Verdict:
    """A cause and its sentences.

    Attributes
    ----------
    cause : str
        One of the causes of this module.
    text : str
        What is so, with direction and figures.
    unless : str
        What would have to be true for it to be wrong.
    brief : str
        A few words for a ledger.
    holds : bool
        Whether head, middle and tail are within tolerance as laid now.
    """

    cause: str
    text: str
    unless: str
    brief: str
    holds: bool


@dataclass(frozen=True, slots=True)
class Names:
    """Whom the sentence speaks of: the tags of the two sources."""

    picture: str
    sound: str


def give_verdict(
    found: Measurement,
    laid: TimeMap,
    *,
    names: Names,
    fps: Fraction,
    tolerance: Tolerance,
    late_s: float = 0.0,
    proposal: Correction | None = None,
    timecode_offset: Fraction | None = None,
) -> Verdict:
    """Decide the cause of a pairing's error as it is laid now, and say it.

    Parameters
    ----------
    found : Measurement
        What sound said.
    laid : TimeMap
        Where the sound sits now, by timecode or after corrections.
    names : Names
        Tags of the sources.
    fps : Fraction
        Of the picture.
    tolerance : Tolerance
        The day's.
    late_s : float
        How late the camera is known to hear, seconds.
    proposal : Correction, optional
        What is proposed; its remaining error is told.
    timecode_offset : Fraction, optional
        Where the proposal starts from.
    """
    if found.decision == REFUSED or found.line is None:
        return Verdict(
            NO_SOUND,
            f"No common sound: {found.reason}.",
            "unless the two share sound too faint, too short or too far from the timecode to be heard here",
            f"no common sound with {names.sound}",
            holds=False,
        )
    if found.decision == AMBIGUOUS:
        return Verdict(
            AMBIGUOUS_FIT,
            f"Ambiguous: {found.reason}; the second reaches {found.runner_up_ratio or 0:.0%} of the first.",
            "unless one of the two places is known to be the right take",
            "fits at two places",
            holds=False,
        )
    points = (found.head_s, found.middle_s, found.tail_s)
    error = errors(laid, found.line, points, late_s=late_s)
    cause = _cause(found, error, laid, fps, tolerance)
    text = _sentence(cause, found, error, laid, names, fps)
    if proposal is not None and timecode_offset is not None and cause != WITHIN:
        text += " " + _mend(proposal, timecode_offset, found, points, fps, late_s)
    brief = _brief(cause, found, laid, names)
    return Verdict(cause, text, _unless(cause, names), brief, holds=cause == WITHIN)


def _brief(cause: str, found: Measurement, laid: TimeMap, names: Names) -> str:
    if cause in {DRIFT, PULL}:
        ppm = _left_ppm(found, laid)
        return f"{names.picture} runs {abs(ppm):.1f} ppm {'slow' if ppm > 0 else 'fast'} against {names.sound}"
    return cause


def _drift_s(found: Measurement, laid: TimeMap) -> float:
    """Return how much later the sound is at the tail than at the head, seconds, as laid."""
    line = found.line
    if line is None:
        return 0.0
    error = errors(laid, line, (found.head_s, found.middle_s, found.tail_s))
    return error.tail_s - error.head_s


def _cause(found: Measurement, error: Errors, laid: TimeMap, fps: Fraction, tolerance: Tolerance) -> str:
    limit = float(tolerance.seconds(fps))
    if tolerance.holds(error.all, fps):
        return WITHIN
    left_ppm = _left_ppm(found, laid)
    if abs(_drift_s(found, laid)) > limit:
        near_pull = abs(abs(left_ppm) - _PULL_PPM) < _DRIFT_LIMIT_PPM / 2
        return PULL if near_pull else DRIFT
    if abs(error.middle_s) > _CLOCK_S:
        return CLOCK
    frames = error.middle_s * float(fps)
    whole = round(frames)
    band = found.line.band_at(found.middle_s) * float(fps) if found.line else 0.0
    if whole and abs(frames - whole) <= max(0.1, 2 * band):
        return WHOLE_FRAME
    return SLIP if abs(frames) < 1 else OFFSET


def _left_ppm(found: Measurement, laid: TimeMap) -> float:
    """Return the rate error that the laid map leaves, ppm; positive gets later."""
    if found.line is None:
        return 0.0
    return found.line.ppm - float(laid.ppm)


def _sentence(cause: str, found: Measurement, error: Errors, laid: TimeMap, names: Names, fps: Fraction) -> str:
    if cause == WITHIN:
        worst = max(error.all, key=abs)
        place = how_late(worst, fps)
        return (
            f"In sync: the sound is {place} at worst"
            if place != "in place"
            else "In sync: the sound is in place at head, middle and tail"
        ) + f" ({signed(worst * 1000, 1)} ms)."
    if cause in {DRIFT, PULL}:
        ppm = _left_ppm(found, laid)
        span = duration(found.tail_s - found.head_s)
        kind = "about 0.1 %, a pull-down or pull-up" if cause == PULL else f"{abs(ppm):.1f} ppm"
        return (
            f"Sound is {how_late(error.head_s, fps)} at the head and {how_late(error.tail_s, fps)} at the tail: "
            f"{names.picture}'s clock runs {kind} {'slow' if ppm > 0 else 'fast'} against {names.sound} "
            f"over {span}."
        )
    if cause == CLOCK:
        return (
            f"Sound is {duration(error.middle_s)} {'late' if error.middle_s > 0 else 'early'} by its timecode: "
            f"a clock was set wrong on {names.picture} or {names.sound}."
        )
    kinds = {
        WHOLE_FRAME: "a whole-frame offset",
        SLIP: "a sub-frame slip",
        OFFSET: "a fixed offset",
    }
    return (
        f"Sound is {how_late(error.middle_s, fps)} ({signed(error.middle_s * 1000, 1)} ms) from head to tail: "
        f"{kinds[cause]} between {names.picture} and {names.sound}."
    )


def _mend(
    proposal: Correction,
    timecode_offset: Fraction,
    found: Measurement,
    points: tuple[float, float, float],
    fps: Fraction,
    late_s: float,
) -> str:
    if found.line is None:
        return ""
    left = errors(proposal.on(timecode_offset), found.line, points, late_s=late_s)
    worst = max(abs(value) for value in left.all) * float(fps)
    slip = float(proposal.slip)
    # Whoever reads it should not have to know the sign convention.
    amount = f"{signed(slip * 1000, 1)} ms" if abs(slip) < 10 else f"{signed(slip, 3)} s"
    rate = f" and a rate of {signed(float(proposal.ppm), 1)} ppm" if proposal.ppm else ""
    way = "later" if slip > 0 else "earlier"
    leaves = "leave" if rate else "leaves"
    return f"A slip of {amount} ({way}){rate} {leaves} {worst:.2f} frame at worst."


def _unless(cause: str, names: Names) -> str:
    return {
        WITHIN: f"unless {names.picture}'s scratch is itself late or early against its picture",
        DRIFT: "unless the drift is a jump that the windows missed: the trace would show a stair",
        PULL: "unless one file carries a wrong sample rate in its header",
        CLOCK: "unless the same sound was played or spoken twice",
        WHOLE_FRAME: f"unless {names.picture}'s scratch is itself a frame off against its picture",
        SLIP: f"unless {names.picture}'s microphone stood far off: 2.9 ms a metre sounds the same",
        OFFSET: f"unless {names.picture}'s scratch is itself late or early against its picture",
    }.get(cause, "")
