"""Pair a day's recordings by timecode."""

from __future__ import annotations

from sqlmodel import Session

from vesk.actions.day_known import known_of_day
from vesk.core.pairing.by_timecode import pair_by_timecode
from vesk.settings import Settings
from vesk.store import days, journal, pairings, recordings
from vesk.store.tables import Day, Pairing


def pair_day(session: Session, settings: Settings, day: Day) -> list[int]:
    """Propose pairings; returns those that wait to be measured.

    A pairing that was worked on stays as it is even when timecode does not propose it any more.
    """
    day_id = day.id or 0
    rate = days.rate_of(day)
    rows = recordings.ready_of_day(session, day_id)
    known = known_of_day(session, day).recordings
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
    reasons = {int(item.key): item.reason for item in alone}
    for recording in rows:
        own = known[str(recording.id)]
        recording.start, recording.clock, recording.aside = own.start, own.clock, own.aside
        recording.unpaired = own.aside or reasons.get(recording.id or 0, "")
        session.add(recording)
    session.flush()
    journal.note(
        session, day_id=day_id, by=settings.person,
        what=f"paired by timecode: {len(proposals)} pairings, {len(alone)} recordings without a partner",
    )  # fmt: skip
    return [p.id or 0 for p in pairings.of_day(session, day_id) if p.state == "proposed"]
