"""What the commands print of a folder, or of two files, as plain JSON values."""

from __future__ import annotations

from dataclasses import asdict
from fractions import Fraction
from typing import Any

from vesk.cli.solution_json import solution_json
from vesk.core.conform.correction import Correction
from vesk.core.facts import FACTS
from vesk.core.kinds import MATCHED, RUN
from vesk.core.sound.measurement import Jump, Measurement
from vesk.core.verdict.causes import Verdict
from vesk.dailies.folder import Walked
from vesk.dailies.judging import Measured
from vesk.dailies.located import Located


def measurement_json(
    found: Measurement, fps: Fraction | None, verdict: Verdict | None = None, *, sample_rate: int = 48_000
) -> dict[str, Any]:
    """Return what `vesk measure` prints; samples are the sound's, at `sample_rate`."""
    line = found.line
    return {
        "decision": found.decision,
        "reason": found.reason,
        "offset_s": line.offset_s if line else None,
        "offset_frames": line.offset_s * float(fps) if line and fps else None,
        "ppm": line.ppm if line else None,
        "jumps": [_jump_json(jump, sample_rate) for jump in (line.jumps if line else ())],
        "unsure_jumps": [_jump_json(jump, sample_rate) for jump in (line.unsure if line else ())],
        "moves": [{"at_s": at, "later_s": later} for at, later in (line.moves if line else ())],
        "bends": [
            {"at_s": at, "above_s": above, "standard_error_s": error}
            for at, above, error in (line.bends if line else ())
        ],
        "places": [{"later_s": later, "share": share} for later, share in (line.places if line else ())],
        "echoes": [
            {"of": "picture" if late > 0 else "sound", "later_s": abs(late)} for late in (line.echoes if line else ())
        ],
        "hall": ("picture" if line.hall > 0 else "sound") if line and line.hall else None,
        "uncertainty_s": line.band_at(found.head_s) if line else None,
        "standard_error_s": line.standard_error_at(found.middle_s) if line else None,
        "standard_error_ppm": line.se_ppm if line else None,
        "log10_false_alarm": found.log10_false_alarm,
        "head_s": found.head_s,
        "middle_s": found.middle_s,
        "tail_s": found.tail_s,
        "share": found.share,
        "channel": found.channel + 1,
        "picture_channel": found.picture_channel + 1,
        "other_channels": [
            {"channel": one.channel + 1, "strength": one.strength, "later_s": one.later_s} for one in found.others
        ],
        "polarity": found.polarity,
        "candidates": [asdict(one) for one in found.candidates],
        "runner_up_s": found.runner_up_s,
        "runner_up_ratio": found.runner_up_ratio,
        "verdict": verdict_json(verdict) if verdict else None,
        "trace": [asdict(point) for point in found.trace],
    }


def _jump_json(jump: Jump, sample_rate: int) -> dict[str, Any]:
    return {
        "at_s": jump.at_s, "samples": jump.samples(sample_rate), "step_s": jump.step_s, "low_s": jump.low_s,
        "high_s": jump.high_s, "standard_error_s": jump.se_step_s, "gained": jump.gained,
    }  # fmt: skip


def verdict_json(verdict: Verdict) -> dict[str, Any]:
    """Return a verdict with the hypotheses that were weighed."""
    return {
        "cause": verdict.cause,
        "text": verdict.text,
        "unless": verdict.unless,
        "considered": [asdict(one) for one in verdict.considered],
    }


_PRINTED = (
    "offset_s", "offset_frames", "ppm", "jumps", "unsure_jumps", "moves", "bends", "places", "echoes", "hall",
    "uncertainty_s", "decision", "log10_false_alarm",
)  # fmt: skip


def pairing_json(one: Measured, sample_rate: int) -> dict[str, Any]:
    """Return one pairing as `vesk pair` prints it."""
    values = measurement_json(one.found, one.fps, one.verdict, sample_rate=sample_rate)
    line = one.found.line
    correction = one.correction
    return {
        "picture": one.picture,
        "sound": one.sound,
        "status": "measured" if line is not None and one.found.decision == MATCHED else "proposed",
        "timecode_offset": str(one.judged.offset),
        "overlap_s": float(one.overlap),
        "place_s": _place_s(one),
        **{key: values[key] for key in _PRINTED},
        "evidence": [asdict(item) for item in one.judged.evidence],
        "verdict": values["verdict"],
        "correction": correction_json(correction) if correction else None,
    }


def _place_s(one: Measured) -> float | None:
    """Return the picture time at which sound sample 0 belongs, on picture; None where nothing says so."""
    line = one.judged.line
    return None if line is None else line.offset_s - one.judged.late_s


def correction_json(correction: Correction) -> dict[str, Any]:
    """Return a correction; its jumps are where the sound goes on, in its own seconds, and by how much later."""
    return {
        "slip_s": float(correction.slip),
        "ppm": float(correction.ppm),
        "jumps": [{"sound_s": float(at), "step_s": float(step)} for at, step in correction.jumps],
    }


def recording_json(name: str, one: Located, source: str) -> dict[str, Any]:
    """Return one recording as `vesk pair` prints it."""
    made_of = [
        {"path": str(file.name), "starts_s": starts} for file, starts in zip(one.files, _starts(one), strict=True)
    ]
    return {
        "path": name,
        "source": source,
        "kind": one.facts.kind,
        "facts": FACTS.fields(one.facts),
        **({"files": made_of} if one.members else {}),
    }


def _starts(one: Located) -> list[float]:
    """Return where each file of a recording begins on it, seconds: tracks together, parts one after the other."""
    if not one.members:
        return [0.0]
    begins, made = Fraction(0), []
    for member in one.members:
        made += [float(begins) + inside for inside in _starts(member)]
        begins += member.facts.duration if one.how == RUN else 0
    return made


def walk_json(walked: Walked) -> dict[str, Any]:
    """Return what `vesk pair` prints."""
    solved = solution_json(walked.solution, walked.known.clocks) if walked.solution else {}
    return {
        "fps": str(walked.rate.fps),
        "drop": walked.rate.drop,
        **solved,
        "recordings": [recording_json(name, one, walked.sources[name]) for name, one in walked.recordings.items()],
        "pairings": [pairing_json(one, walked.recordings[one.sound].facts.sample_rate) for one in walked.pairings],
        "unpaired": [{"path": item.key, "reason": item.reason} for item in walked.unpaired],
        "unreadable": [{"path": one.path, "reason": one.says} for one in walked.unusable],
    }
