"""Solve a day: one consistent account of it, from all evidence together. The one place that does.

Sound gives the fine figure of every pairing; the devices' clocks, solved from all pairings at once, tell which single
one is wrong; claps and clocks tell how late each camera hears, and so where the *picture* wants the sound. Where
sound is missing, the clock places; where that is unknown, claps set it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from statistics import median

from vesk.core.day.claps import Lead, bounds_of, clocks_by_claps, leads_of
from vesk.core.day.clocks import Apart, DeviceClock, solve_clocks
from vesk.core.day.day import Day, Device, Match, Recorded, Tie
from vesk.core.day.devices import tell_apart
from vesk.core.day.discords import clap_against_ears, slates_against_sound
from vesk.core.day.lateness import ROUNDED, ClockSays, Lateness, weigh_lateness
from vesk.core.day.loops import find_loops
from vesk.core.day.questions import Off, ask_of_clocks
from vesk.core.day.solution import Agreement, Contradiction, Place, Question, Solution
from vesk.core.day.ties import ties_of
from vesk.core.day.whose_step import Step, another_heard, steps_of_scratch
from vesk.core.kinds import HEADER, LTC, PICTURE, Asked, Discord, Witness
from vesk.core.timecode import unwrapped

_UNLIKELY = 0.2  # a camera that hears as is usual: less likely than this, and the evidence disagrees
_APART_SD = 4.0
_LEAST_SHARED_S = 0.5
_LEAST_APART_S = 1.0  # by which clocks lay two apart, for the labels that lay them together to be wrong
_LEAST_AROUND = 3  # takes that say so, before and after
_CONFIRMED_FRAMES = 0.5  # within which a clock confirms what sound left open
_FAR_S = 0.1  # thirty-four metres
_HALF = 0.5
_ROUNDED_FRAMES = 1.5  # that one label may be from what all say together
_UNIFORM = 12**-0.5
_LEAST_OTHERS = 4  # takes that say at which rate two devices run
_RATE_KNOWN_PPM = 4.0  # how well one of them tells it
_BENT_PPM = 8.0  # a crystal's rate changes by less over a day
_WALKED_S = 0.001
_OF_ONE_TAKE = {
    Discord.POINT: Asked.POINT,
    Discord.PATTERN: Asked.PATTERN,
    Discord.CLAP: Asked.CLAP,
    Discord.SLATE: Asked.SLATE,
}


def solve(day: Day) -> Solution:
    """Solve a day.

    Parameters
    ----------
    day : Day
        The order of anything in it does not matter.
    """
    devices = tell_apart(day)
    return _Solver(_with_devices(day, devices), {one.key: one.device for one in day.recordings}).solve()


def _with_devices(day: Day, given: Mapping[str, str]) -> Day:
    """Return a day with its recordings given to devices; those that shared a tag are as that was said to be."""
    recordings = tuple(replace(one, device=given[one.key]) for one in day.recordings)
    filed = {given[one.key]: one.device for one in day.recordings}
    known = {one.tag: one for one in day.devices}
    more = tuple(replace(known[tag], tag=own) for own, tag in sorted(filed.items()) if own not in known)
    return replace(day, devices=(*day.devices, *more), recordings=recordings)


@dataclass(frozen=True, slots=True)
class _Timed:
    """A pairing that clocks place too: how far they are apart by sound, and which measurement that is."""

    label_s: float
    base_s: float
    apart_s: float
    index: int | None = None


class _Solver:
    """One day being solved; a class only so that what is known so far need not be handed around."""

    def __init__(self, day: Day, filed: Mapping[str, str]) -> None:
        self.day = day
        self.filed = filed
        made_by = {(filed[one.key], one.device) for one in day.recordings}
        self.several = {tag for tag, count in Counter(tag for tag, _ in made_by).items() if count > 1}
        self.devices: dict[str, Device] = {one.tag: one for one in day.devices}
        self.recordings: dict[str, Recorded] = {one.key: one for one in day.recordings}
        self.matches = sorted(day.matches, key=lambda one: (one.picture, one.sound))
        self.sure = [one for one in self.matches if one.sure]
        line = unwrapped((one.start for one in day.recordings if one.start is not None), day.length)
        self.labels = {one.key: float(line(one.start)) for one in day.recordings if one.start is not None}
        self.timed: dict[tuple[str, str], _Timed] = {}
        self.clocks: dict[str, DeviceClock] = {}
        self.lateness: dict[str, Lateness] = {}
        self.late: dict[str, float] = {one.tag: one.late_s for one in day.devices}
        self.beyond = day.ears_beyond()
        self.discords: dict[str, Contradiction] = {}
        self.leads: list[Lead] = []
        self.odd_claps: dict[str, tuple[float, int, int]] = {}
        self.ties = {(one.picture, one.sound): one for one in ties_of(day, self.late)}
        self.tied: dict[tuple[str, str], int] = {}
        self.apart: set[tuple[str, str]] = set()
        self.rates: dict[tuple[str, str], list[Match]] = {}
        for one in self.sure:
            self.rates.setdefault((self._tag(one.picture), self._tag(one.sound)), []).append(one)
        self.usual_ppm = {own: median(one.ppm for one in its) for own, its in self.rates.items()}
        self.beside: dict[str, list[Match]] = {}
        for one in self.sure:
            for key in (one.picture, one.sound):
                self.beside.setdefault(key, []).append(one)
        self.odd_slates = slates_against_sound(self.recordings, self.sure)

    def solve(self) -> Solution:
        self._solve_clocks()
        self._weigh_ears()
        self._ask_claps()
        places = {(one.picture, one.sound): self._place(one) for one in self.matches}
        ties = {pair: one for pair, tie in self.ties.items() if (one := self._by_tie(tie)) is not None}
        places = {(one.picture, one.sound): one for one in self._by_clock()} | places | ties
        loops = tuple(find_loops(self.sure, self.day.across))
        of_pairs = {id(one.contradiction): one.contradiction for one in places.values() if one.contradiction}
        devices = {one.key: one.device for one in self.day.recordings}
        sources = {one.device: self.filed[one.key] for one in self.day.recordings}
        return Solution(
            self.clocks, self.lateness, places, loops, tuple(of_pairs.values()), tuple(self._questions(places)),
            devices, sources, frozenset(self.apart),
        )  # fmt: skip

    def _tag(self, key: str) -> str:
        return self.recordings[key].device

    def _base_s(self, picture: str, sound: str) -> float | None:
        """Return where labels lay a sound on a picture; None where one has none."""
        if picture not in self.labels or sound not in self.labels:
            return None
        return self.day.wrapped_s(self.labels[sound] - self.labels[picture])

    def _solve_clocks(self) -> None:
        measured: list[Apart] = []
        for match in self.matches:
            base = self._base_s(match.picture, match.sound)
            if base is None:
                continue
            label = self.labels[match.picture] + match.head_s
            apart = match.at_head_s - base - self._own_late_s(match.picture, match.sound)
            index = len(measured) if match.sure else None
            self.timed[match.picture, match.sound] = _Timed(label, base, apart, index)
            if match.sure:
                tags = self._tag(match.picture), self._tag(match.sound)
                measured.append(Apart(*tags, (match.picture, match.sound), label, apart, match.se_s))
        sounding = {self._tag(one.picture) for one in self.sure}
        for pair, tie in self.ties.items():
            base, device = self._base_s(*pair), self._tag(tie.picture)
            if base is not None and device not in sounding:  # what no sound tells of its clock, these do
                # As heard: what is known of ears is put in, for all of a clock to be of one kind.
                apart = tie.offset_s + self._devices_late_s(*pair) - base
                self.tied[pair] = len(measured)
                tags = device, self._tag(tie.sound)
                measured.append(Apart(*tags, pair, self.labels[tie.picture] + tie.at_s, apart, tie.se_s))
        self.clocks = solve_clocks(measured)

    def _weigh_ears(self) -> None:
        """Weigh how late each camera hears; where that is not what is known, its evidence disagrees."""
        bounds = bounds_of(self.day, self.sure)
        for device in sorted((one for one in self.day.devices if one.kind == PICTURE), key=lambda one: one.tag):
            own = [one for one in self.day.recordings if one.device == device.tag]
            clock = self.clocks.get(device.tag)
            kind = next((one.clock for one in own if one.clock is not None), HEADER)
            frame = min((one.frame_s for one in own), default=0.04)
            late_of = self.late.get(clock.reference, 0.0) if clock else 0.0
            says = [
                ClockSays(one.ahead_s + late_of, one.error_at(one.middle_s), one.scatter_s, kind, frame)
                for one in (clock.stretches if clock else ())
            ]
            own_claps = bounds.get(device.tag, {})
            claps = [one for bound in own_claps.values() for one in bound]
            if not says and not claps:
                continue
            tolerance = self.day.tolerance_frames * frame
            found = weigh_lateness(
                device.late_s, said=bool(device.said), frame_s=frame, tolerance_s=tolerance, claps=claps, clocks=says
            )
            self.lateness[device.tag] = found
            for key, its in own_claps.items():
                if (odd := clap_against_ears(its, found, tolerance)) is not None:
                    self.odd_claps[key] = odd
            apart = found.best_s - device.late_s
            if device.said or found.as_known >= _UNLIKELY or abs(apart) <= tolerance:
                continue
            self.late[device.tag] = found.best_s
            pairs = tuple(
                (one.picture, one.sound)
                for one in self.matches
                if self._tag(one.picture) == device.tag and one.sure and one.picture not in self.beyond
            )
            self.discords[device.tag] = Contradiction(
                Discord.LATENESS, device.tag, pairs, apart, kind if found.clocks else None, found.agreeing, found.claps
            )

    def _ask_claps(self) -> None:
        """Find the clocks of cameras that no sound links to others, from the claps that they saw."""
        mute = {one.tag for one in self.day.devices if one.kind == PICTURE} - set(self.clocks)
        sound = [one.tag for one in self.day.devices if one.kind != PICTURE]
        if not self.clocks and len(sound) == 1:  # no sound decided anything: the one recorder is the reference
            self.clocks[sound[0]] = DeviceClock(sound[0], sound[0])
        references = {clock.reference for clock in self.clocks.values()}
        if mute and len(references) == 1:
            frame = max(one.frame_s for one in self.day.recordings)
            self.leads = leads_of(self.day, mute, self.clocks)
            self.clocks |= clocks_by_claps(self.leads, references.pop(), frame)

    def _late_s(self, picture: str, sound: str) -> float:
        return self._late_of(picture) - self._late_of(sound)

    def _late_of(self, key: str) -> float:
        """Return how late a recording hears: as a person says of it alone, else as its device."""
        own = self.recordings[key].late_s
        return self.late[self._tag(key)] if own is None else own

    def _devices_late_s(self, picture: str, sound: str) -> float:
        """Return how late their devices hear: what clocks are told with, whatever is said of single recordings."""
        return self.late[self._tag(picture)] - self.late[self._tag(sound)]

    def _own_late_s(self, picture: str, sound: str) -> float:
        """Return by how much later a picture hears than its device is known to, beyond how much its sound does."""
        return self.beyond.get(picture, 0.0) - self.beyond.get(sound, 0.0)

    def _predicted(self, picture: str, sound: str, label_s: float, index: int | None) -> tuple[float, float] | None:
        """Return how far the clocks of two recordings are apart as heard, and one measurement's deviation."""
        one, other = self.clocks.get(self._tag(picture)), self.clocks.get(self._tag(sound))
        if one is None or other is None or one.reference != other.reference:
            return None
        known = one.at(label_s, without=index)
        if known is None:
            return None
        moment = label_s - known[0]
        against = other.at_moment(moment, without=index)
        if against is None:
            return None
        stretches = one.stretch_at(label_s), other.stretch_at(moment + against[0])
        scatter = sum(stretch.scatter_s**2 for stretch in stretches if stretch is not None)
        return known[0] - against[0], float((scatter + known[1] ** 2 + against[1] ** 2) ** 0.5)

    def _place(self, match: Match) -> Place:
        pair = match.picture, match.sound
        late = self._late_s(*pair)
        frame = self.recordings[match.picture].frame_s
        tolerance = self.day.tolerance_frames * frame
        timed = self.timed.get(pair)
        clock = self._predicted(*pair, timed.label_s, timed.index) if timed else None
        said = match.picture in self.beyond  # of this recording alone: what its device does is no matter
        discord = None if said else self.discords.get(self._tag(match.picture))
        confirmed = False
        if timed and clock:
            apart = timed.apart_s - clock[0]
            if not match.sure:
                confirmed = abs(apart) < max(_APART_SD * clock[1], _CONFIRMED_FRAMES * frame)
                if abs(apart) > max(_LEAST_APART_S, _APART_SD * clock[1]) and self._is_known(*pair):
                    self.apart.add(pair)
            elif abs(apart) > max(_APART_SD * clock[1], tolerance):
                tag = self._tag(match.picture)
                stretch = self.clocks[tag].stretch_at(timed.label_s)
                pattern = len(stretch.members) if stretch else 0
                discord = Contradiction(Discord.PATTERN, tag, (pair,), apart, pattern=pattern)
                if 0 < apart < _FAR_S:
                    late += apart  # a microphone that stood further off: the picture wants it where the clock says
                elif match.share < _HALF:
                    # Most of what both hear does not agree with that place: two takes share a short sound.
                    offset = timed.base_s + clock[0] - late
                    return Place(*pair, max(0.0, offset), offset, clock[1], 0.0, Witness.TIMECODE, late,
                                 contradiction=discord)  # fmt: skip
        if match.sure and (discord is None or discord.about == Discord.LATENESS):
            discord = self._of_take(match, late) or discord
        steady = self._steady_ppm(match)
        place = Place(
            *pair, match.head_s, match.at_head_s - late, match.se_s, match.ppm if steady is None else steady,
            Witness.SOUND, late, confirmed=confirmed, contradiction=discord, tie=self.ties.get(pair),
            steady_ppm=steady, jumped=self._jumped(match), scratch_steps=self._of_scratch(match),
        )  # fmt: skip
        return replace(place, agreements=tuple(self._agreements(match, place, timed, clock)))

    def _steady_ppm(self, match: Match) -> float | None:
        """Return the rate at which two devices run on all their other takes, where this one's cannot be a clock's."""
        own = self._tag(match.picture), self._tag(match.sound)
        if abs(match.ppm - self.usual_ppm.get(own, match.ppm)) < _BENT_PPM / 2:
            return None  # whatever it is left out of
        others = [one.ppm for one in self.rates.get(own, ()) if one is not match and one.se_ppm < _RATE_KNOWN_PPM]
        if not match.sure or len(others) < _LEAST_OTHERS:
            return None
        usual = median(others)
        spread = 1.4826 * median(abs(one - usual) for one in others)
        away = abs(match.ppm - usual)
        walked_s = away * 1e-6 * (match.tail_s - match.head_s)
        bound = max(_BENT_PPM, _APART_SD * float((match.se_ppm**2 + spread**2) ** 0.5))
        return usual if spread < _RATE_KNOWN_PPM and away > bound and walked_s > _WALKED_S else None

    def _jumped(self, match: Match) -> bool:
        """Say whether all steps that may be somebody's way are none: another camera heard them alike."""
        of_sound = [one for one in self.beside.get(match.sound, ()) if one.sound == match.sound]
        return bool(match.unsure) and all(another_heard(match, one, of_sound, self._tag) for one in match.unsure)

    def _of_scratch(self, match: Match) -> tuple[Step, ...]:
        beside = [*self.beside.get(match.sound, ()), *self.beside.get(match.picture, ())]
        return steps_of_scratch(match, beside, self._tag) if match.sure else ()

    def _by_tie(self, tie: Tie) -> Place | None:
        """Place by what ties two recordings; None where sound decided, which a tie may only contradict."""
        pair = tie.picture, tie.sound
        if any((one.picture, one.sound) == pair for one in self.sure):
            return None
        late = self._devices_late_s(*pair)
        made = Place(*pair, tie.at_s, tie.offset_s, tie.se_s, 0.0, tie.by, late, tie=tie)
        base = self._base_s(*pair)
        if base is None or pair not in self.tied:
            return made
        label = self.labels[tie.picture] + tie.at_s
        clock = self._predicted(*pair, label, self.tied[pair])
        frame = self.recordings[tie.picture].frame_s
        if clock is None:
            return made
        away = tie.offset_s - (base + clock[0] - late)
        if tie.by == Witness.PERSON or abs(away) < max(_APART_SD * clock[1], _ROUNDED_FRAMES * frame):
            says = _agreement(Witness.TIMECODE, base + clock[0] - late, clock[1], made)
            return replace(made, agreements=(says,))
        return None  # another clap than is meant: all the others of its device say so

    def _of_take(self, match: Match, late_s: float) -> Contradiction | None:
        """Return what of this take alone cannot be true together with where sound lays it: the most telling first."""
        pair = match.picture, match.sound
        found = self._against_tie(match, late_s)
        odd = self.odd_claps.get(match.picture)
        if found is None and odd is not None:
            tag = self._tag(match.picture)
            found = Contradiction(Discord.CLAP, tag, (pair,), odd[0], agreeing=odd[1], claps=odd[2])
        return found or self.odd_slates.get(pair)

    def _against_tie(self, match: Match, late_s: float) -> Contradiction | None:
        """Return that a sync point on both, or a person, says otherwise than sound does."""
        tie = self.ties.get((match.picture, match.sound))
        if tie is None:
            return None
        apart = match.heard_s(tie.at_s) - late_s - tie.offset_s
        tolerance = self.day.tolerance_frames * self.recordings[match.picture].frame_s
        if abs(apart) <= max(_APART_SD * tie.se_s, tolerance):
            return None
        pair = match.picture, match.sound
        return Contradiction(Discord.POINT, self._tag(match.picture), (pair,), apart, name=tie.name)

    def _agreements(
        self, match: Match, place: Place, timed: _Timed | None, clock: tuple[float, float] | None
    ) -> list[Agreement]:
        known = self.devices[self._tag(match.picture)].late_s - self.devices[self._tag(match.sound)].late_s
        known += self._own_late_s(match.picture, match.sound)
        spread = float((match.se_s**2 + 0.002**2) ** 0.5)
        made = [_agreement(Witness.SOUND, match.at_head_s - known, spread, place)]
        if timed and clock:
            says = timed.base_s + clock[0] - self._devices_late_s(match.picture, match.sound)
            made.append(_agreement(Witness.TIMECODE, says, clock[1], place))
        if place.tie is not None:
            # Where it says the head lies: a rate moves it by less than it can tell.
            made.append(_agreement(place.tie.by, place.tie.offset_s, place.tie.se_s, place))
        return made

    def _by_clock(self) -> list[Place]:
        """Place what sound does not: a picture that heard nothing of a recorder whose clock is known as its own is."""
        sounds = [one for one in self.day.recordings if one.kind != PICTURE and one.start is not None]
        decided = {(one.picture, self._tag(one.sound)) for one in self.sure}
        made = []
        for picture in self.day.recordings:
            if picture.kind != PICTURE or picture.start is None or picture.device not in self.clocks:
                continue
            label = self.labels[picture.key]
            for sound in sounds:
                if (picture.key, sound.device) in decided:
                    continue
                base = self._base_s(picture.key, sound.key)
                found = None if base is None else self._predicted(picture.key, sound.key, label, None)
                if base is None or found is None:
                    continue
                late = self._devices_late_s(picture.key, sound.key)
                own = self._by_own_clap(picture)
                ahead = found[0] if own is None else found[0] + own[0]
                offset = base + ahead - late
                shared = _shared_s(picture, sound, offset)
                if shared < _LEAST_SHARED_S:
                    apart = shared < -max(_LEAST_APART_S, _APART_SD * found[1])
                    if apart and _shared_s(picture, sound, base) > 0 and self._is_known(picture.key, sound.key):
                        self.apart.add((picture.key, sound.key))
                    continue
                error = self._error(picture, sound.key, label) if own is None else own[1]
                by = Witness.TIMECODE if own is None else Witness.SYNC_POINT
                made.append(Place(picture.key, sound.key, max(0.0, offset), offset, error, 0.0, by, late))
        return made

    def _is_known(self, *keys: str) -> bool:
        """Say whether takes before and after tell the clocks of recordings: beyond the last, one may have been set.

        What several devices share is any of theirs, where its own sound does not tell.
        """
        for key in keys:
            clock, label = self.clocks[self._tag(key)], self.labels[key]
            if self.filed[key] in self.several:
                return False
            own = clock.stretch_at(label)
            if own is None:
                continue  # the reference, which is never astray from itself
            if len(own.members) < _LEAST_AROUND or not own.since_s <= label <= own.until_s:
                return False
        return True

    def _by_own_clap(self, picture: Recorded) -> tuple[float, float] | None:
        """Return by how much a mute picture's own clap corrects its device's clock, and the standard error."""
        own = [lead for lead in self.leads if lead.recording == picture.key]
        known = self.clocks[picture.device].at(self.labels[picture.key])
        if not own or known is None or picture.clock == LTC:  # LTC keeps step: all its claps together tell more
            return None
        # Which of several heard is meant, the clock of all its takes together says.
        nearest = min(own, key=lambda lead: abs(lead.middle_s - known[0]))
        if abs(nearest.middle_s - known[0]) > _ROUNDED_FRAMES * picture.frame_s:
            return None
        return nearest.middle_s - known[0], nearest.se_s

    def _error(self, picture: Recorded, sound: str, label_s: float) -> float:
        """Return the standard error of a place that clocks alone give, seconds."""
        known = self.clocks[picture.device].at(label_s) or (0.0, 0.0)
        other = self.clocks[self._tag(sound)].at_moment(label_s - known[0]) or (0.0, 0.0)
        total = known[1] ** 2 + other[1] ** 2
        stretch = self.clocks[picture.device].stretch_at(label_s)
        if picture.clock == HEADER and stretch and stretch.scatter_s > ROUNDED * picture.frame_s:
            total += (picture.frame_s * _UNIFORM) ** 2  # its labels are rounded to frames that keep no step with them
        ears = self.lateness.get(picture.device)
        if ears is not None and picture.device in self.discords:
            total += ((ears.high_s - ears.low_s) / 4) ** 2
        return float(total**0.5)

    def _questions(self, places: Mapping[tuple[str, str], Place]) -> list[Question]:
        """Return what is left for a person, one question for one cause."""
        groups: dict[tuple[Asked, str, object], list[tuple[str, str]]] = {}
        off: dict[tuple[str, str, float | None, float | None], list[tuple[str, str]]] = {}
        agree: set[tuple[str, str]] = set()
        for match in self.matches:
            pair = match.picture, match.sound
            if not match.sure and pair in self.apart:
                continue
            place, tag = places[pair], self._tag(match.picture)
            about = None if place.contradiction is None else place.contradiction.about
            if about in _OF_ONE_TAKE:
                groups.setdefault((_OF_ONE_TAKE[about], tag, pair), []).append(pair)
            elif not match.sure and not place.confirmed and not place.tied:
                groups.setdefault((Asked.AMBIGUOUS, tag, pair), []).append(pair)
            elif place.contradiction is not None:
                groups.setdefault((Asked.LATENESS, tag, None), []).append(pair)
            elif self._is_off(match, place):
                off.setdefault((tag, *self._period(match)), []).append(pair)
            elif pair in self.timed:
                agree.add((tag, self._tag(match.sound)))
        ordered = sorted(groups.items(), key=lambda item: (item[0][1], item[0][0], item[1]))
        asked = [Question(what, tag, (tuple(pairs),)) for (what, tag, _), pairs in ordered]
        asked += ask_of_clocks(
            [
                Off(
                    tag, recorder, tuple(pairs), tuple(self._course(pair, places[pair]) for pair in pairs),
                    self.recordings[pairs[0][0]].frame_s,
                )
                for (tag, recorder, *_), pairs in off.items()
            ],
            agree,
        )  # fmt: skip
        return sorted(asked, key=lambda one: (one.device, one.asked, one.pairings))

    def _course(self, pair: tuple[str, str], place: Place) -> tuple[float, float]:
        """Return a pairing's label time on its camera, and how far off it is there, seconds."""
        timed = self.timed.get(pair)
        return (0.0 if timed is None else timed.label_s), self._off_s(pair, place)

    def _off_s(self, pair: tuple[str, str], place: Place) -> float:
        """Return where labels lay a pairing's head minus where it belongs, seconds."""
        timed = self.timed.get(pair)
        return timed.base_s - place.offset_s if timed else 0.0

    def _is_off(self, match: Match, place: Place) -> bool:
        """Say whether a pairing as its labels lay it leaves the tolerance, at its head or by its drift."""
        tolerance = self.day.tolerance_frames * self.recordings[match.picture].frame_s
        head = self._off_s((match.picture, match.sound), place)
        tail = head + place.ppm * 1e-6 * (match.tail_s - match.head_s)
        return max(abs(head), abs(tail)) > tolerance

    def _period(self, match: Match) -> tuple[str, float | None, float | None]:
        """Return which recorder and which stretch of either clock a pairing is of: sharing it, it shares its cause."""
        timed = self.timed.get((match.picture, match.sound))
        since = []
        for key, away in ((match.picture, 0.0), (match.sound, timed.apart_s if timed else 0.0)):
            clock = self.clocks.get(self._tag(key))
            stretch = clock.stretch_at(timed.label_s - away) if clock and timed else None
            since.append(stretch.since_s if stretch else None)
        return self._tag(match.sound), since[0], since[1]


def _shared_s(picture: Recorded, sound: Recorded, offset_s: float) -> float:
    """Return how long two recordings run together where the sound begins there, seconds; negative: between them."""
    return min(picture.duration_s, offset_s + sound.duration_s) - max(0.0, offset_s)


def _agreement(witness: Witness, offset_s: float, sd_s: float, place: Place) -> Agreement:
    return Agreement(witness, offset_s, sd_s, (offset_s - place.offset_s) / max(sd_s, 1e-6))
