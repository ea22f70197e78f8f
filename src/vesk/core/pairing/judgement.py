"""A pair judged: from what was measured and what is known, all that is said of it. The one place that decides."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property

from vesk.core.clocks.sound_delay import SoundDelay
from vesk.core.conform.correction import Correction, Errors, errors, propose
from vesk.core.day.solution import Agreement, Contradiction, Place
from vesk.core.kinds import MATCHED, REFUSED, Clock
from vesk.core.pairing.by_claps import error_by_claps
from vesk.core.pairing.evidence import PERSON, SOUND, SYNC_POINT, TIMECODE, Evidence
from vesk.core.pairing.rivals import Displaced, Rivalry
from vesk.core.sound.measurement import Jump, Line, Measurement, as_jumped, as_walked, without_steps
from vesk.core.timemap import AnyMap, exact_seconds
from vesk.core.tolerance import Tolerance
from vesk.core.verdict.causes import Names, Setting, Verdict, give_verdict
from vesk.core.verdict.disagreement import Disagreement
from vesk.core.verdict.jumped import scratch_told

_SAME_STEP_S = 2e-4
_OTHERWISE_SD = 3.0  # and beyond the tolerance: evidence so far from where the day places a sound says otherwise
_LTC_S = 0.001  # how exactly decoded timecode tells; a header tells to half a frame


@dataclass(frozen=True, slots=True)
class Side:
    """One of the two recordings.

    Attributes
    ----------
    tag : str
        Its source's.
    duration : Fraction
        Seconds.
    start : Fraction or None
        By the clock that is trusted, real seconds on the day's label clock; None without one.
    clock : Clock or None
        Which clock that is.
    off_speed : str
        How its playback is no real time, where it is set aside for that; empty else.
    """

    tag: str
    duration: Fraction
    start: Fraction | None = None
    clock: Clock | None = None
    off_speed: str = ""


@dataclass(frozen=True, slots=True)
class Claps:
    """Claps seen in the picture and heard by the recorder.

    Attributes
    ----------
    seen : tuple of (float, float, bool)
        Picture times between which contact was, seconds, and whether a person confirmed it.
    heard : tuple of Fraction
        The recorder's own times, seconds.
    heard_late_s : float
        How late its microphone hears, by its distance, seconds.
    unclear : float
        How likely a clap what else is proposed in the picture is, the likeliest of it; 0 where nothing is.
    """

    seen: tuple[tuple[float, float, bool], ...] = ()
    heard: tuple[Fraction, ...] = ()
    heard_late_s: float = 0.0
    unclear: float = 0.0


@dataclass(frozen=True, eq=False)
class Judgement:
    """Two recordings, what was measured, and what is known of them.

    Attributes
    ----------
    picture, sound : Side
    found : Measurement or None
        None before it was measured.
    offset : Fraction
        Picture time of sound sample 0 before any correction, seconds.
    fps : Fraction
        Picture frames a second.
    sample_rate : int
        Of the sound, Hz.
    tolerance : Tolerance
    correction : Correction
        The one that stands.
    known_late_s : float
        How late the camera hears beyond the recorder, by distances and internal delay as entered, seconds.
    claps : Claps or None
        None where nobody looked for any.
    rivalry : Rivalry or None
        Another pairing that claims the same moments.
    rival : str
        Its name, for a person.
    place : Place or None
        What the day's solution says of it; None for two files alone.
    """

    picture: Side
    sound: Side
    found: Measurement | None
    offset: Fraction
    fps: Fraction
    sample_rate: int
    tolerance: Tolerance = Tolerance()  # noqa: RUF009 - a frozen value
    correction: Correction = Correction()  # noqa: RUF009
    known_late_s: float = 0.0
    claps: Claps | None = None
    rivalry: Rivalry | None = None
    rival: str = ""
    place: Place | None = None

    @property
    def late_s(self) -> float:
        """How late the camera hears beyond the recorder, seconds: as the whole day says, else as entered."""
        return self.known_late_s if self.place is None else self.place.late_s

    @property
    def contradiction(self) -> Contradiction | None:
        """Evidence of it that cannot be true together."""
        return None if self.place is None else self.place.contradiction

    @cached_property
    def line(self) -> Line | None:
        """How the sound lies, as heard: by sound where that decided, else where clocks or claps place it."""
        found, place = self.found, self.place
        if found is not None and found.line is not None and self._by_sound:
            heard, _ = without_steps(found.line, self.scratch_steps)
            if self._mends_steps(heard) or (place is not None and place.jumped):
                return as_jumped(heard)
            steady = None if place is None else place.steady_ppm
            return heard if steady is None else as_walked(heard, steady, found.head_s, found.tail_s)
        if place is None or place.by == SOUND or found is None:
            return None
        if not found.unheard and place.contradiction is None and not place.tied:
            return None  # both sound, and share nothing: that their clocks meet does not make them partners
        # What no ear heard has no lateness: it is put in, for what is shown to take it out again.
        return Line(place.at_s, place.offset_s + place.late_s, place.ppm, place.se_s, 0.0)

    @property
    def scratch_steps(self) -> tuple[tuple[float, float, float], ...]:
        """Steps of the offset that the sound did not make, as others say: the picture wants none of them.

        What the scratch itself shows that it gained is left out of every line without anybody's word.
        """
        return () if self.place is None else self.place.scratch_steps

    @property
    def _own_steps(self) -> tuple[Jump, ...]:
        """Steps of what is heard that the scratch made, and not the sound."""
        heard = None if self.found is None or not self._by_sound else self.found.line
        return () if heard is None else without_steps(heard, self.scratch_steps)[1]

    @property
    def scratch_told(self) -> str:
        """What the camera's scratch lost or gained by itself, in words; empty where nothing."""
        return scratch_told(self._own_steps, self.picture.tag, self.sample_rate)

    def _mends_steps(self, line: Line) -> bool:
        """Say whether the correction that stands mends what may have been a walk: a person heard that it is none."""
        mended = [float(step) for _, step in self.correction.jumps]
        return bool(line.unsure) and all(
            any(abs(step - one.step_s) < _SAME_STEP_S for step in mended) for one in line.unsure
        )

    @cached_property
    def as_jump(self) -> Correction | None:
        """What is proposed if its steps in pauses are jumps; None where it has none."""
        found = self.found
        if found is None or found.line is None or not self._by_sound:
            return None
        heard, _ = without_steps(found.line, self.scratch_steps)
        if not heard.unsure or (self.place is not None and self.place.jumped):
            return None  # there is none, or it is proposed already
        return propose(
            self.offset, as_jumped(heard), self.points, fps=self.fps, tolerance=self.tolerance, late_s=self.late_s
        )

    @property
    def placed_by(self) -> str:
        """What says where the sound belongs: a witness's word, empty where nothing does."""
        if self.line is None:
            return ""
        return str(SOUND if self._by_sound or self.place is None else self.place.by)

    @property
    def by_clock(self) -> bool:
        """Whether clocks alone place it: nothing was heard or seen that says where it belongs."""
        return self.placed_by == TIMECODE

    @cached_property
    def as_recorded(self) -> Verdict | None:
        """The cause as it was found, before anything was corrected."""
        return replace(self, correction=Correction()).verdict

    @property
    def _by_sound(self) -> bool:
        """Whether sound says where it belongs, or left it open and the clocks of the day agree with it."""
        if self.found is None or self.found.line is None or (self.place is not None and self.place.by != SOUND):
            return False
        matched = self.found.decision == MATCHED and self.rivalry is None
        return matched or (self.place is not None and self.place.confirmed)

    @cached_property
    def laid(self) -> AnyMap:
        """Sound seconds to picture seconds, as corrected."""
        return self.correction.on(self.offset)

    @property
    def points(self) -> tuple[float, float, float]:
        """Picture times of head, middle and tail of what the two share, seconds."""
        if self.found is not None and self.found.line is not None and (self._by_sound or self.line is None):
            return self.found.head_s, self.found.middle_s, self.found.tail_s
        offset = self.offset if self.line is None else exact_seconds(self.line.offset_s - self.late_s)
        head = max(Fraction(0), offset)
        tail = max(head, min(self.picture.duration, offset + self.sound.duration))
        return float(head), float((head + tail) / 2), float(tail)

    @property
    def timed(self) -> bool:
        """Whether clocks said where it lies, rather than sound alone."""
        return self.picture.start is not None and self.sound.start is not None

    @property
    def settled(self) -> bool:
        """Whether it is known where the sound belongs: by sound, without a rival, or as the whole day places it."""
        return self.line is not None

    @cached_property
    def errors(self) -> Errors | None:
        """Where the sound sits minus where it belongs, seconds; None when that is not known."""
        return None if self.line is None else errors(self.laid, self.line, self.points, late_s=self.late_s)

    @cached_property
    def proposal(self) -> Correction | None:
        """What is proposed, from `offset` on; None when it is not known where the sound belongs."""
        if self.line is None:
            return None
        return propose(self.offset, self.line, self.points, fps=self.fps, tolerance=self.tolerance, late_s=self.late_s)

    @cached_property
    def verdict(self) -> Verdict | None:
        """The cause and its sentence, as the sound is laid now; None before it was measured."""
        if self.found is None:
            return None
        found, by = self.found, None
        if self.line is not None and not self._by_sound and self.place is not None:
            # Sound has not decided: the verdict is of where clocks or claps place it.
            head, middle, tail = self.points
            found = replace(found, decision=MATCHED, line=self.line, head_s=head, middle_s=middle, tail_s=tail)
            by = self.place
        elif self._by_sound:
            confirmed = self.place is not None and self.place.confirmed
            found = replace(found, line=self.line, decision=MATCHED if confirmed else found.decision)
        return give_verdict(
            found, self.laid, names=Names(self.picture.tag, self.sound.tag), fps=self.fps,
            tolerance=self.tolerance, late_s=self.late_s, proposal=self.proposal, timecode_offset=self.offset,
            setting=self.setting, placed=by, disagrees=self._disagreement, of_scratch=self._own_steps,
        )  # fmt: skip

    @cached_property
    def by_scratch(self) -> Errors | None:
        """Where the sound sits against the scratch, seconds, with what is entered of ears taken out and no more."""
        line = self.found.line if self.found is not None else None
        return None if line is None else errors(self.laid, line, self.points, late_s=self.known_late_s)

    @property
    def _disagreement(self) -> Disagreement | None:
        """What cannot be true together, with how far off the sound is by either reading."""
        if self.contradiction is None:
            return None
        heard, seen = (None if one is None else one.middle_s for one in (self.by_scratch, self.errors))
        return Disagreement(self.contradiction, heard, seen)

    @cached_property
    def setting(self) -> Setting:
        """What is known besides the sound: label time, rates, claps a person confirmed, rivals, speed."""
        claps = self.error_by_claps(confirmed=True)
        better = self.rivalry is not None and self.rivalry.better
        of_another = self.rivalry is not None and self.rivalry.settled in {Displaced.ORDER, Displaced.OTHER_TIME}
        belongs = self.rival or ("another take" if of_another else "")
        return Setting(
            fps=float(self.fps), tolerance_s=float(self.tolerance.seconds(self.fps)), span_s=0.0,
            label_hours=None if self.picture.start is None else float(self.picture.start) / 3600,
            sample_rate=self.sample_rate, seen_s=(claps.low_s, claps.high_s) if claps else None,
            better=belongs if better and self.line is None else "",
            rival="" if better or self.line is not None else self.rival,
            off_speed=self.picture.off_speed,
        )  # fmt: skip

    def error_by_claps(self, *, confirmed: bool) -> SoundDelay | None:
        """Return the interval that claps seen and heard allow for the error as laid; of those a person confirmed."""
        if self.claps is None:
            return None
        seen = [(low, high) for low, high, by_person in self.claps.seen if by_person or not confirmed]
        laid = [float(self.laid(at)) - self.claps.heard_late_s for at in self.claps.heard]
        found = self.errors
        return error_by_claps(seen, laid, error_s=None if found is None else found.head_s)

    @cached_property
    def evidence(self) -> list[Evidence]:
        """What timecode, sound and claps say, side by side: picture time of sound sample 0."""
        gathered = [self._by_timecode(), self._heard()]
        gathered += [] if self.claps is None else [self._by_claps(self.claps)]
        gathered += self._tied()
        apart = {} if self.place is None else {one.witness: one for one in self.place.agreements}
        return [self._against_the_day(one, apart.get(one.kind)) for one in gathered]

    def _against_the_day(self, one: Evidence, said: Agreement | None) -> Evidence:
        if said is None:
            return one
        bound = max(_OTHERWISE_SD * said.sd_s, float(self.tolerance.seconds(self.fps)))
        return replace(one, apart_sd=said.apart_sd, otherwise=abs(said.apart_sd) * said.sd_s > bound)

    def _tied(self) -> list[Evidence]:
        """Return what the same event on both says, or who joined them."""
        tie = None if self.place is None else self.place.tie
        if tie is None:
            return []
        by_hand = tie.by == PERSON
        says = f"{tie.name} joined them by hand" if by_hand else f"the same event on both: {tie.name}"
        return [Evidence(PERSON if by_hand else SYNC_POINT, tie.offset_s, 1.96 * tie.se_s, says)]

    def _by_timecode(self) -> Evidence:
        sides = (self.picture, self.sound)
        if not self.timed:
            without = " and ".join(side.tag for side in sides if side.start is None)
            return Evidence(TIMECODE, None, None, f"{without} has no clock; sound alone found this place")
        says = ", ".join(f"{side.tag} by its {side.clock or 'header'}" for side in sides)
        exact = all(side.clock == "LTC" for side in sides)
        return Evidence(TIMECODE, float(self.offset), _LTC_S if exact else float(1 / self.fps) / 2, says)

    def _heard(self) -> Evidence:
        found = self.found
        if found is None:
            return Evidence(SOUND, None, None, "not measured yet")
        if found.line is None or found.decision == REFUSED:
            return Evidence(SOUND, None, None, found.reason)
        agree = sum(point.agrees for point in found.trace)
        said = "agree" if agree or not found.line.moves else "agree on a line: nobody stands"
        says = f"{agree} of {len(found.trace)} windows {said}, channel {found.channel + 1}"
        return Evidence(SOUND, found.line.offset_s - self.known_late_s, found.line.band_at(found.head_s), says)

    def _by_claps(self, claps: Claps) -> Evidence:
        sure = self.error_by_claps(confirmed=True)
        found = sure or self.error_by_claps(confirmed=False)
        if found is None:
            if claps.seen:
                alone = "a clap is seen, but none is heard near it"
            elif claps.unclear:
                alone = (
                    f"something in the picture is {100 * claps.unclear:.0f} % like a clap, but none is heard near it"
                )
            else:
                alone = "no clap seen in the picture"
            return Evidence(SYNC_POINT, None, None, alone)
        count = f"{found.claps} clap" if found.claps == 1 else f"{found.agreeing} of {found.claps} claps"
        says = f"{count} seen and heard, " + ("confirmed" if sure else "proposed: look at it")
        offset = float(self.laid(Fraction(0))) - found.middle_s
        return Evidence(SYNC_POINT, offset, (found.high_s - found.low_s) / 2, says)
