"""How a pairing stands: everything that pages, turnovers and reports say of it, computed from its rows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

from sqlmodel import Session

from vesk.actions import measuring
from vesk.actions.intake import facts_of
from vesk.actions.located import Located
from vesk.core.clocks.sound_delay import SoundDelay
from vesk.core.conform.correction import Correction, Errors, errors, propose
from vesk.core.pairing.by_claps import error_by_claps
from vesk.core.pairing.evidence import SOUND, STRIKE, TIMECODE, Evidence
from vesk.core.pairing.rivals import Claim, Rivalry, Shared, rivalries, to_compare
from vesk.core.picture.closure import contact_between
from vesk.core.sound.distance import distance_delay_s
from vesk.core.sound.measurement import MATCHED, REFUSED, Measurement
from vesk.core.timecode import unwrapped
from vesk.core.timemap import AnyMap
from vesk.core.tolerance import Tolerance
from vesk.core.verdict.causes import Names, Setting, Verdict, give_verdict
from vesk.media import cache, scan
from vesk.media.facts import Facts
from vesk.settings import Settings
from vesk.store import compared, days, pairings, recordings, strikes
from vesk.store.tables import CheckRow, CorrectionRow, Day, Pairing, Recording, Source, StrikeRow

CLEAR = 2.0  # clearness from which a clap seen is worth believing before a person looked
PROPOSED, MEASURED, CORRECTED, CHECKED, SET_ASIDE, UNPAIRED = (
    "proposed", "measured", "corrected", "checked", "set aside", "unpaired",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Standing:
    """A pairing as it stands now."""

    day: Day
    pairing: Pairing
    picture: Recording
    sound: Recording
    picture_source: Source
    sound_source: Source
    found: Measurement | None
    correction: CorrectionRow | None
    check: CheckRow | None
    rivalry: Rivalry | None
    rival_name: str
    picture_strikes: tuple[StrikeRow, ...]
    sound_strikes: tuple[StrikeRow, ...]

    @property
    def fps(self) -> Fraction:
        """Of the picture."""
        return Fraction(self.picture.facts.get("fps") or self.day.fps)

    @property
    def tolerance(self) -> Tolerance:
        """The day's."""
        return Tolerance(self.day.tolerance)

    @property
    def late_s(self) -> float:
        """How late the camera hears beyond the recorder, seconds: distance and internal delay, as known."""
        metres = (self.picture_source.distance_mm - self.sound_source.distance_mm) / 1000
        return distance_delay_s(metres) + self.picture_source.delay_us / 1e6

    @property
    def as_corrected(self) -> Correction:
        """The correction that stands; none is a slip of nothing."""
        row = self.correction
        if row is None:
            return Correction()
        jumps = tuple((Fraction(at), Fraction(step)) for at, step in row.jumps)
        return Correction(row.slip, row.ppm, row.anchor, jumps)

    @property
    def laid(self) -> AnyMap:
        """Sound seconds to picture seconds, as corrected."""
        return self.as_corrected.on(self.pairing.offset)

    @property
    def points(self) -> tuple[float, float, float]:
        """Picture times of head, middle and tail of what the two share."""
        if self.found is not None and self.found.line is not None:
            return self.found.head_s, self.found.middle_s, self.found.tail_s
        offset = self.pairing.offset
        head = max(Fraction(0), offset)
        tail = min(self.picture.duration, offset + self.sound.duration)
        return float(head), float((head + tail) / 2), float(tail)

    @property
    def aside(self) -> str:
        """Why it is set aside: itself, or one of its recordings at intake; empty when it is not."""
        if self.pairing.state == SET_ASIDE:
            return self.pairing.reason or "no reason given"
        return self.picture.aside or self.sound.aside

    @property
    def timed(self) -> bool:
        """Whether clocks said where it lies, rather than sound alone."""
        return self.picture.start is not None and self.sound.start is not None

    @property
    def settled(self) -> bool:
        """Whether sound says where it belongs, and no other recording of the same device says the same."""
        return self.found is not None and self.found.decision == MATCHED and self.rivalry is None

    @property
    def errors(self) -> Errors | None:
        """Where the sound sits minus where it belongs; None when nothing was measured."""
        if self.found is None or self.found.line is None or not self.settled:
            return None
        return errors(self.laid, self.found.line, self.points, late_s=self.late_s)

    @property
    def proposal(self) -> Correction | None:
        """What Vesk proposes from timecode alone; None when nothing was measured."""
        if self.found is None or self.found.line is None or not self.settled:
            return None
        return propose(
            self.pairing.offset,
            self.found.line,
            self.points,
            fps=self.fps,
            tolerance=self.tolerance,
            late_s=self.late_s,
        )

    @property
    def is_checked(self) -> bool:
        """Whether a check stands: on this correction, and on these files, byte for byte as they were then."""
        if self.check is None or self.check.correction_id != (self.correction.id if self.correction else None):
            return False
        return self.check.of in {"", pairings.contents(self.picture, self.sound)}

    @property
    def state(self) -> str:
        """Its state word."""
        if self.aside:
            return SET_ASIDE
        if self.is_checked:
            return CHECKED
        if self.correction is not None:
            return CORRECTED
        return MEASURED if self.found is not None else PROPOSED

    @property
    def verdict(self) -> Verdict | None:
        """The cause and its sentence, as the pairing is laid now; None before it was measured."""
        if self.found is None:
            return None
        return give_verdict(
            self.found, self.laid, names=Names(self.picture_source.tag, self.sound_source.tag), fps=self.fps,
            tolerance=self.tolerance, late_s=self.late_s, proposal=self.proposal,
            timecode_offset=self.pairing.offset, setting=self.setting,
        )  # fmt: skip

    @property
    def setting(self) -> Setting:
        """What is known besides the sound: label time, rates, distances."""
        start = self.picture.start
        claps = self.error_by_claps(confirmed=True)
        better = self.rivalry is not None and self.rivalry.better
        aside = self.picture.aside
        return Setting(
            fps=float(self.fps), tolerance_s=float(self.tolerance.seconds(self.fps)), span_s=0.0,
            label_hours=None if start is None else float(start) / 3600,
            sample_rate=facts_of(self.sound).sample_rate or 48_000,
            seen_s=(claps.low_s, claps.high_s) if claps else None,
            better=self.rival_name if better else "", rival="" if better else self.rival_name,
            off_speed=aside.removeprefix("off-speed: ") if aside.startswith("off-speed") else "",
        )  # fmt: skip

    def error_by_claps(self, *, confirmed: bool) -> SoundDelay | None:
        """Return the interval that claps seen and heard allow for the error as laid; of those a person confirmed."""
        wanted = {strikes.CONFIRMED} if confirmed else {strikes.CONFIRMED, strikes.PROPOSED}
        fps = float(self.fps)
        seen = [
            contact_between(row.frame, fps)
            for row in self.picture_strikes
            if row.how == strikes.SEEN and row.frame and row.state in wanted
            and (row.state == strikes.CONFIRMED or row.likely >= CLEAR)
        ]  # fmt: skip
        late = distance_delay_s(self.sound_source.distance_mm / 1000)
        laid = [
            float(self.laid(Fraction(row.heard_us, 1_000_000))) - late
            for row in self.sound_strikes
            if row.heard_us is not None
        ]
        found = self.errors
        return error_by_claps(seen, laid, error_s=None if found is None else found.head_s)

    @property
    def evidence(self) -> list[Evidence]:
        """What timecode and sound say, side by side: picture time of sound sample 0."""
        half_frame = float(1 / self.fps) / 2
        by = [(self.picture_source.tag, self.picture.clock), (self.sound_source.tag, self.sound.clock)]
        says = ", ".join(f"{tag} by its {clock or 'header'}" for tag, clock in by)
        coded = all(clock == "LTC" for _, clock in by)
        gathered = [Evidence(TIMECODE, float(self.pairing.offset), 0.001 if coded else half_frame, says)]
        if not self.timed:
            without = " and ".join(
                source.tag
                for row, source in ((self.picture, self.picture_source), (self.sound, self.sound_source))
                if row.start is None
            )
            gathered = [Evidence(TIMECODE, None, None, f"{without} has no clock; sound alone found this place")]
        found = self.found
        if found is None:
            gathered.append(Evidence(SOUND, None, None, "not measured yet"))
        elif found.line is None or found.decision == REFUSED:
            gathered.append(Evidence(SOUND, None, None, found.reason))
        else:
            agree = sum(point.agrees for point in found.trace)
            says = f"{agree} of {len(found.trace)} windows agree, channel {found.channel + 1}"
            gathered.append(Evidence(SOUND, found.line.offset_s - self.late_s, found.line.band_at(found.head_s), says))
        return [*gathered, self._by_claps()]

    def _by_claps(self) -> Evidence:
        seen = [row for row in self.picture_strikes if row.how == strikes.SEEN and row.state != strikes.REFUSED]
        sure = self.error_by_claps(confirmed=True)
        claps = sure or self.error_by_claps(confirmed=False)
        if claps is None:
            alone = "a clap is seen, but none is heard near it" if seen else "no clap seen in the picture"
            return Evidence(STRIKE, None, None, alone)
        count = f"{claps.claps} clap" if claps.claps == 1 else f"{claps.agreeing} of {claps.claps} claps"
        says = f"{count} seen and heard, " + ("confirmed" if sure else "proposed: look at it")
        offset = float(self.laid(Fraction(0))) - claps.middle_s
        return Evidence(STRIKE, offset, (claps.high_s - claps.low_s) / 2, says)

    @property
    def needs_person(self) -> bool:
        """Whether somebody has to look: anything not checked, not set aside, and not simply in tolerance."""
        if self.state in {CHECKED, SET_ASIDE}:
            return False
        verdict = self.verdict
        return verdict is None or not verdict.holds


def located(settings: Settings, day: Day, row: Recording) -> Located:
    """Return a recording's place on disk and in the cache."""
    known = {"path": row.path, "facts": row.facts, "content": row.content, "joined": row.joined, "members": row.members}
    return _located(settings.cache, Path(day.folder), known)


def _located(kept: Path, folder: Path, known: Mapping[str, Any]) -> Located:
    parts = tuple(_located(kept, folder, member) for member in known["members"])
    path = parts[0].path if parts else scan.placed(folder, known["path"])
    place = cache.kept(kept, known["content"])
    return Located(path, Facts.from_json(known["facts"]), place, parts, known["joined"], folder)


def of_day(session: Session, day: Day) -> list[Standing]:
    """Return every pairing of a day as it stands, by picture and then by offset."""
    return _gather(session, day, pairings.of_day(session, day.id or 0))


def of_pairing(session: Session, pairing_id: int) -> Standing:
    """Return one pairing as it stands."""
    pairing = pairings.get(session, pairing_id)
    return _gather(session, days.get_day(session, pairing.day_id), [pairing])[0]


def is_measured(row: Pairing, picture: Recording, sound: Recording) -> bool:
    """Say whether a pairing was measured on its recordings as they are now."""
    return row.measurement is not None and row.measured_of in {"", pairings.contents(picture, sound)}


def _gather(session: Session, day: Day, rows: list[Pairing]) -> list[Standing]:
    ids = [row.id or 0 for row in rows]
    corrections = pairings.standing_corrections(session, ids)
    checks = pairings.standing_checks(session, ids)
    sharing = pairings.sharing(session, rows)
    members = recordings.by_id(session, {r.picture_id for r in sharing} | {r.sound_id for r in sharing})
    sources = {source.id: source for source in days.sources(session, day.id or 0, gone=True)}
    struck = strikes.of_recordings(session, members)
    measured = _measured(sharing, members)
    same = compared.of_day(session, day.id or 0, members)
    two = {frozenset(map(str, pair)) for pair, same_moment in same.items() if same_moment}
    rivals = rivalries(_claims(sharing, members, measured), two)
    made = []
    for row in rows:
        picture, sound = members[row.picture_id], members[row.sound_id]
        rivalry = rivals.get(str(row.id))
        made.append(
            Standing(
                day=day,
                pairing=row,
                picture=picture,
                sound=sound,
                picture_source=sources[picture.source_id],
                sound_source=sources[sound.source_id],
                found=measured.get(row.id or 0),
                correction=corrections.get(row.id or 0),
                check=checks.get(row.id or 0),
                rivalry=rivalry,
                rival_name=_rival_name(rivalry, row, sharing, members, sources) if rivalry else "",
                picture_strikes=tuple(struck.get(row.picture_id, ())),
                sound_strikes=tuple(struck.get(row.sound_id, ())),
            )
        )
    line = unwrapped((s.picture.start for s in made if s.picture.start is not None), days.rate_of(day).day)
    return sorted(made, key=lambda s: (line(s.picture.start or Fraction(0)), s.picture.path, s.pairing.offset))


def to_compare_of_day(session: Session, day: Day) -> list[Shared]:
    """Return the pairs of a day's recordings whose own sound tells whether rivals are two devices, not yet asked."""
    rows = pairings.of_day(session, day.id or 0)
    members = recordings.by_id(session, {row.picture_id for row in rows} | {row.sound_id for row in rows})
    asked = {frozenset(map(str, pair)) for pair in compared.of_day(session, day.id or 0, members)}
    claims = _claims(rows, members, _measured(rows, members))
    return [shared for shared in to_compare(claims) if shared.pair not in asked]


def _measured(rows: list[Pairing], members: dict[int, Recording]) -> dict[int, Measurement]:
    return {
        row.id or 0: measuring.from_json(row.measurement)
        for row in rows
        if row.measurement and is_measured(row, members[row.picture_id], members[row.sound_id])
    }


def _claims(rows: list[Pairing], members: dict[int, Recording], measured: dict[int, Measurement]) -> list[Claim]:
    claims = []
    for row in rows:
        found = measured.get(row.id or 0)
        if row.state == SET_ASIDE or found is None or found.line is None or found.decision != MATCHED:
            continue
        picture, sound = members[row.picture_id], members[row.sound_id]
        if picture.aside or sound.aside:
            continue
        claims.append(
            Claim(
                str(row.id), str(picture.id), str(sound.id), str(picture.source_id), str(sound.source_id),
                found.head_s, found.tail_s, found.line.offset_s, -found.log10_false_alarm, picture.start, sound.start,
            )
        )  # fmt: skip
    return claims


def _rival_name(
    rivalry: Rivalry,
    row: Pairing,
    rows: list[Pairing],
    members: dict[int, Recording],
    sources: Mapping[int | None, Source],
) -> str:
    other = next(one for one in rows if str(one.id) == rivalry.other)
    different = members[other.sound_id if other.sound_id != row.sound_id else other.picture_id]
    return f"{sources[different.source_id].tag} · {different.name}"
