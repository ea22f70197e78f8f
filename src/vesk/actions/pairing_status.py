"""How a pairing stands: everything that pages, turnovers and reports say of it, computed from its rows."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.actions.composing import Parts, by_parts
from vesk.core.conform.correction import Correction, Errors
from vesk.core.conform.retiming import Timed, timed
from vesk.core.day.solution import Contradiction
from vesk.core.kinds import Origin, Status
from vesk.core.pairing.evidence import Evidence
from vesk.core.pairing.judgement import Judgement
from vesk.core.pairing.rivals import Rivalry
from vesk.core.sound.measurement import Measurement
from vesk.core.timemap import AnyMap
from vesk.core.tolerance import Tolerance
from vesk.core.verdict.causes import Verdict
from vesk.store import days, pairings
from vesk.store.tables import (
    CheckRow,
    CorrectionRow,
    Day,
    Pairing,
    Recording,
    Source,
)

PROPOSED, MEASURED, CORRECTED, CHECKED, SET_ASIDE, UNPAIRED = Status


@dataclass(frozen=True, slots=True)
class PairingStatus:
    """A pairing as it stands now: its rows, and what is judged of them."""

    day: Day
    pairing: Pairing
    picture: Recording
    sound: Recording
    picture_source: Source
    sound_source: Source
    correction: CorrectionRow | None
    check: CheckRow | None
    judged: Judgement
    parts: Parts = ()  # corrections for several takes that hold for it; its own stands above their sum

    @property
    def fps(self) -> Fraction:
        """Picture frames a second."""
        return self.judged.fps

    @property
    def tolerance(self) -> Tolerance:
        """What error is let pass, in frames of the picture."""
        return self.judged.tolerance

    @property
    def late_s(self) -> float:
        """How late the camera hears beyond the recorder, seconds: as the whole day says, else as entered."""
        return self.judged.late_s

    @property
    def found(self) -> Measurement | None:
        """What was measured."""
        return self.judged.found

    @property
    def rivalry(self) -> Rivalry | None:
        """Another pairing that claims the same moments."""
        return self.judged.rivalry

    @property
    def as_corrected(self) -> Correction:
        """The correction that stands; none is a slip of nothing."""
        return self.judged.correction

    @property
    def laid(self) -> AnyMap:
        """Sound seconds to picture seconds, as corrected."""
        return self.judged.laid

    @property
    def points(self) -> tuple[float, float, float]:
        """Picture times of head, middle and tail of what the two share."""
        return self.judged.points

    @property
    def aside(self) -> str:
        """Why it is set aside: itself, or one of its recordings at intake, or by itself; empty when it is not."""
        if self.pairing.state == pairings.SET_ASIDE:
            return self.pairing.reason or "no reason given"
        if self.picture.aside or self.sound.aside or not self.is_displaced or self.rivalry is None:
            return self.picture.aside or self.sound.aside
        belongs = f", and {self.judged.rival} belongs here" if self.judged.rival else ""
        return f"{self.rivalry.settled}{belongs}"

    @property
    def telling(self) -> tuple[Recording, ...]:
        """What tells which take it is: the sound, unless that is another take's, and then the picture."""
        return (self.picture,) if self.aside else (self.sound, self.picture)

    @property
    def timed(self) -> bool:
        """Whether clocks said where it lies, rather than sound alone."""
        return self.judged.timed

    @property
    def settled(self) -> bool:
        """Whether sound says where it belongs, and no other recording of the same device says the same."""
        return self.judged.settled

    @property
    def errors(self) -> Errors | None:
        """Where the sound sits minus where it belongs; None when that is not known."""
        return self.judged.errors

    @property
    def proposal(self) -> Correction | None:
        """What Vesk proposes, from its clocks on."""
        return self.judged.proposal

    @property
    def scratch_channel(self) -> int:
        """The channel of the picture's sound that stands for its scratch, from 0: the one matched, never timecode."""
        if self.found is not None and self.found.line is not None:
            return self.found.picture_channel
        coded = self.picture.heard.ltc if self.picture.heard else {}
        channels = range(self.picture.facts.channels if self.picture.facts else 0)
        return next((channel for channel in channels if channel not in coded), 0)

    @property
    def contradiction(self) -> Contradiction | None:
        """Evidence of it that cannot be true together."""
        return self.judged.contradiction

    @property
    def verdict(self) -> Verdict | None:
        """The cause and its sentence, as the pairing is laid now; None before it was measured."""
        return self.judged.verdict

    @property
    def evidence(self) -> list[Evidence]:
        """What timecode, sound and claps say, side by side."""
        return self.judged.evidence

    @property
    def is_corrected(self) -> bool:
        """Whether a correction stands, its own or one for several takes."""
        return self.correction is not None or bool(self.parts)

    @property
    def scoped(self) -> Parts:
        """The corrections for several takes that it lies by: none under its own."""
        return self.parts if self.correction is None else ()

    @property
    def beneath(self) -> Correction:
        """What the corrections for several takes do to it, or would without its own."""
        return by_parts(self.parts, self.pairing, self.picture, days.rate_of(self.day).day)

    @property
    def timed_as(self) -> Timed:
        """How it is handed over: the sound laid on its picture, and the rate at which the picture plays."""
        return timed(self.as_corrected, self.pairing.offset, self.fps)

    @property
    def as_recorded(self) -> Verdict | None:
        """The cause as it was found, before anything was corrected."""
        return self.judged.as_recorded

    @property
    def placed_by(self) -> str:
        """What says where its sound belongs; empty where nothing does."""
        return self.judged.placed_by

    @property
    def by_clock(self) -> bool:
        """Whether clocks alone place it: nobody heard it."""
        return self.judged.by_clock

    @property
    def is_joined(self) -> bool:
        """Whether a person put it together: by the same event on both, or by saying that the two belong together."""
        return bool(self.pairing.said_by) or bool(self.correction and self.correction.origin == Origin.JOINED)

    @property
    def is_checked(self) -> bool:
        """Whether a check stands: on this correction, and on these files, byte for byte as they were then."""
        if self.check is None or self.check.correction_id != (self.correction and self.correction.id):
            return False
        if self.correction is None and set(self.check.scoped) != {one.id for one in self.parts}:
            return False
        return self.check.of in {"", pairings.contents(self.picture, self.sound)}

    @property
    def state(self) -> str:
        """Its state word."""
        if self.aside:
            return SET_ASIDE
        if self.is_checked:
            return CHECKED
        if self.is_corrected:
            return CORRECTED
        return MEASURED if self.found is not None else PROPOSED

    @property
    def is_displaced(self) -> bool:
        """Whether labels alone lay it where another file of the device belongs, and nobody worked on that."""
        untouched = self.correction is None and self.check is None
        return self.rivalry is not None and self.rivalry.settled is not None and untouched

    @property
    def needs_person(self) -> bool:
        """Whether somebody has to look: anything not checked, not set aside, and not simply in tolerance."""
        if self.state in {CHECKED, SET_ASIDE}:
            return False
        verdict = self.verdict
        return verdict is None or not verdict.holds
