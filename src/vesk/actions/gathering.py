"""Pairings as they stand, gathered from their rows: of a whole day, or one by itself."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from fractions import Fraction

from sqlmodel import Session

from vesk.actions import solving
from vesk.actions.composing import as_corrected, by_parts, own_of, parts_for
from vesk.actions.measured import Measured, all_measured, forget_measured
from vesk.actions.pairing_status import PairingStatus
from vesk.actions.remembered import Remembered
from vesk.core.conform.correction import Correction
from vesk.core.day.across import Across, across_wanted
from vesk.core.day.day import Day as SolvedDay
from vesk.core.day.day import Match, Tie
from vesk.core.day.solution import NOTHING, Place, Solution
from vesk.core.intake.filed import Filed
from vesk.core.intake.other_days import find_other_days
from vesk.core.kinds import Origin, Witness
from vesk.core.pairing.in_order import rivalries_in_order
from vesk.core.pairing.judgement import Claps, Judgement, Side
from vesk.core.pairing.rivals import Rivalry, Shared, displaced, parted, rivalries, to_compare
from vesk.core.picture.closure import contact_between
from vesk.core.sound.measurement import Measurement
from vesk.core.timecode import unwrapped
from vesk.core.tolerance import Tolerance
from vesk.dailies.sync_points import CLEAR
from vesk.store import compared, days, pairings, recordings, sync_points
from vesk.store.tables import (
    CheckRow,
    CorrectionRow,
    Day,
    Pairing,
    Recording,
    ScopedCorrectionRow,
    Source,
    SyncPointRow,
)

_FRAME_SD = 12**-0.5  # who puts a frame is within it


@dataclass(frozen=True, slots=True)
class DayRows:
    """The rows that statuses of a day's pairings rest on.

    Attributes
    ----------
    sharing : list of Pairing
        All that share a recording with any that is asked about, those themselves too.
    members, sources, corrections, checks, marked
        By number: the recordings of these, their sources, what stands of each pairing, sync points of each recording.
    scoped : list of ScopedCorrectionRow
        Corrections for several takes that stand, the newest first.
    compared : dict
        Pairs of recordings whose own sound was compared, and whether both heard the same moments.
    across : tuple of Match
        Recordings of one kind as they were measured against each other.
    whole : bool
        Whether these are all of the day: then what the day as a whole says of each counts.
    """

    sharing: list[Pairing]
    members: dict[int, Recording]
    sources: dict[int | None, Source]
    corrections: dict[int, CorrectionRow]
    checks: dict[int, CheckRow]
    scoped: list[ScopedCorrectionRow]
    marked: dict[int, list[SyncPointRow]]
    compared: dict[frozenset[int], bool]
    across: tuple[Match, ...] = ()
    whole: bool = True


def of_day(session: Session, day: Day) -> list[PairingStatus]:
    """Return every pairing of a day as it stands, by picture and then by offset."""
    rows = pairings.of_day(session, day.id)
    every = {one.id: one for one in recordings.of_day(session, day.id)}
    return gather(session, day, rows, _rows(session, day, rows, rows, every)).statuses


def of_pairing(session: Session, pairing_id: int) -> PairingStatus:
    """Return one pairing as it stands by itself, without what the day as a whole says of it."""
    pairing = pairings.get(session, pairing_id)
    day = days.get_day(session, pairing.day_id)
    sharing = pairings.sharing(session, [pairing])
    members = recordings.by_id(session, {r.picture_id for r in sharing} | {r.sound_id for r in sharing})
    rows = replace(_rows(session, day, [pairing], sharing, members), whole=False)
    return gather(session, day, [pairing], rows).statuses[0]


def _rows(
    session: Session, day: Day, asked: list[Pairing], sharing: list[Pairing], members: dict[int, Recording]
) -> DayRows:
    ids = [row.id for row in asked]
    return DayRows(
        sharing, members, {one.id: one for one in days.sources(session, day.id, gone=True)},
        pairings.standing_corrections(session, ids), pairings.standing_checks(session, ids),
        pairings.scoped_corrections(session, day.id),
        sync_points.of_recordings(session, members), compared.of_day(session, day.id, members),
        compared.across_of_day(session, day.id, members),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Gathered:
    """Pairings as they stand, and what the day as a whole says; nothing where only some of it was asked about."""

    statuses: list[PairingStatus]
    solution: Solution


def forget() -> None:
    """Let go of what is remembered of measurements and judgements: they are made anew when asked for."""
    forget_measured()
    _JUDGED.forget()


@dataclass(slots=True)
class Earlier:
    """What was gathered before: statuses by pairing, each with what it rested on, and the order of their pictures.

    What was measured, by pairing, stands beside the row that said so: while that is the same object, so is this.
    """

    measured: dict[int, Measured] = field(default_factory=dict)
    other_days: dict[str, date] | None = None
    evidence: SolvedDay | None = None
    solved: (
        tuple[tuple[Match, ...], frozenset[tuple[str, str]], tuple[Tie, ...], tuple[Match, ...], Solution] | None
    ) = None
    statuses: dict[int, tuple[tuple[object, ...], PairingStatus]] = field(default_factory=dict)
    order: dict[int, int] = field(default_factory=dict)

    def place_of(self, members: dict[int, Recording], pictures: set[int], day: Day) -> dict[int, int]:
        """Return the place of each picture on the line of the day, also across midnight."""
        order = self.order  # another thread may set it meanwhile
        if order.keys() != pictures:
            starts = {number: members[number].start for number in pictures}
            line = unwrapped((start for start in starts.values() if start is not None), days.rate_of(day).day)
            ordered = sorted(pictures, key=lambda n: (line(starts[n] or Fraction(0)), members[n].path))
            order = self.order = {number: place for place, number in enumerate(ordered)}
        return order


def gather(session: Session, day: Day, asked: list[Pairing], rows: DayRows, earlier: Earlier | None = None) -> Gathered:
    """Return pairings as they stand, by picture and then by offset; what was measured is read where not remembered.

    Who gives `earlier` vouches that recordings, sources and sync points are as they were then, and that a pairing's
    row that changed is another object. It is brought up to date.
    """
    earlier = earlier or Earlier()
    measured = all_measured(session, rows.sharing, rows.members, earlier.measured)
    claims = [one.claim for one in measured.values() if one.claim is not None]
    two = {frozenset(map(str, pair)) for pair, same_moment in rows.compared.items() if same_moment}
    members, sources = rows.members, rows.sources
    paths = {str(number): row.path for number, row in members.items()}
    rivals = rivalries_in_order(claims, two, paths) if rows.whole else rivalries(claims, two)
    if earlier.other_days is None:
        earlier.other_days = _other_days(members)
    by_label = [one.by_label for one in measured.values() if one.by_label is not None]
    rivals |= displaced(by_label, claims, rivals, earlier.other_days)
    solution = _solved(day, rows, earlier, list(measured.values()), rivals) if rows.whole else NOTHING
    worked_on = rows.corrections.keys() | rows.checks.keys()
    left_open = {
        str(one.row.id): (one.match.picture, one.match.sound)
        for one in measured.values()
        if one.match is not None and (not one.match.sure or str(one.row.id) in rivals) and one.row.id not in worked_on
    }
    rivals |= parted(by_label, left_open, solution.apart, rivals)
    places = solution.places
    rate = days.rate_of(day)
    made = []
    for row in asked:
        picture, sound = members[row.picture_id], members[row.sound_id]
        rivalry = None if row.said_by else rivals.get(str(row.id))  # a person's word stands above the likeness
        own = sources[picture.source_id], sources[sound.source_id]
        correction, check = rows.corrections.get(row.id), rows.checks.get(row.id)
        place = places.get((str(row.picture_id), str(row.sound_id)))  # what the day says
        parts = parts_for(rows.scoped, picture, sound, correction, check, rate.day)
        correction = own_of(correction, parts, check)
        rests_on = correction and correction.id, check and check.id, rivalry, place, tuple(one.id for one in parts)
        before, status = earlier.statuses.get(row.id, (None, None))
        # The same row object says the same; another may have been read anew.
        if status is not None and status.pairing is row and before == rests_on:
            made.append(status)
            continue
        fps = (picture.facts.fps if picture.facts else None) or day.fps
        late = solving.late_of(picture, own[0]), solving.late_of(sound, own[1])
        known = _Known(
            _side(picture, own[0]), _side(sound, own[1]), row.offset, fps,
            (sound.facts.sample_rate if sound.facts else 0) or 48_000,
            Tolerance(day.tolerance if row.tolerance is None else row.tolerance),
            as_corrected(correction) if correction else by_parts(parts, row, picture, rate.day),
            late[0] - late[1],
            _claps(rows.marked.get(row.picture_id, ()), rows.marked.get(row.sound_id, ()), float(fps), late[1]),
            rivalry, _rival_name(rivalry, row, rows.sharing, members, sources), place,
        )  # fmt: skip
        own_measured = measured.get(row.id)
        name, found = (own_measured and own_measured.found) or (None, None)
        judged = _judged(name, known, found)
        status = PairingStatus(day, row, picture, sound, *own, correction, check, judged, parts)
        earlier.statuses[row.id] = (rests_on, status)
        made.append(status)
    order = earlier.place_of(members, {status.picture.id for status in made}, day)
    made.sort(key=lambda status: (order[status.picture.id], status.is_displaced, status.pairing.offset))
    return Gathered(made, solution)


@dataclass(frozen=True, slots=True)
class _Known:
    """All that a judgement rests on beside the measurement; in the order of `Judgement`."""

    picture: Side
    sound: Side
    offset: Fraction
    fps: Fraction
    sample_rate: int
    tolerance: Tolerance
    correction: Correction
    late_s: float
    claps: Claps
    rivalry: Rivalry | None
    rival: str
    place: Place | None


# By measurement, each as it stood of late: who slips a take a hundred times leaves no hundred judgements.
_JUDGED: Remembered[Hashable, tuple[tuple[_Known, Judgement], ...]] = Remembered(4000)
_OF_LATE = 3


def _judged(name: str | None, known: _Known, found: Measurement | None) -> Judgement:
    """Return a judgement: the one made before, with all that was computed of it, where everything it rests on is."""
    key = known if name is None else name
    kept = _JUDGED.find(key) or ()
    judged = next((one for of, one in kept if of == known), None)
    if judged is None:
        judged = Judgement(
            known.picture, known.sound, found, known.offset, known.fps, known.sample_rate, known.tolerance,
            known.correction, known.late_s, known.claps, known.rivalry, known.rival, known.place,
        )  # fmt: skip
        _JUDGED.keep(key, ((known, judged), *kept)[:_OF_LATE])
    return judged


def _side(row: Recording, source: Source) -> Side:
    return Side(source.tag, row.duration, row.start, row.clock, row.off_speed)


def _claps(
    in_picture: Sequence[SyncPointRow], in_sound: Sequence[SyncPointRow], fps: float, heard_late_s: float
) -> Claps:
    seen = [row for row in in_picture if row.how == sync_points.SEEN and row.state != sync_points.REFUSED]
    sure = [row for row in seen if row.frame and (row.state == sync_points.CONFIRMED or row.likely >= CLEAR)]
    return Claps(
        tuple((*contact_between(row.frame or 0, fps), row.state == sync_points.CONFIRMED) for row in sure),
        tuple(Fraction(row.heard_us, 1_000_000) for row in in_sound if row.heard_us is not None),
        heard_late_s,
        unclear=max((row.likely for row in seen if row not in sure), default=0.0),
    )


def to_compare_of_day(session: Session, day: Day) -> list[Shared]:
    """Return the pairs of a day's recordings whose own sound tells whether rivals are two devices, not yet asked."""
    rows = pairings.of_day(session, day.id)
    members = recordings.by_id(session, {row.picture_id for row in rows} | {row.sound_id for row in rows})
    asked = {frozenset(map(str, pair)) for pair in compared.of_day(session, day.id, members)}
    claims = [one.claim for one in all_measured(session, rows, members, {}).values() if one.claim is not None]
    return [shared for shared in to_compare(claims) if shared.pair not in asked]


def across_of_day(session: Session, day: Day) -> list[Across]:
    """Return which two recordings of one kind are to close a loop and were not measured against each other yet."""
    rows = pairings.of_day(session, day.id)
    every = {one.id: one for one in recordings.of_day(session, day.id)}
    earlier = Earlier()
    solution = gather(session, day, rows, _rows(session, day, rows, rows, every), earlier).solution
    known = {frozenset((one.picture, one.sound)) for one in compared.across_of_day(session, day.id, every)}
    same = compared.of_day(session, day.id, every).items()
    known |= {frozenset(map(str, pair)) for pair, same_moment in same if not same_moment}  # these close no loop
    sure = [one.match for one in earlier.measured.values() if one.match is not None and one.match.sure]
    return [one for one in across_wanted(sure, solution) if frozenset((one.one, one.other)) not in known]


def _other_days(members: Mapping[int, Recording]) -> dict[str, date]:
    """Return what was made on another day, by number: what its dates and labels say."""
    filed = [
        Filed(
            str(row.id), row.name, row.path, str(row.source_id), row.kind, created=row.facts.created, start=row.start,
            duration=row.duration,
        )
        for row in members.values()
        if row.facts is not None and row.kind is not None and not row.aside
    ]  # fmt: skip
    return find_other_days(filed)


def _solved(
    day: Day, rows: DayRows, earlier: Earlier, measured: list[Measured], rivals: Mapping[str, Rivalry]
) -> Solution:
    """Return the day's solution by its rows."""
    if earlier.evidence is None:
        other_days = earlier.other_days or ()
        earlier.evidence = solving.without_matches(day, rows.members, rows.sources, rows.marked, other_days)
    settled = {key for key, rivalry in rivals.items() if rivalry.settled is not None}
    own = [one for one in measured if one.match is not None and (str(one.row.id) not in settled or one.row.said_by)]
    matches = tuple(one.match for one in own if one.match is not None)
    pairs = frozenset((one.match.picture, one.match.sound) for one in own if one.match and _is_open(one, rivals))
    ties = _ties(day, rows, {one.row.id: one for one in measured})
    before = earlier.solved
    # A slip changes nothing that was measured: the very same objects have the solution they had.
    same = before is not None and before[1:4] == (pairs, ties, rows.across) and len(before[0]) == len(matches)
    if before is not None and same and all(one is other for one, other in zip(before[0], matches, strict=True)):
        return before[4]
    there = {one.key for one in earlier.evidence.recordings}
    usable = tuple(one for one in matches if {one.picture, one.sound} <= there)
    own_ties = tuple(one for one in ties if {one.picture, one.sound} <= there)
    solution = solving.solution(replace(earlier.evidence, matches=usable, ties=own_ties, across=rows.across), pairs)
    earlier.solved = matches, pairs, ties, rows.across, solution
    return solution


def _is_open(one: Measured, rivals: Mapping[str, Rivalry]) -> bool:
    return str(one.row.id) in rivals and not one.row.said_by


def _ties(day: Day, rows: DayRows, measured: Mapping[int, Measured]) -> tuple[Tie, ...]:
    """Return what persons put together: the same event on both; and, where sound says nothing, what they checked."""
    length = days.rate_of(day).day
    made = []
    for row in rows.sharing:
        own, check = rows.corrections.get(row.id), rows.checks.get(row.id)
        joined = own is not None and own.origin == Origin.JOINED
        found = measured.get(row.id)
        by_sound = found is not None and found.match is not None and found.match.sure
        if row.state == pairings.SET_ASIDE or not (joined or (check is not None and not by_sound)):
            continue
        picture, sound = rows.members[row.picture_id], rows.members[row.sound_id]
        parts = parts_for(rows.scoped, picture, sound, own, check, length)
        by = as_corrected(own) if own is not None else by_parts(parts, row, picture, length)
        laid = by.on(row.offset)
        head = max(Fraction(0), laid.offset)
        fps = (picture.facts.fps if picture.facts else None) or day.fps
        who = own.made_by if joined and own is not None else check.made_by if check is not None else ""
        se_s = float(1 / fps) * _FRAME_SD
        made.append(
            Tie(str(row.picture_id), str(row.sound_id), float(head), float(laid.offset), se_s, Witness.PERSON, who)
        )
    return tuple(made)


def _rival_name(
    rivalry: Rivalry | None,
    row: Pairing,
    rows: list[Pairing],
    members: dict[int, Recording],
    sources: Mapping[int | None, Source],
) -> str:
    if rivalry is None or not rivalry.other:
        return ""
    other = next(one for one in rows if str(one.id) == rivalry.other)
    different = members[other.sound_id if other.sound_id != row.sound_id else other.picture_id]
    return f"{sources[different.source_id].tag} · {different.name}"
