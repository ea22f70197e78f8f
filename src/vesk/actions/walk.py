"""The walk without server or database, for scripts: probe, pair, measure, conform."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

from vesk.actions import delivering, measuring
from vesk.actions.intake import propose_tag
from vesk.actions.known import DayKnown, Item, know_day
from vesk.actions.located import Located, locate
from vesk.actions.searching import find_partners
from vesk.actions.turnover import write_report
from vesk.core.conform.correction import Correction, propose
from vesk.core.errors import MediaError, VeskError
from vesk.core.pairing.by_timecode import Proposal, Unpaired, pair_by_timecode
from vesk.core.pairing.evidence import SOUND, TIMECODE, Evidence
from vesk.core.sound.measurement import MATCHED, Measurement, refused
from vesk.core.timecode import FrameRate, wrap_day
from vesk.core.timemap import exact_seconds
from vesk.core.tolerance import Tolerance
from vesk.core.verdict.causes import Names, Setting, Verdict, give_verdict
from vesk.media import cache, scan
from vesk.media.facts import PICTURE, Facts

Tell = Callable[[str], None]


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


@dataclass(frozen=True, slots=True)
class Walked:
    """A folder, paired and measured."""

    recordings: dict[str, Located]
    sources: dict[str, str]
    pairings: list[Measured]
    unpaired: list[Unpaired]
    unreadable: list[tuple[str, str]]
    rate: FrameRate
    known: DayKnown


def walk_folder(
    folder: Path,
    cache_folder: Path,
    *,
    rate: FrameRate | None = None,
    tell: Tell = lambda _: None,
    measure: bool = True,
) -> Walked:
    """Pair a folder's recordings by timecode and measure every pairing by sound.

    Parameters
    ----------
    folder : Path
        Walked as at intake.
    cache_folder : Path
        Where features are kept between runs.
    rate : FrameRate, optional
        The day's; by default the one most pictures have.
    measure : bool
        Whether to measure the pairings; without, what is known is all that is wanted.
    """
    found: dict[str, Located] = {}
    unreadable: list[tuple[str, str]] = []
    root = folder.resolve()
    if not root.is_dir():
        raise MediaError(folder, "there is no such folder", "Look at the spelling.")
    for item in scan.walk(root):
        name = str(item.path.relative_to(root)) if root in item.path.parents else str(item.path)
        try:
            if item.problem:
                raise MediaError(name, item.problem)
            found[name] = locate(item.path, cache_folder)
        except MediaError as error:
            unreadable.append((name, f"{error.reason}. {error.advice}".strip()))
    rate = rate or _usual_rate(list(found.values()))
    tags = _tags(found)
    items = []
    for name, one in found.items():
        tell(f"listening to {name}")
        heard = _listened(one, unreadable, name)
        items.append(Item(name, name, tags[name], one.facts, heard, one.kept.folder.name, one.path.stat().st_size))
    known = know_day(items, rate, unreadable=unreadable)
    proposals, alone = pair_by_timecode([one.span() for one in known.recordings.values() if not one.aside], rate)
    alone += [Unpaired(name, one.aside) for name, one in known.recordings.items() if one.aside]
    measured = []
    for proposal in proposals if measure else ():
        tell(f"measuring {proposal.picture} with {proposal.sound}")
        measured.append(_measure(found, tags, proposal))
    if measure:
        by_sound = list(_by_sound(found, tags, known, tell))
        measured += by_sound
        joined = {key for one in by_sound for key in (one.picture, one.sound)}
        alone = [item for item in alone if item.key not in joined]
    return Walked(found, tags, measured, alone, unreadable, rate, known)


def _by_sound(found: dict[str, Located], tags: dict[str, str], known: DayKnown, tell: Tell) -> Iterator[Measured]:
    """Find partners of recordings without a clock, each pair once."""
    seen: set[tuple[str, str]] = set()
    for name, one in known.recordings.items():
        if one.start is not None or one.aside or not one.item.facts.channels:
            continue
        tell(f"searching for the sound of {name}")
        others = {
            key: found[key]
            for key, other in known.recordings.items()
            if other.item.facts.kind != one.item.facts.kind and not other.aside
        }
        for pair in find_partners(name, found[name], others):
            if (pair.picture, pair.sound) in seen or pair.found.line is None:
                continue
            seen.add((pair.picture, pair.sound))
            offset = exact_seconds(pair.found.line.offset_s)
            overlap = exact_seconds(pair.found.tail_s - pair.found.head_s)
            proposal = Proposal(pair.picture, pair.sound, offset, overlap)
            yield _judged(found, tags, proposal, pair.found)


def _listened(one: Located, unreadable: list[tuple[str, str]], name: str) -> dict[str, Any]:
    """Return what is heard on a file's channels; where its sound cannot be decoded, say so and go on."""
    if not one.facts.channels:
        return {}
    try:
        one.ensure_heard()
    except MediaError as error:
        unreadable.append((name, f"{error.reason}. {error.advice}".strip()))
        return {}
    return cache.heard(one.kept)


def _usual_rate(recordings: list[Located]) -> FrameRate:
    rates = Counter((one.facts.fps, one.facts.drop) for one in recordings if one.facts.fps)
    if not rates:
        return FrameRate(Fraction(25))
    fps, drop = rates.most_common(1)[0][0]
    return FrameRate(fps or Fraction(25), drop)


def _tags(found: dict[str, Located]) -> dict[str, str]:
    by_folder: dict[tuple[str, str], str] = {}
    for name, one in found.items():
        parts = Path(name).parts
        key = (parts[0] if len(parts) > 1 else ".", one.facts.kind)
        if key not in by_folder:
            by_folder[key] = propose_tag(key[0], one.facts.kind, set(by_folder.values()))
    return {
        name: by_folder[Path(name).parts[0] if len(Path(name).parts) > 1 else ".", one.facts.kind]
        for name, one in found.items()
    }


def _measure(found: dict[str, Located], tags: dict[str, str], proposal: Proposal) -> Measured:
    picture, sound = found[proposal.picture], found[proposal.sound]
    try:
        result = measuring.measure_by_sound(picture, sound, proposal_s=float(proposal.offset))
    except MediaError as error:
        result = refused(str(error))
    return _judged(found, tags, proposal, result)


def _judged(found: dict[str, Located], tags: dict[str, str], proposal: Proposal, result: Measurement) -> Measured:
    picture, sound = found[proposal.picture], found[proposal.sound]
    fps = picture.facts.fps or Fraction(25)
    tolerance = Tolerance()
    points = (result.head_s, result.middle_s, result.tail_s)
    correction = None
    if result.line is not None and result.decision == MATCHED:
        correction = propose(proposal.offset, result.line, points, fps=fps, tolerance=tolerance)
    verdict = give_verdict(
        result, Correction().on(proposal.offset), names=Names(tags[proposal.picture], tags[proposal.sound]), fps=fps,
        tolerance=tolerance, proposal=correction, timecode_offset=proposal.offset,
        setting=setting_of(picture.facts, sound.facts, fps),
    )  # fmt: skip
    return Measured(proposal.picture, proposal.sound, proposal, result, verdict, correction, fps)


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
        "jumps": [
            {
                "at_s": jump.at_s,
                "samples": jump.samples(sample_rate),
                "step_s": jump.step_s,
                "low_s": jump.low_s,
                "high_s": jump.high_s,
                "standard_error_s": jump.se_step_s,
            }
            for jump in (line.jumps if line else ())
        ],
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


def verdict_json(verdict: Verdict) -> dict[str, Any]:
    """Return a verdict with the hypotheses that were weighed."""
    return {
        "cause": verdict.cause,
        "text": verdict.text,
        "unless": verdict.unless,
        "considered": [asdict(one) for one in verdict.considered],
    }


_PRINTED = ("offset_s", "offset_frames", "ppm", "jumps", "uncertainty_s", "decision", "log10_false_alarm")


def pairing_json(one: Measured, sample_rate: int) -> dict[str, Any]:
    """Return one pairing as `vesk pair` prints it."""
    values = measurement_json(one.found, one.fps, one.verdict, sample_rate=sample_rate)
    line = one.found.line
    half = float(1 / one.fps) / 2
    evidence = [
        Evidence(TIMECODE, float(one.proposal.offset), half, "headers and time reference"),
        Evidence(
            SOUND,
            values["offset_s"],
            values["uncertainty_s"],
            one.found.reason or f"{one.found.share:.0%} of windows agree",
        ),
    ]
    correction = one.correction
    return {
        "picture": one.picture,
        "sound": one.sound,
        "status": "measured" if line is not None and one.found.decision == MATCHED else "proposed",
        "timecode_offset": str(one.proposal.offset),
        "overlap_s": float(one.proposal.overlap),
        **{key: values[key] for key in _PRINTED},
        "evidence": [asdict(item) for item in evidence],
        "verdict": values["verdict"],
        "correction": correction_json(correction) if correction else None,
    }  # fmt: skip


def correction_json(correction: Correction) -> dict[str, Any]:
    """Return a correction; its jumps are where the sound goes on, in its own seconds, and by how much later."""
    return {
        "slip_s": float(correction.slip),
        "ppm": float(correction.ppm),
        "jumps": [{"sound_s": float(at), "step_s": float(step)} for at, step in correction.jumps],
    }


def recording_json(name: str, one: Located, source: str) -> dict[str, Any]:
    """Return one recording as `vesk pair` prints it."""
    return {"path": name, "source": source, "kind": one.facts.kind, "facts": one.facts.as_json()}


def walk_json(walked: Walked) -> dict[str, Any]:
    """Return what `vesk pair` prints."""
    return {
        "fps": str(walked.rate.fps),
        "drop": walked.rate.drop,
        "recordings": [recording_json(name, one, walked.sources[name]) for name, one in walked.recordings.items()],
        "pairings": [pairing_json(one, walked.recordings[one.sound].facts.sample_rate) for one in walked.pairings],
        "unpaired": [{"path": item.key, "reason": item.reason} for item in walked.unpaired],
        "unreadable": [{"path": path, "reason": reason} for path, reason in walked.unreadable],
    }


def conform(walked: Walked, out: Path, cache_folder: Path, *, tell: Tell = lambda _: None) -> list[dict[str, Any]]:
    """Deliver every picture whose pairings all matched, with the proposed corrections, and write the report.

    No person has checked these: the report says so. Measured again all the same.
    """
    out.mkdir(parents=True, exist_ok=True)
    lines = []
    taken: set[str] = set()
    for name, picture in walked.recordings.items():
        if picture.facts.kind != PICTURE:
            continue
        own = [one for one in walked.pairings if one.picture == name]
        tell(f"delivering {name}")
        lines.append(_conform_one(walked, name, picture, own, out, cache_folder, taken))
    for name, reason in walked.unreadable:
        lines.append({"picture": name, "delivered": "no", "reason": reason})
    write_report(out / "report.csv", lines)
    return lines


def _conform_one(
    walked: Walked,
    name: str,
    picture: Located,
    own: list[Measured],
    out: Path,
    cache_folder: Path,
    taken: set[str],
) -> dict[str, Any]:
    unpaired = {item.key: item.reason for item in walked.unpaired}
    matched = [one for one in own if one.correction is not None]
    facts = walked.recordings[matched[0].sound].facts if matched else picture.facts
    line: dict[str, Any] = {
        "scene": facts.scene, "take": facts.take, "source": walked.sources[name], "picture": name,
        "start": walked.known.recordings[name].label, "frames": picture.facts.frames, "fps": str(picture.facts.fps),
        "sound": " + ".join(one.sound for one in own), "delivered": "no", "checked_by": "nobody",
        "cause": " + ".join(one.verdict.cause for one in own),
        "slip_s": " + ".join(f"{float(one.correction.slip):+.6f}" for one in matched if one.correction),
        "slip_frames": " + ".join(f"{float(one.correction.slip * one.fps):+.3f}" for one in matched if one.correction),
        "rate_ppm": " + ".join(f"{float(one.correction.ppm):+.3f}" for one in matched if one.correction),
    }  # fmt: skip
    if not matched:
        line["reason"] = unpaired.get(name) or "; ".join(one.verdict.text for one in own)
        return line
    parts = [
        delivering.Laid(walked.recordings[one.sound], one.correction.on(one.proposal.offset))
        for one in matched
        if one.correction
    ]
    target = out / f"{Path(name).stem}.wav"
    if target.name.casefold() in taken:
        target = out / f"{walked.sources[name]}_{Path(name).parent.name}_{Path(name).stem}.wav"
    taken.add(target.name.casefold())
    try:
        made = delivering.deliver(
            picture,
            parts,
            target,
            scene=facts.scene,
            take=facts.take,
            project="",
            shot_on=datetime.now(UTC).date(),
        )
        residual, why = delivering.measure_again(
            made.path, picture, late_s=0.0, workplace=cache_folder / "again",
            channels=(matched[0].found.picture_channel, matched[0].found.channel),
        )  # fmt: skip
    except VeskError as error:
        line["reason"] = str(error)
        return line
    line |= {
        "delivered": "yes",
        "file": target.name,
        "samples": made.samples,
        "time_reference": made.time_reference,
    }
    remarks = [made.remark, *(one.correction.mends for one in matched if one.correction)]
    line |= {"reason": why, "remark": "; ".join(filter(None, remarks))}
    if residual is not None:
        for place, value in zip(("head", "middle", "tail"), residual.all, strict=True):
            line[f"residual_{place}_ms"] = f"{value * 1000:+.3f}"
    left = [one.sound for one in own if one.correction is None]
    if left:
        line["remark"] = f"left out, no common sound: {', '.join(left)}"
    return line
