"""Pair a day's recordings: by the clocks that are trusted, and by sound where there is none."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from fractions import Fraction
from statistics import median

from sqlmodel import Session

from vesk.actions import gathering, hearing
from vesk.actions.known import known_of_day
from vesk.actions.locating import located
from vesk.actions.measured import is_measured
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.core.day.recording import Known
from vesk.core.intake.off_speed import OffSpeed
from vesk.core.kinds import MATCHED, PICTURE, SOUND, Witness
from vesk.core.pairing.adrift import Sounding, find_adrift
from vesk.core.pairing.astray import Outcome, find_astray
from vesk.core.pairing.by_timecode import pair_by_timecode
from vesk.core.progress import OnProgress
from vesk.core.timecode import FrameRate, unwrapped, wrap_day
from vesk.core.timemap import exact_seconds
from vesk.core.told import Told
from vesk.dailies.searching import find_partners
from vesk.settings import VESK, Settings
from vesk.store import changes, days, journal, pairings, recordings
from vesk.store.tables import Day, Pairing, Recording


def pair_day(session: Session, day: Day) -> list[int]:
    """Propose pairings; returns those that wait to be measured.

    A pairing that was worked on stays as it is even when timecode does not propose it any more.
    """
    day_id = day.id
    changes.hold(session, day_id)  # two workers may be told to at once
    rate = days.rate_of(day)
    rows = recordings.ready_of_day(session, day_id)
    concluded = known_of_day(session, day)
    known = concluded.recordings
    spans = [one.span() for one in known.values() if not one.aside]
    proposals, alone = pair_by_timecode(spans, rate)
    present = {(p.picture_id, p.sound_id): p for p in pairings.of_day(session, day_id)}
    ids = [p.id for p in present.values()]
    # What was corrected or checked stays as it lies: moved under a check, that would say what nobody saw.
    worked_on = pairings.standing_corrections(session, ids).keys() | pairings.standing_checks(session, ids).keys()
    for proposal in proposals:
        key = (int(proposal.picture), int(proposal.sound))
        row = present.pop(key, None) or pairings.propose(
            session, day_id=day_id, picture_id=key[0], sound_id=key[1], offset=proposal.offset
        )
        if row.offset != proposal.offset and row.id not in worked_on:
            row.offset = proposal.offset
            changes.count(session, row)
        session.add(row)
    for row in present.values():
        if row.id in worked_on or row.state == pairings.SET_ASIDE or row.said_by:
            continue  # a person's word stands above what clocks propose
        aside = any(str(n) in known and known[str(n)].aside for n in (row.picture_id, row.sound_id))
        if row.measured_as is None or aside:
            pairings.withdraw(session, row)
            continue
        # Found by sound before a clock was known, or clocks were changed since: what they say now is where it stands.
        starts = [known[str(n)].start if str(n) in known else None for n in (row.picture_id, row.sound_id)]
        offset = _by_clocks(starts[0], starts[1], rate)
        if offset is not None and offset != row.offset:
            row.offset = offset
            changes.count(session, row)
    paired = {n for p in pairings.of_day(session, day_id) for n in (p.picture_id, p.sound_id)}
    reasons = {int(item.key): item.reason for item in alone if int(item.key) not in paired}
    came = [row for row in rows if row.start is None]
    for recording in rows:
        named = str(recording.id)
        _place(recording, known[named], concluded.off_speed.get(named), reasons.get(recording.id, ""))
        session.add(recording)
    hearing.hear_as_said(session, day, came)
    session.flush()
    journal.note(
        session,
        day_id=day_id,
        by=VESK,
        what=f"paired by timecode: {len(proposals)} pairings, {len(alone)} recordings without a partner",
    )
    held = recordings.by_id(session, {n for p in pairings.of_day(session, day_id) for n in (p.picture_id, p.sound_id)})
    return [
        row.id
        for row in pairings.of_day(session, day_id)
        if row.state != pairings.SET_ASIDE and not is_measured(row, held[row.picture_id], held[row.sound_id])
    ]


def knows_more(session: Session, day: Day) -> bool:
    """Say whether more is known by now of what is left out of pairing: smaller copies are told by their sound."""
    known = known_of_day(session, day).recordings
    return any(known[str(row.id)].aside != row.aside for row in recordings.ready_of_day(session, day.id))


def pair_by_solution(session: Session, day: Day) -> list[int]:
    """Propose the pairings that the day as a whole knows and no label or sound of theirs alone; returns those made.

    Mute clips of a device whose clock is hours off lie, by their labels, beside the wrong sound or beside none.
    """
    changes.hold(session, day.id)
    rate = days.rate_of(day)
    present = {(str(row.picture_id), str(row.sound_id)) for row in pairings.of_day(session, day.id)}
    made = []
    for pair, place in sorted(Overview(session, day).solution.places.items()):
        if place.by == Witness.SOUND or pair in present:
            continue
        members = recordings.by_id(session, {int(key) for key in pair})
        picture, sound = (members[int(key)] for key in pair)
        offset = _by_clocks(picture.start, sound.start, rate)
        row = pairings.propose(
            session, day_id=day.id, picture_id=picture.id, sound_id=sound.id,
            offset=exact_seconds(place.offset_s) if offset is None else offset,
        )  # fmt: skip
        session.flush()
        made.append(row.id)
        for member in (picture, sound):
            member.unpaired, member.searched = "", None
    if made:
        said = f"paired {len(made)} by the clocks of their devices, as the other takes show them"
        journal.note(session, day_id=day.id, by=VESK, what=said)
    session.flush()
    return made


def _place(recording: Recording, own: Known, slow: OffSpeed | None, reason: str) -> None:
    """Keep what is concluded of a recording with its row: where it lies, what counts of it, why it is alone."""
    recording.start, recording.clock, recording.aside = own.start, own.clock, own.aside
    recording.took = slow.real if slow else None
    # A person's word outranks what the other recordings of a take say.
    put = bool({"scene", "take"} & set(own.item.put_right))
    recording.told = Told(**{name: value.value for name, value in own.values.items()}, by_person=put)
    recording.off_speed = own.off_speed
    recording.unpaired = own.aside or reason
    if own.aside:
        recording.searched = None


def to_search(session: Session, day: Day) -> list[Recording]:
    """Return the recordings with sound whose partner sound has to tell, before anything was measured.

    Those without a clock, and the pictures that theirs leads to no partner: it may be set wrong. A sound without a
    picture is left to the pictures that lack one, and to what is asked once others were measured.
    """
    paired = {n for p in pairings.of_day(session, day.id) for n in (p.picture_id, p.sound_id)}
    rows = recordings.ready_of_day(session, day.id)
    return [
        row
        for row in rows
        if (row.start is None or row.kind == PICTURE) and row.id not in paired and _is_searchable(row, rows)
    ]


def to_search_again(session: Session, day: Day) -> list[Recording]:
    """Return the recordings whose partner sound has to tell after all, now that others were measured.

    Pictures of which it refused all that labels gave them; sounds without a picture whose clock no take tells.
    """
    statuses = Overview(session, day).statuses
    rows = recordings.ready_of_day(session, day.id)
    asked = {*find_astray(_outcomes(statuses)), *find_adrift(_soundings(day, rows, statuses))}
    return [row for row in rows if str(row.id) in asked and _is_searchable(row, rows)]


def _soundings(day: Day, rows: Sequence[Recording], statuses: Sequence[PairingStatus]) -> list[Sounding]:
    """Return a day's sounds that have a label, and how far off that is by what they were matched with."""
    off: dict[int, list[float]] = {}
    for one in statuses:
        line = None if one.found is None or one.found.decision != MATCHED else one.found.line
        off.setdefault(one.sound.id, []).extend([] if line is None else [float(one.pairing.offset) - line.offset_s])
    line_of = unwrapped((row.start for row in rows if row.start is not None), days.rate_of(day).day)
    return [
        Sounding(
            str(row.id), str(row.source_id), float(line_of(row.start)), float(row.duration),
            median(off[row.id]) if off.get(row.id) else None, row.id not in off,
        )
        for row in rows
        if row.start is not None and row.kind == SOUND and not row.aside and row.facts and row.facts.channels
    ]  # fmt: skip


def _is_searchable(row: Recording, rows: Sequence[Recording]) -> bool:
    if row.aside or row.facts is None or not row.facts.channels:
        return False
    # Searched among as many before, and found in none: searched again when others have come.
    return row.searched != sum(1 for other in rows if other.kind != row.kind and not other.aside)


def _outcomes(statuses: Iterable[PairingStatus]) -> list[Outcome]:
    return [
        Outcome(
            str(one.picture.id), str(one.sound_source.id), one.found,
            by_person=bool(one.pairing.said_by or one.is_corrected or one.check),
        )
        for one in statuses
        if one.pairing.state != pairings.SET_ASIDE
    ]  # fmt: skip


def pair_by_sound(session: Session, settings: Settings, recording_id: int, on_progress: OnProgress) -> list[Pairing]:
    """Search a day for the partners of a recording by sound, and keep what matched.

    Where both have clocks, these say where the pairing stands, and what sound finds against it is its error.
    """
    row = recordings.get(session, recording_id)
    if row.member_of is not None:
        return []  # it became a part while this waited; the whole is searched for
    day = days.get_day(session, row.day_id)
    apart = [one for one in recordings.ready_of_day(session, row.day_id) if one.kind != row.kind and not one.aside]
    of = _astray_among(session, day, row)
    has_label = row.kind == SOUND and row.start is not None
    others = {
        str(other.id): located(session, settings, day, other)
        for other in apart
        if of is None or str(other.source_id) in of
    }
    contents = {key: other.entry.folder.name for key, other in others.items()} | {str(row.id): row.content}
    made_by = {str(other.id): str(other.source_id) for other in apart}
    place = located(session, settings, day, row)
    changes.rest(session)
    made = []
    matched = find_partners(str(row.id), place, others, on_progress, made_by)
    changes.hold(session, row.day_id)  # its partner may be searching too; people may have decided meanwhile
    row = recordings.get(session, recording_id)
    if row.member_of is not None or row.aside:
        return []
    known = {(p.picture_id, p.sound_id) for p in pairings.of_day(session, row.day_id)}
    standing_now = {row.id for row in recordings.ready_of_day(session, row.day_id)}
    for found in matched:
        pair = (int(found.picture), int(found.sound))
        if found.found.line is None or pair in known or not standing_now.issuperset(pair):
            continue
        if (of is not None or has_label) and found.found.decision != MATCHED:
            continue  # what has partners, or a label, is asked about none that only may be
        pairing = pairings.propose(session, day_id=row.day_id, picture_id=pair[0], sound_id=pair[1], offset=Fraction(0))
        pairing.state, pairing.measurement = pairings.MEASURED, found.found
        pairing.measured_of = f"{contents[found.picture]}:{contents[found.sound]}"
        session.flush()
        # What is known of the microphones is taken out, as of every pairing.
        now = gathering.of_pairing(session, pairing.id)
        by_clocks = _by_clocks(now.picture.start, now.sound.start, days.rate_of(day))
        pairing.offset = exact_seconds(found.found.line.offset_s - now.late_s) if by_clocks is None else by_clocks
        made.append(pairing)
        for member in recordings.by_id(session, {pairing.picture_id, pairing.sound_id}).values():
            member.unpaired, member.searched = "", None
            session.add(member)
    if not made:
        row.searched = len(apart)
        if not any(row.id in pair for pair in known):
            row.unpaired = row.unpaired or "it has no clock"
        session.add(row)
    said = f"found {len(made)} partner{'' if len(made) == 1 else 's'} for {row.name} by sound"
    journal.note(session, day_id=row.day_id, by=VESK, what=said)
    session.flush()
    return made


def _astray_among(session: Session, day: Day, row: Recording) -> set[str] | None:
    """Return the devices among whose files a picture that labels led astray is searched for; None: among all."""
    if not any(row.id == one.picture_id for one in pairings.of_day(session, day.id)):
        return None
    own = [one for one in Overview(session, day).statuses if one.picture.id == row.id]
    return find_astray(_outcomes(own)).get(str(row.id))


def _by_clocks(picture: Fraction | None, sound: Fraction | None, day: FrameRate) -> Fraction | None:
    """Return where clocks lay a sound on a picture, seconds, from their starts; None where one has none."""
    return None if picture is None or sound is None else wrap_day(sound - picture, day.day)
