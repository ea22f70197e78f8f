"""Pair a day's recordings: by the clocks that are trusted, and by sound where there is none."""

from __future__ import annotations

from collections.abc import Callable

from sqlmodel import Session

from vesk.actions import measure, measuring, standing
from vesk.actions.day_known import known_of_day
from vesk.actions.searching import find_partners
from vesk.core.pairing.by_timecode import pair_by_timecode
from vesk.core.timemap import exact_seconds
from vesk.settings import Settings
from vesk.store import days, journal, pairings, recordings
from vesk.store.tables import Day, Pairing, Recording


def pair_day(session: Session, settings: Settings, day: Day) -> list[int]:
    """Propose pairings; returns those that wait to be measured.

    A pairing that was worked on stays as it is even when timecode does not propose it any more.
    """
    day_id = day.id or 0
    days.hold(session, day_id)  # two workers may be told to at once
    rate = days.rate_of(day)
    rows = recordings.ready_of_day(session, day_id)
    concluded = known_of_day(session, day)
    known = concluded.recordings
    spans = [one.span() for one in known.values() if not one.aside]
    proposals, alone = pair_by_timecode(spans, rate)
    present = {(p.picture_id, p.sound_id): p for p in pairings.of_day(session, day_id)}
    for proposal in proposals:
        key = (int(proposal.picture), int(proposal.sound))
        row = present.pop(key, None)
        if row is None:
            row = Pairing(day_id=day_id, picture_id=key[0], sound_id=key[1], offset=proposal.offset)
        elif row.offset != proposal.offset:
            row.offset, row.version = proposal.offset, row.version + 1
        session.add(row)
    worked_on = pairings.standing_corrections(session, [p.id or 0 for p in present.values()])
    for row in present.values():
        if row.id not in worked_on and row.measurement is None:
            session.delete(row)
    paired = {n for p in pairings.of_day(session, day_id) for n in (p.picture_id, p.sound_id)}
    reasons = {int(item.key): item.reason for item in alone if int(item.key) not in paired}
    for recording in rows:
        own = known[str(recording.id)]
        recording.start, recording.clock, recording.aside = own.start, own.clock, own.aside
        slow = concluded.off_speed.get(str(recording.id))
        recording.took = slow.real if slow else None
        recording.told = {name: value.value for name, value in own.values.items() if value.value}
        recording.unpaired = own.aside or reasons.get(recording.id or 0, "")
        session.add(recording)
    session.flush()
    journal.note(
        session, day_id=day_id, by=settings.person,
        what=f"paired by timecode: {len(proposals)} pairings, {len(alone)} recordings without a partner",
    )  # fmt: skip
    return [p.id or 0 for p in pairings.of_day(session, day_id) if p.state == "proposed"]


def untimed(session: Session, day: Day) -> list[Recording]:
    """Return the recordings whose clock says nothing and that have sound, without a partner so far."""
    paired = {n for p in pairings.of_day(session, day.id or 0) for n in (p.picture_id, p.sound_id)}
    return [
        row
        for row in recordings.ready_of_day(session, day.id or 0)
        if row.start is None and not row.aside and row.id not in paired and row.facts.get("channels")
    ]


def pair_by_sound(
    session: Session, settings: Settings, recording_id: int, report: Callable[[int, int], bool]
) -> list[Pairing]:
    """Search a day for the partners of a recording without a clock, and keep what matched."""
    row = recordings.get(session, recording_id)
    if row.part_of is not None:
        return []  # it became a part while this waited; the whole is searched for
    day = days.get_day(session, row.day_id)
    others = {
        str(other.id): standing.located(settings, day, other)
        for other in recordings.ready_of_day(session, row.day_id)
        if other.kind != row.kind and not other.aside
    }
    made = []
    matched = find_partners(str(row.id), standing.located(settings, day, row), others, report)
    days.hold(session, row.day_id)  # its partner may be searching too
    known = {(p.picture_id, p.sound_id) for p in pairings.of_day(session, row.day_id)}
    standing_now = {row.id for row in recordings.ready_of_day(session, row.day_id)}
    for found in matched:
        pair = (int(found.picture), int(found.sound))
        if found.found.line is None or pair in known or not standing_now.issuperset(pair):
            continue
        offset = exact_seconds(found.found.line.offset_s)
        pairing = Pairing(
            day_id=row.day_id, picture_id=int(found.picture), sound_id=int(found.sound), offset=offset,
            state="measured", measurement=measuring.to_json(found.found),
        )  # fmt: skip
        session.add(pairing)
        session.flush()
        # What is known of the microphones is taken out, as of every pairing.
        now = standing.of_pairing(session, pairing.id or 0)
        pairing.offset = exact_seconds(found.found.line.offset_s - now.late_s)
        measure.keep_frames(now, standing.located(settings, day, now.picture), found.found)
        made.append(pairing)
        for member in recordings.by_id(session, {pairing.picture_id, pairing.sound_id}).values():
            member.unpaired = ""
            session.add(member)
    if not any(row.id in pair for pair in known) and not made:
        row.unpaired = f"it has no clock, and its sound was found in none of {len(others)} recordings"
        session.add(row)
    said = f"found {len(made)} partner{'' if len(made) == 1 else 's'} for {row.name} by sound"
    journal.note(session, day_id=row.day_id, by=settings.person, what=said)
    session.flush()
    return made
