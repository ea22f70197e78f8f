"""Find the places at which two recordings may share sound: search by search, what each proposes looked at in full."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

from vesk.core.sound.by_waveform import search_by_waveform
from vesk.core.sound.coarse import Candidate, Spectra, credited, prepare, search
from vesk.core.sound.echo import alike
from vesk.core.sound.follow import follow_guess
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.leaping import REACH_S, leap_guess
from vesk.core.sound.verify import SPOKE, Glance, Verified, verify

ACCEPT_LOG10 = -6.0
SHORT_S, ACCEPT_SHORT_LOG10 = 5.0, -7.0  # a short take has less to contradict a chance
AMBIGUOUS_RATIO = 0.7
# A clock wrong by up to half a percent, each followed ±600 ppm; 24 run as 25 and 44.1 as 48, either way.
WIDE_RATES_PPM = tuple(float(n) for n in range(-5000, 5001, 1000) if n)
CONFUSED_RATES_PPM = ((25 / 24 - 1) * 1e6, (24 / 25 - 1) * 1e6, (48 / 44.1 - 1) * 1e6, (44.1 / 48 - 1) * 1e6)
_SAME_S = 0.1
_ALIKE_S = 0.005  # half of what a row of features lasts
_WORTH = 0.25
_BY_WAVE, _BY_ONSETS = 2, 3  # places of one search that are looked at before any is found: what is right leads it
# Of what chance gives one in twelve shows as much at a glance, and all that is right does.
_GLANCE = Glance(windows=16, log10_chance=0.3)
_STEPS_BESIDE, _BETTER = 4, 1.0  # strokes followed at most; nats that another must have more
_FEW, _FAR_MORE = 0.5, 20.0  # of the windows; orders of magnitude less likely to be chance
_FOLLOWED = 2  # places that are followed where no line is found


@dataclass(frozen=True, slots=True)
class Around:
    """Where to look: at this place first, seconds, within this reach of it; nowhere else where `only` there."""

    at_s: float | None
    reach_s: float
    only: bool = False


@dataclass(frozen=True, slots=True)
class _Stage:
    """One way of searching, and how many hypotheses it adds."""

    by_wave: bool
    around_s: float | None
    rates: tuple[float, ...]


def _stages(around: Around) -> Iterator[_Stage]:
    """Order the searches: near the proposal before everywhere, onsets before waveforms, likely rates before odd."""
    proposal_s = around.at_s
    if proposal_s is not None:
        yield _Stage(by_wave=False, around_s=proposal_s, rates=(0.0,))
    if around.only:
        yield _Stage(by_wave=True, around_s=proposal_s, rates=(0.0,))
        return
    yield _Stage(by_wave=False, around_s=None, rates=(0.0,))
    if proposal_s is not None:
        yield _Stage(by_wave=True, around_s=proposal_s, rates=(0.0,))
    yield _Stage(by_wave=True, around_s=None, rates=(0.0,))
    yield _Stage(by_wave=False, around_s=None, rates=WIDE_RATES_PPM)
    yield _Stage(by_wave=False, around_s=None, rates=CONFUSED_RATES_PPM)


@dataclass(slots=True)
class _SoFar:
    """What the searches made so far led to: the most certain first, once a search is through."""

    channels: int
    tried: int = 0
    places: list[Verified] = field(default_factory=list)
    looked: list[Candidate] = field(default_factory=list)
    onsets: list[Candidate] = field(default_factory=list)


def find_places(picture: Hearing, sound: Hearing, around: Around, channels: int) -> list[Verified]:
    """Look at candidates, stage by stage, until one is beyond chance.

    Parameters
    ----------
    picture, sound : Hearing
        One channel of each.
    around : Around
    channels : int
        Pairs of channels that are tried in all: chance has had as many goes.

    Returns
    -------
    list of Verified
        The most certain first; a tenth of a second apart or more.
    """
    so_far = _SoFar(channels)
    everywhere = False
    longer = sound if sound.features.shape[0] > picture.features.shape[0] else picture
    prepared: Spectra | None = None
    for stage in _stages(around):
        if accepted(so_far.places) and (everywhere or stage.by_wave):
            continue
        find = {"around_s": stage.around_s, "reach_s": around.reach_s, "rates_ppm": stage.rates}
        if stage.by_wave:
            found = search_by_waveform(picture, sound, **find)  # type: ignore[arg-type]
        elif min(picture.features.shape[0], sound.features.shape[0]):
            prepared = prepared or prepare(longer.features)
            found = search(picture.features, sound.features, prepared=prepared, **find)  # type: ignore[arg-type]
            everywhere |= stage.around_s is None
        else:
            continue
        _look(picture, sound, stage, found, so_far)
    places = so_far.places
    likely = sorted(so_far.onsets, key=lambda one: -one.score)[:_FOLLOWED]
    if accepted(places):
        places = _most_certain([*better_stairs(picture, sound, places[0], likely, channels), *places])
    else:
        # Onsets that are no chance, and no line at any rate: somebody may be walking.
        # They were chosen by their onsets, which no waveform had a part in: only these were tried.
        tried = 2 * _FOLLOWED * channels
        # Or samples are lost again and again: far apart, steps look like somebody who paces to and fro.
        looks = [look(picture, sound, one, tried=tried) for look in (follow_guess, leap_guess) for one in likely]
        places = _once_climbed(_most_certain([*places, *(place for place in looks if place is not None)]))
    return distinct(places)


def _once_climbed(places: list[Verified]) -> list[Verified]:
    """Return places without stairs that a better path has climbed: two candidates see the same ones."""
    kept: list[Verified] = []
    for place in places:
        at = place.at_middle_s
        near = [one for one in kept if one.leaps and abs(float(one.offset_at(place.middle_s)) - at) < 2 * REACH_S]
        if not (place.leaps and near):
            kept.append(place)
    return kept


def better_stairs(
    picture: Hearing, sound: Hearing, place: Verified, likely: Sequence[Candidate], channels: int
) -> list[Verified]:
    """Return what explains far more than a line that few windows lie on: the stairs it runs across.

    Parameters
    ----------
    picture, sound : Hearing
    place : Verified
        The line that was found.
    likely : sequence of Candidate
        Places by their onsets at the nominal rate, the likeliest first.
    channels : int
        Pairs of channels that are tried in all.

    Returns
    -------
    list of Verified
        One, or none where the line stands.
    """
    if float((place.surprise > SPOKE).mean()) > _FEW or not likely:
        return []
    found = leap_guess(picture, sound, likely[0], tried=channels)
    return [] if found is None or found.log10_false_alarm > place.log10_false_alarm - _FAR_MORE else [found]


def _look(picture: Hearing, sound: Hearing, stage: _Stage, found: list[Candidate], so_far: _SoFar) -> None:
    """Look at what one search proposes."""
    so_far.tried += len(found)
    nominal = stage.rates == (0.0,)
    for number, candidate in enumerate(found):
        sure = accepted(so_far.places)
        if sure and candidate.score < _WORTH * found[0].score:
            break  # nothing that fell so far behind has ever been a rival
        if not sure and number >= (_BY_WAVE if stage.by_wave else _BY_ONSETS):
            break
        if _looked_at(candidate, so_far.looked):
            continue
        so_far.looked.append(candidate)
        tried = so_far.tried * so_far.channels
        glance = None if sure or (nominal and number == 0) else _GLANCE
        place = verify(picture, sound, candidate, tried=tried, glance=glance)
        if nominal and not stage.by_wave:
            so_far.onsets.append(candidate)
        if place is None:
            continue
        # A rhythm that stands as high elsewhere (wheels on their rails, a machine) says nothing of where.
        alone = all(one is candidate or one.score < AMBIGUOUS_RATIO * candidate.score for one in found)
        score = candidate.score if nominal and not stage.by_wave and alone else 0.0
        place = replace(place, log10_false_alarm=credited(place.log10_false_alarm, score))
        highest = max((one.strength for one in so_far.places), default=0.0) < place.strength
        beside = _beside(picture, sound, place, tried) if highest else ()
        so_far.places = _most_certain([*so_far.places, place, *beside])


def _beside(picture: Hearing, sound: Hearing, place: Verified, tried: int) -> Iterator[Verified]:
    """Yield better places next to one at which the shared sound repeats: a search keeps one of those that lie so near.

    An engine's strokes are never quite the same: they fit best where they are heard.
    """
    if place.repeat_ratio < AMBIGUOUS_RATIO or place.log10_false_alarm > limit(place):
        return
    around = alike(picture, sound, place)
    if around is not None and around.smeared:  # a hall: what arrives first is looked for later
        return
    for _ in range(_STEPS_BESIDE):
        if place.repeat_ratio < AMBIGUOUS_RATIO:
            return
        guess, step = place.guess, abs(place.repeat_s)
        found = [
            verify(picture, sound, replace(guess, offset_s=guess.offset_s + by), tried=tried) for by in (-step, step)
        ]
        better = [one for one in found if one is not None and one.strength > place.strength + _BETTER]
        if not better:
            return
        place = max(better, key=lambda one: one.strength)
        yield place


def _looked_at(candidate: Candidate, before: Sequence[Candidate]) -> bool:
    """Say whether a candidate is one that another stage found: verified again it would say the same."""
    return any(abs(one.offset_s - candidate.offset_s) < _ALIKE_S and abs(one.ppm - candidate.ppm) < 1 for one in before)


def _most_certain(places: list[Verified]) -> list[Verified]:
    return sorted(places, key=lambda one: (one.log10_false_alarm, -one.strength))


def distinct(places: list[Verified]) -> list[Verified]:
    """Return places that are no other place over again, the first of each."""
    kept: list[Verified] = []
    for place in places:
        if all(abs(float(place.offset_at(other.middle_s)) - other.at_middle_s) > _SAME_S for other in kept):
            kept.append(place)
    return kept


def limit(place: Verified) -> float:
    """Return the logarithm of the chance that a place may have at most, to be believed."""
    span = float(place.at_s[-1] - place.at_s[0]) if place.at_s.size else 0.0
    return ACCEPT_SHORT_LOG10 if span < SHORT_S else ACCEPT_LOG10


def accepted(places: list[Verified]) -> bool:
    """Say whether the first of places is beyond chance."""
    return bool(places) and places[0].log10_false_alarm <= limit(places[0])
