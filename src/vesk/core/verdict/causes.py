"""The verdict: what is wrong with a pairing and why, with the figures that led to it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction

from vesk.core.conform.correction import Correction, Errors, errors
from vesk.core.day.solution import Place
from vesk.core.kinds import AMBIGUOUS, REFUSED, Cause, Witness
from vesk.core.sound.measurement import Jump, Line, Measurement
from vesk.core.timemap import AnyMap, PiecewiseMap
from vesk.core.tolerance import Tolerance
from vesk.core.verdict import hypotheses
from vesk.core.verdict.along import says_along
from vesk.core.verdict.disagreement import Disagreement, placed_says
from vesk.core.verdict.hypotheses import (
    AMBIGUOUS_FIT,
    CLOCK,
    DELAY,
    DISAGREES,
    DISTANCE,
    DRIFT,
    DROP,
    JUMP,
    NO_SOUND,
    OFF_SPEED,
    OFFSET,
    PULL,
    RATE_LABEL,
    SAMPLE_RATE,
    SLIP,
    SPEED,
    WHOLE_FRAME,
    WITHIN,
    WRONG_PARTNER,
    Hypothesis,
    Setting,
)
from vesk.core.verdict.jumped import jumps_in_brief, jumps_told, scratch_told
from vesk.core.wording import duration, how_late, signed

__all__ = [
    "AMBIGUOUS_FIT", "CLOCK", "DELAY", "DISAGREES", "DISTANCE", "DRIFT", "DROP", "JUMP", "NO_SOUND", "OFFSET",
    "OFF_SPEED", "PULL", "RATE_LABEL", "SAMPLE_RATE", "SLIP", "SPEED", "WHOLE_FRAME", "WITHIN", "WRONG_PARTNER",
    "Names", "Setting", "Verdict", "give_verdict",
]  # fmt: skip

_RATE_CAUSES = {DRIFT, PULL, SAMPLE_RATE, SPEED}
_MOST_CONSIDERED = 4


@dataclass(frozen=True, slots=True)
class Verdict:
    """A cause and its sentences.

    Attributes
    ----------
    cause : Cause
    text : str
        What is so, with direction and figures.
    unless : str
        What would have to be true for it to be wrong.
    brief : str
        A few words for a ledger.
    holds : bool
        Whether head, middle and tail are within tolerance as laid now.
    considered : tuple of Hypothesis
        The likeliest explanations that were weighed, best first.
    """

    cause: Cause
    text: str
    unless: str
    brief: str
    holds: bool
    considered: tuple[Hypothesis, ...] = ()


@dataclass(frozen=True, slots=True)
class Names:
    """Whom the sentence speaks of: the tags of the two sources."""

    picture: str
    sound: str


def give_verdict(
    found: Measurement,
    laid: AnyMap,
    *,
    names: Names,
    fps: Fraction,
    tolerance: Tolerance,
    late_s: float = 0.0,
    proposal: Correction | None = None,
    timecode_offset: Fraction | None = None,
    setting: Setting | None = None,
    placed: Place | None = None,
    disagrees: Disagreement | None = None,
    of_scratch: tuple[Jump, ...] = (),
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
        Picture frames a second.
    tolerance : Tolerance
        The day's.
    late_s : float
        How late the camera is known to hear, seconds.
    proposal : Correction, optional
        What is proposed; its remaining error is told.
    timecode_offset : Fraction, optional
        Where the proposal starts from.
    setting : Setting, optional
        What else is known; its rate, tolerance and span are filled in here.
    placed : Place, optional
        Where clocks or claps place what no sound does; `found` then says the same.
    disagrees : Disagreement, optional
        Evidence that cannot be true together: then nothing holds by itself.
    of_scratch : tuple of Jump
        Steps that the picture's own scratch made, as itself shows or others say: they are not in `found`'s line.
    """
    known = setting or Setting(float(fps), 0.0, 0.0)
    if known.off_speed:
        text = f"Off-speed picture: {known.off_speed}. Its playback is no real time, so no sound can lie along it."
        return Verdict(OFF_SPEED, text, "unless it was recorded at the rate it plays at", "off-speed", holds=False)
    if found.decision == REFUSED or found.line is None or known.better:
        return _nothing(found, names, known)
    if found.decision == AMBIGUOUS or known.rival:
        return _ambiguous(found, known)
    limit = float(tolerance.seconds(fps))
    known = replace(known, fps=float(fps), tolerance_s=limit, span_s=found.tail_s - found.head_s)
    points = (found.head_s, found.middle_s, found.tail_s)
    error = errors(laid, found.line, points, late_s=late_s)
    cause, considered = _cause(found.line, found, error, laid, known, holds=tolerance.holds(error.all, fps))
    text = _sentence(cause, considered, found.line, error, _Told(found, laid, names, fps, known))
    if proposal is not None and timecode_offset is not None and cause != WITHIN:
        text += " " + _mend(proposal, timecode_offset, found, points, fps, late_s)
    if found.line.jumps and cause != JUMP:  # a recording that lost samples is told of, whatever it comes to
        come_to = "; that is mended" if isinstance(laid, PiecewiseMap) else "; that stays within what is let pass"
        told = jumps_told(found.line.jumps, known.sample_rate)
        text += f" {names.sound} {told}{come_to if cause == WITHIN else ''}."
    if of_scratch:
        text += f" {scratch_told(of_scratch, names.picture, known.sample_rate)}."
    if along := says_along(found.line, names.picture, names.sound, known.sample_rate):
        text += " " + along
    brief = _brief(cause, considered, found.line, laid, names, known)
    if disagrees is not None:
        mend = "" if proposal is None or timecode_offset is None else _mend(
            proposal, timecode_offset, found, points, fps, late_s
        )  # fmt: skip
        return Verdict(
            DISAGREES, f"{disagrees.says(names.picture, names.sound, fps)} {mend}".strip(),
            disagrees.settled_by(names.picture), disagrees.brief(names.picture, fps), holds=False,
            considered=considered[:_MOST_CONSIDERED],
        )  # fmt: skip
    verdict = Verdict(cause, text, _unless(cause, names), brief, cause == WITHIN, considered[:_MOST_CONSIDERED])
    if placed is None:
        return _either(verdict, found.line, limit)
    return _placed(verdict, placed, names.picture, found.reason, fps=fps, limit_s=limit)


def _either(verdict: Verdict, line: Line, limit_s: float) -> Verdict:
    """Hold nothing that a step in a pause may put out: a person hears which of the two it was."""
    steps = [one for one in line.unsure if abs(one.step_s) > limit_s]
    if not steps or verdict.cause != WITHIN:
        return verdict
    brief = f"moved or jumped at {duration(max(steps, key=lambda one: abs(one.step_s)).at_s)}: listen to it"
    unless = "unless whoever speaks stands elsewhere after the pause"
    return replace(verdict, cause=JUMP, unless=unless, brief=brief, holds=False)


def _placed(verdict: Verdict, placed: Place, picture: str, reason: str, *, fps: Fraction, limit_s: float) -> Verdict:
    """Say what a place without sound rests on; one less exact than what is let pass is looked at by a person."""
    text = f"{placed_says(placed, picture, reason)} {verdict.text}"
    band = 1.96 * placed.se_s
    if band <= limit_s or placed.by == Witness.PERSON or verdict.cause != WITHIN:
        return replace(verdict, text=text)
    brief = f"placed within \N{PLUS-MINUS SIGN}{band * float(fps):.2f} f: look at it"
    return replace(verdict, text=text, brief=brief, holds=False)


def _ambiguous(found: Measurement, known: Setting) -> Verdict:
    if known.rival:
        return Verdict(
            AMBIGUOUS_FIT,
            f"Ambiguous: {known.rival} fits the same moments about as well, and one device cannot have recorded both: "
            "a shared playback, or another take of the same lines.",
            "unless slate, timecode or a clap says which of the two it is",
            f"fits {known.rival} as well",
            holds=False,
        )
    return Verdict(
        AMBIGUOUS_FIT,
        f"Ambiguous: {found.reason}.",
        "unless slate, timecode or a clap says which of the two it is",
        "ambiguous: listen to it",
        holds=False,
    )


def _nothing(found: Measurement, names: Names, known: Setting) -> Verdict:
    if known.better:
        why = found.reason or "what is common here fits there better"
        return Verdict(
            WRONG_PARTNER,
            f"Wrong partner: this picture's sound is in {known.better}, not here ({why}).",
            f"unless {known.better} is itself another take of the same lines",
            f"belongs to {known.better}",
            holds=False,
        )
    return Verdict(
        NO_SOUND,
        f"No common sound: {found.reason}.",
        "unless the two share sound too faint, too short or too far from the timecode to be heard here",
        f"no common sound with {names.sound}",
        holds=False,
    )


def _left_ppm(line: Line, laid: AnyMap) -> float:
    """Return the rate error that the laid map leaves, ppm; positive gets later."""
    return line.ppm - float(laid.ppm)


def _cause(
    line: Line, found: Measurement, error: Errors, laid: AnyMap, known: Setting, *, holds: bool
) -> tuple[Cause, tuple[Hypothesis, ...]]:
    """Weigh every hypothesis; the one that explains what leaves the tolerance names the cause."""
    ppm = _left_ppm(line, laid)
    by_rate = hypotheses.rates(ppm, line.se_ppm, known)
    by_level = hypotheses.levels(error.middle_s, line.standard_error_at(found.middle_s), known)
    if holds:
        return WITHIN, (by_level[0], by_rate[0])
    if not isinstance(laid, PiecewiseMap) and any(found.head_s < jump.at_s < found.tail_s for jump in line.jumps):
        jump = Hypothesis(JUMP, f"{len(line.jumps)} found in the trace", 0.0)
        return JUMP, (jump, by_rate[0], by_level[0])
    drifts = abs(ppm) * 1e-6 * known.span_s > known.tolerance_s
    if drifts:
        rated = [one for one in by_rate if one.cause != WITHIN]
        return rated[0].cause, tuple(rated)
    level = [one for one in by_level if one.cause != WITHIN]
    return level[0].cause, tuple(level)


def _brief(
    cause: Cause, considered: tuple[Hypothesis, ...], line: Line, laid: AnyMap, names: Names, known: Setting
) -> str:
    ppm = _left_ppm(line, laid)
    if cause in {DRIFT, PULL}:
        return f"{names.picture} runs {abs(ppm):.1f} ppm {'slow' if ppm > 0 else 'fast'} against {names.sound}"
    if cause == JUMP:
        return jumps_in_brief(line.jumps, names.sound, known.sample_rate)
    if cause in {SAMPLE_RATE, SPEED, CLOCK, DISTANCE}:
        return f"{cause}: {considered[0].expected}"
    return cause


@dataclass(frozen=True, slots=True)
class _Told:
    """What a sentence is made from."""

    found: Measurement
    laid: AnyMap
    names: Names
    fps: Fraction
    known: Setting


def _sentence(cause: Cause, considered: tuple[Hypothesis, ...], line: Line, error: Errors, told: _Told) -> str:
    names, fps, found = told.names, told.fps, told.found
    ends = f"Sound is {how_late(error.head_s, fps)} at the head and {how_late(error.tail_s, fps)} at the tail"
    if cause == WITHIN:
        worst = max(error.all, key=abs)
        place = how_late(worst, fps)
        return (
            f"In sync: the sound is {place} at worst"
            if place != "in place"
            else "In sync: the sound is in place at head, middle and tail"
        ) + f" ({signed(worst * 1000, 1)} ms)."
    if cause in _RATE_CAUSES:
        ppm = _left_ppm(line, told.laid)
        span = duration(found.tail_s - found.head_s)
        kind = f"{abs(ppm):.1f} ppm" if cause == DRIFT else f"{abs(ppm) / 1e4:.3f} %"
        why = "" if cause == DRIFT else f" ({_rate_words(cause, considered[0])})"
        way = "slow" if ppm > 0 else "fast"
        return f"{ends}: {names.picture}'s clock runs {kind} {way} against {names.sound} over {span}{why}."
    if cause == JUMP:
        return f"{ends}: {names.sound} {jumps_told(line.jumps, told.known.sample_rate)}."
    lead = f"Sound is {_far(error.middle_s)} by its timecode"
    if cause == CLOCK:
        return f"{lead}: a clock was set wrong on {names.picture} or {names.sound} ({considered[0].expected})."
    if cause in {DROP, RATE_LABEL}:
        kind = (
            "drop-frame labels were read as non-drop, or the reverse"
            if cause == DROP
            else "labels were counted at the wrong rate"
        )
        return f"{lead}: {kind} ({considered[0].expected})."
    return _fixed(cause, considered, error, told)


def _fixed(cause: Cause, considered: tuple[Hypothesis, ...], error: Errors, told: _Told) -> str:
    names = told.names
    lead = f"Sound is {how_late(error.middle_s, told.fps)} ({signed(error.middle_s * 1000, 1)} ms) from head to tail"
    between = f"between {names.picture} and {names.sound}"
    tail = {
        WHOLE_FRAME: f"a whole-frame offset {between}",
        SLIP: f"a sub-frame slip {between}",
        OFFSET: f"a fixed offset {between}",
        DELAY: f"{names.picture}'s own scratch is off its picture ({considered[0].expected}), as claps show",
        DISTANCE: f"{names.picture}'s microphone hears late ({considered[0].expected}); its claps are seen in place",
    }[cause]
    return f"{lead}: {tail}."


def _rate_words(cause: Cause, best: Hypothesis) -> str:
    return "a pull-down or pull-up" if cause == PULL else best.expected


def _far(seconds: float) -> str:
    way = "late" if seconds > 0 else "early"
    return f"{duration(seconds)} {way}" if abs(seconds) >= 10 else f"{abs(seconds):.3f} s {way}"


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
    lead = f"A slip of {amount} ({'later' if slip > 0 else 'earlier'})" if abs(slip) >= 5e-5 else "No slip"
    rate = f" and a rate of {signed(float(proposal.ppm), 1)} ppm" if proposal.ppm else ""
    mended = len(proposal.jumps)
    if mended:
        rate += f" and {'the jump' if mended == 1 else f'{mended} jumps'} mended"
    leaves = "leave" if rate else "leaves"
    return f"{lead}{rate} {leaves} {worst:.2f} frame at worst."


def _unless(cause: Cause, names: Names) -> str:
    return {
        WITHIN: f"unless {names.picture}'s scratch is itself late or early against its picture",
        DRIFT: "unless a header names the wrong sample rate by as little",
        PULL: "unless one file carries a wrong sample rate in its header",
        SAMPLE_RATE: "unless the machine really ran at that speed: the voices would sound higher or lower",
        SPEED: "unless the sample rate is mislabelled by as much",
        JUMP: "unless two files were put together there with a gap or an overlap",
        CLOCK: "unless the same sound was played or spoken twice",
        DROP: "unless a clock was set wrong by as much",
        RATE_LABEL: "unless a clock was set wrong by as much",
        WHOLE_FRAME: f"unless {names.picture}'s scratch is itself a frame off against its picture",
        SLIP: f"unless {names.picture}'s microphone stood far off: 2.9 ms a metre sounds the same",
        OFFSET: f"unless {names.picture}'s scratch is itself late or early against its picture",
        DELAY: "unless the claps were read a frame off",
        DISTANCE: "unless the claps were read a frame off",
    }.get(cause, "")
