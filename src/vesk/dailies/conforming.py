"""Conform a folder without server or database: every picture whose pairings all matched, and the report."""

from __future__ import annotations

from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

from vesk.core.errors import VeskError
from vesk.core.kinds import PICTURE
from vesk.dailies import delivering
from vesk.dailies.folder import Tell, Walked
from vesk.dailies.judging import Measured
from vesk.dailies.located import Located
from vesk.dailies.report_lines import write_report


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
        files = [one for one in walked.known.recordings[name].item.files if one.facts.kind == PICTURE]
        for file, (one, begins) in zip(files, delivering.files_of(picture), strict=True):
            lines.append(_conform_one(walked, name, file.path, one, begins, own, out, cache_folder, taken))
    lines += [{"picture": one.path, "delivered": "no", "reason": one.says} for one in walked.unusable]
    write_report(out / "report.csv", lines)
    return lines


def _conform_one(
    walked: Walked,
    name: str,
    file: str,
    picture: Located,
    begins: Fraction,
    own: list[Measured],
    out: Path,
    cache_folder: Path,
    taken: set[str],
) -> dict[str, Any]:
    unpaired = {item.key: item.reason for item in walked.unpaired}
    matched = [one for one in own if one.correction is not None]
    told = walked.known.recordings[matched[0].sound if matched else name].values
    scene, take = told["scene"].value, told["take"].value
    line: dict[str, Any] = {
        "scene": scene, "take": take, "source": walked.sources[name], "picture": file,
        "start": picture.facts.timecode if begins else walked.known.recordings[name].label,
        "frames": picture.facts.frames, "fps": str(picture.facts.fps),
        "sound": " + ".join(one.sound for one in own), "delivered": "no", "checked_by": "nobody",
        "found": " + ".join(one.verdict.cause for one in own),
        "cause": " + ".join(one.afterwards.cause for one in own),
        "slip_s": " + ".join(f"{float(one.correction.slip):+.6f}" for one in matched if one.correction),
        "slip_frames": " + ".join(f"{float(one.correction.slip * one.fps):+.3f}" for one in matched if one.correction),
        "rate_ppm": " + ".join(f"{float(one.correction.ppm):+.3f}" for one in matched if one.correction),
    }  # fmt: skip
    disagreeing = [one for one in own if one.judged.contradiction is not None]
    if disagreeing:
        line["reason"] = (
            f"{disagreeing[0].verdict.text} Without a person's word it is not delivered: "
            f"{disagreeing[0].verdict.unless}, here by --late {disagreeing[0].judged.picture.tag}=MS."
        )
        return line
    if not matched:
        line["reason"] = unpaired.get(name) or "; ".join(one.verdict.text for one in own)
        return line
    parts = [
        delivering.Laid(walked.recordings[one.sound], one.correction.on(one.judged.offset).shifted(-begins))
        for one in matched
        if one.correction
    ]
    target = out / f"{Path(file).stem}.wav"
    if target.name.casefold() in taken:
        target = out / f"{walked.sources[name]}_{Path(file).parent.name}_{Path(file).stem}.wav"
    taken.add(target.name.casefold())
    try:
        made = delivering.deliver(
            picture,
            parts,
            target,
            scene=scene,
            take=take,
            project="",
            shot_on=datetime.now(UTC).date(),
        )
        residual, why = delivering.measure_again(
            made.path,
            picture,
            late_s=matched[0].judged.late_s,
            workplace=cache_folder / "again",
            channels=(matched[0].found.picture_channel, matched[0].found.channel),
            scratch_steps=matched[0].judged.scratch_steps,
        )
    except VeskError as error:
        line["reason"] = str(error)
        return line
    line |= {
        "delivered": "yes",
        "file": target.name,
        "samples": made.samples,
        "time_reference": made.time_reference,
    }
    left = [one.sound for one in own if one.correction is None]
    remarks = [made.remark, *(one.correction.mends for one in matched if one.correction)]
    remarks += [one.judged.scratch_told for one in matched]
    remarks += [f"left out, no common sound: {', '.join(left)}"] if left else []
    line |= {"reason": why, "remark": "; ".join(filter(None, remarks))}
    if residual is not None:
        for place, value in zip(("head", "middle", "tail"), residual.all, strict=True):
            line[f"residual_{place}_ms"] = f"{value * 1000:+.3f}"
    return line
