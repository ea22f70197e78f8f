"""The turnover of a day: what can be made, making it, and its report."""

from __future__ import annotations

import csv
import os
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

from sqlmodel import Session

from vesk.actions import delivering, standing
from vesk.actions.intake import facts_of, told_slate
from vesk.actions.located import Located
from vesk.actions.standing import CHECKED, SET_ASIDE, Standing
from vesk.core.errors import MediaError, VeskError
from vesk.core.timecode import unwrapped
from vesk.core.verdict.words import signed
from vesk.media.facts import PICTURE
from vesk.media.probe import MOVIE_ENDINGS
from vesk.settings import Settings
from vesk.store import days, journal, recordings, turnovers
from vesk.store.tables import Day, Delivery, Recording, Turnover

Report = Callable[[int, int], bool]


@dataclass(frozen=True, slots=True)
class Item:
    """One camera take before a turnover: its pairings, and what stands in the way (empty when ready)."""

    picture: Recording
    source: str
    pairings: tuple[Standing, ...]
    obstacle: str

    @property
    def scene_take(self) -> tuple[str, str]:
        """Scene and take: the recorder's, else the camera's."""
        return told_slate([*(p.sound for p in self.pairings), self.picture])


def items(session: Session, day: Day) -> list[Item]:
    """Return every camera take of a day with what stands in its way."""
    by_picture: dict[int, list[Standing]] = {}
    for now in standing.of_day(session, day):
        by_picture.setdefault(now.pairing.picture_id, []).append(now)
    tags = {source.id: source.tag for source in days.sources(session, day.id or 0)}
    made = []
    for row in recordings.of_day(session, day.id or 0):
        # A movie that could never be read is a take all the same: the report must not lose it.
        unread = not row.kind and Path(row.name).suffix.lower() in MOVIE_ENDINGS
        if row.kind == PICTURE or unread:
            own = tuple(by_picture.get(row.id or 0, ()))
            made.append(Item(row, tags.get(row.source_id, ""), own, _obstacle(row, own)))
    line = unwrapped((item.picture.start for item in made if item.picture.start is not None), days.rate_of(day).day)

    def order(item: Item) -> tuple[bool, Fraction, str]:
        start = item.picture.start
        return start is None, line(start or Fraction(0)), item.picture.path

    return sorted(made, key=order)


def _obstacle(picture: Recording, own: tuple[Standing, ...]) -> str:
    if picture.state != "ready":
        return picture.problem
    if not own:
        word, why = ("set aside", picture.aside) if picture.aside else ("unpaired", picture.unpaired)
        return f"{word}: {why}" if why else word
    active = [now for now in own if now.state != SET_ASIDE]
    if not active:
        return f"set aside: {own[0].aside}"
    for now in active:
        if now.sound.state != "ready":
            return now.sound.problem
    waiting = [now for now in active if now.state != CHECKED]
    if waiting:
        return f"not checked yet: {', '.join(now.sound.name for now in waiting)} ({waiting[0].state})"
    return ""


def plan(session: Session, settings: Settings, day: Day) -> Turnover:
    """Open a turnover for the day; the worker makes it."""
    stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S-%f")[:-3]
    folder = settings.turnovers / f"day-{day.number}-{day.id}" / stamp
    row = Turnover(day_id=day.id or 0, folder=str(folder), made_by=settings.person)
    session.add(row)
    session.flush()
    journal.note(session, day_id=day.id or 0, by=settings.person, what=f"asked for a turnover into {folder}")
    return row


def make(session: Session, settings: Settings, row: Turnover, report: Report = lambda _done, _total: True) -> None:
    """Make a turnover: every ready take delivered and measured again, then the report of all of them.

    One take that fails costs only itself. The turnover's rows are committed by the caller.
    """
    day = days.get_day(session, row.day_id)
    production = days.get_production(session, day.production_id)
    folder = Path(row.folder)
    folder.mkdir(parents=True, exist_ok=True)
    for old in turnovers.deliveries(session, row.id or 0):
        session.delete(old)  # taken up again after a worker died: made anew from the start
    listed = items(session, day)
    lines: list[dict[str, Any]] = []
    stopped = False
    taken: set[str] = set()
    for count, item in enumerate(listed):
        stopped = stopped or not report(count, len(listed))
        for part in _on_picture(settings, day, item.picture):
            delivery = Delivery(turnover_id=row.id or 0, picture_id=part.recording_id, reason=item.obstacle)
            if stopped and not item.obstacle:
                delivery.reason = "stopped before its turn"
            elif not item.obstacle:
                try:
                    delivery.facts = _make_one(
                        settings, day, production.name, item, part, folder, taken, report, (count, len(listed))
                    )
                    delivery.name = delivery.facts["name"]
                except delivering.StoppedError as error:
                    stopped, delivery.reason = True, str(error)
                except VeskError as error:
                    delivery.reason = str(error)
            session.add(delivery)
            lines.append(_line(item, part, delivery))
    write_report(folder / "report.csv", lines)
    row.state = "stopped" if stopped else "done"
    session.add(row)
    done = sum(1 for line in lines if line["delivered"] == "yes")
    journal.note(session, day_id=day.id or 0, by=row.made_by, what=f"turnover of {done} takes made in {folder}")


@dataclass(frozen=True, slots=True)
class _Part:
    """One file of a camera take: where it begins on the take's picture time, seconds; `place` is None if unreadable."""

    recording_id: int
    path: str
    place: Located | None
    begins: Fraction


def _on_picture(settings: Settings, day: Day, picture: Recording) -> list[_Part]:
    if picture.state != "ready":
        return [_Part(picture.id or 0, picture.path, None, Fraction(0))]
    takes = delivering.takes_of(standing.located(settings, day, picture))
    files = _numbers(picture.id or 0, picture.path, picture.members)
    return [_Part(number, path, take, at) for (number, path), (take, at) in zip(files, takes, strict=True)]


def _numbers(number: int, path: str, members: list[dict[str, Any]]) -> list[tuple[int, str]]:
    """Return number and path of every file of a picture, in order."""
    if not members:
        return [(number, path)]
    return [file for one in members for file in _numbers(one["id"], one["path"], one["members"])]


def _channels(active: list[Standing]) -> tuple[int, int] | None:
    """Return the channels of picture and sound that a take was measured with."""
    found = next((now.found for now in active if now.found is not None and now.found.line is not None), None)
    return None if found is None else (found.picture_channel, found.channel)


def _make_one(
    settings: Settings,
    day: Day,
    project: str,
    item: Item,
    part: _Part,
    folder: Path,
    taken: set[str],
    report: Report,
    at: tuple[int, int],
) -> dict[str, Any]:
    picture = part.place or standing.located(settings, day, item.picture)
    active = [now for now in item.pairings if now.state == CHECKED]
    sounds = [standing.located(settings, day, now.sound) for now in active]
    for file in [*picture.files, *(file for sound in sounds for file in sound.files)]:
        if not file.exists():
            raise MediaError(file, "it vanished since intake", "Connect the disk and make the turnover again.")
    parts = [delivering.Laid(sound, now.laid.shifted(-part.begins)) for sound, now in zip(sounds, active, strict=True)]
    scene, take = item.scene_take
    name = f"{picture.path.stem}.wav"
    if name.casefold() in taken:
        name = f"{item.source}_{picture.path.stem}_{part.recording_id}.wav"
    taken.add(name.casefold())
    made = delivering.deliver(
        picture, parts, folder / name, scene=scene, take=take, project=project, shot_on=day.shot_on,
        go_on=lambda: report(*at),
    )  # fmt: skip
    residual, why = delivering.measure_again(
        made.path,
        picture,
        late_s=active[0].late_s,
        workplace=settings.cache / f"again-{os.getpid()}",
        channels=_channels(active),
    )
    return {
        "name": name,
        "samples": made.samples,
        "sample_rate": made.sample_rate,
        "channels": made.channels,
        "time_reference": made.time_reference,
        "remark": made.remark,
        "residual_s": list(residual.all) if residual else None,
        "residual_reason": why,
    }


COLUMNS = (
    "scene", "take", "source", "picture", "start", "frames", "fps", "sound", "delivered", "file", "reason", "cause",
    "slip_s", "slip_frames", "rate_ppm", "samples", "time_reference", "residual_head_ms", "residual_middle_ms",
    "residual_tail_ms", "checked_by", "remark",
)  # fmt: skip


def _line(item: Item, part: _Part, delivery: Delivery) -> dict[str, Any]:
    facts = part.place.facts if part.place else facts_of(item.picture) if item.picture.facts else None
    scene, take = item.scene_take if facts else ("", "")
    active = [now for now in item.pairings if now.state != SET_ASIDE]
    made = delivery.facts
    residual = made.get("residual_s") or (None, None, None)

    def each(values: list[str]) -> str:
        return " + ".join(values)

    return {
        "scene": scene,
        "take": take,
        "source": item.source,
        "picture": part.path,
        "start": facts.timecode if facts else "",
        "frames": facts.frames if facts else "",
        "fps": str(facts.fps) if facts else "",
        "sound": each([now.sound.path for now in active]),
        "delivered": "yes" if delivery.name else "no",
        "file": delivery.name,
        "reason": delivery.reason or made.get("residual_reason", ""),
        "cause": each([now.verdict.cause if now.verdict else "not measured" for now in active]),
        "slip_s": each([f"{float(now.as_corrected.slip):+.6f}" for now in active]),
        "slip_frames": each([f"{float(now.as_corrected.slip * now.fps):+.3f}" for now in active]),
        "rate_ppm": each([f"{float(now.as_corrected.ppm):+.3f}" for now in active]),
        "samples": made.get("samples", ""),
        "time_reference": made.get("time_reference", ""),
        "residual_head_ms": _ms(residual[0]),
        "residual_middle_ms": _ms(residual[1]),
        "residual_tail_ms": _ms(residual[2]),
        "checked_by": each([now.check.made_by for now in active if now.check]),
        "remark": "; ".join(filter(None, [made.get("remark", ""), *(now.as_corrected.mends for now in active)])),
    }


def _ms(seconds: float | None) -> str:
    return "" if seconds is None else signed(seconds * 1000, 3).replace("\N{MINUS SIGN}", "-")


def write_report(path: Path, lines: list[dict[str, Any]]) -> None:
    """Write the report of every take as CSV, whole or not at all."""
    part = path.with_name(path.name + ".part")
    try:
        with part.open("w", encoding="utf-8", newline="") as file:
            writer = csv.DictWriter(file, COLUMNS)
            writer.writeheader()
            writer.writerows(lines)
        part.replace(path)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise MediaError(
            path, f"the report could not be written ({error.strerror})", "Free space and try again."
        ) from error
