"""Find partners by sound alone, for recordings whose clock says nothing."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import lru_cache
from itertools import product
from pathlib import Path
from typing import Protocol

from vesk.core.errors import MediaError
from vesk.core.kinds import MATCHED, PICTURE, REFUSED
from vesk.core.progress import OnProgress, unwatched
from vesk.core.sound.coarse import Candidate, search
from vesk.core.sound.contrast import Laid, excludes, lay, mirrored
from vesk.core.sound.finding import CONFUSED_RATES_PPM
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.measurement import Measurement
from vesk.core.sound.reel import Reel, search_reel
from vesk.core.sound.reel import lay as lay_reel
from vesk.core.sound.verify import verify
from vesk.dailies import measuring
from vesk.dailies.located import Located
from vesk.media import cache
from vesk.media.guarded import bordered

WORTH = 6.0  # robust standard deviations: chance over a day's files reaches about 5
WORTH_ODD = 12.0
WORTH_MEASURING_LOG10 = -3.0  # a place this unlikely by chance is measured in full, which decides
CLEAR_HEIGHT = 12.0  # a place so high needs no other channel to be asked
LEAST_TOGETHER, _LEAST_SHARE = 4, Fraction(1, 2)  # recordings that are worth laying together; of a take's own length
MOST_OPEN, MOST_LOOKED_AT = 3, 6  # places for the same moments
_MOST_IN_REEL, _COMPARABLE = 40, 0.5  # takes of one playback all stand nearly as high as the right one
_SAME_MOMENTS = 0.5
_LEAST_UNHELD = 0.2  # of a recording: less is what one device ran before and after the other
_LABELS_S = 1.0  # labels of two recordings are no measure of less
_PART = ""


class Clocked(Protocol):
    """What knows when it began, and which device made it."""

    @property
    def source(self) -> str:
        """The device."""

    @property
    def start(self) -> Fraction | None:
        """Real seconds on the day's label clock."""


@dataclass(frozen=True, slots=True)
class FoundBySound:
    """A pairing that sound proposes: keys of picture and sound, and what was measured."""

    picture: str
    sound: str
    found: Measurement

    @property
    def keys(self) -> frozenset[str]:
        """Of both."""
        return frozenset((self.picture, self.sound))


def find_partners(
    key: str,
    one: Located,
    others: Mapping[str, Located],
    on_progress: OnProgress = unwatched,
    made_by: Mapping[str, str] | None = None,
) -> list[FoundBySound]:
    """Compare one recording with all of the other kind, and measure where it could belong.

    Parameters
    ----------
    key, one
        The recording without a clock.
    others : mapping of str to Located
        Recordings of the other kind.
    on_progress : OnProgress
    made_by : mapping of str to str, optional
        The device of each of these: of two for the same moments one at most is right.

    Returns
    -------
    list of FoundBySound
        Those that were not refused; a long recording may have several partners.
    """
    if not one.facts.channels:
        return []
    one.ensure_heard()
    if not on_progress(0, len(others)):
        return []
    together = _long_ones(one, others)
    found: list[FoundBySound] = []
    asked: set[str] = set()
    if len(together) >= LEAST_TOGETHER:
        found = _sure(_measured(key, one, others, _all_at_once(one, together), made_by or {}))
        if _unheld_s(one, found) <= _LEAST_UNHELD * float(one.facts.duration):
            return found
        # It ran on beyond what holds a part of it: short ones may hold the rest.
        asked = set(together) if found else set()
    # The mix and its neighbour hold most takes; where they lead nowhere, a voice that only one lav holds may.
    for channels in (_first, _rest):
        asked |= {name for pair in found for name in pair.keys}
        left = {name: other for name, other in others.items() if name not in asked}
        ranked = _one_by_one(one, left, channels, on_progress)
        if ranked is None:
            return []
        found += _measured(key, one, others, ranked, made_by or {})
        if _sure(found):
            return _sure(found)
    return found


class Searches:
    """Searches of one walk, each done once: a joint of two files asks for both, the next joint for one of them."""

    def __init__(self) -> None:
        self._found: dict[Hashable, list[FoundBySound]] = {}

    def partners(
        self, key: str, one: Located, others: Mapping[str, Located], made_by: Mapping[str, str]
    ) -> list[FoundBySound]:
        """Find the partners of a recording: see `find_partners`."""
        asked = one.entry.folder, tuple((name, other.entry.folder, made_by.get(name)) for name, other in others.items())
        if asked not in self._found:
            self._found[asked] = find_partners(key, one, others, made_by=made_by)
        found, is_picture = self._found[asked], one.facts.kind == PICTURE
        return [replace(pair, picture=key) if is_picture else replace(pair, sound=key) for pair in found]


def _unheld_s(one: Located, found: list[FoundBySound]) -> float:
    """Return how much of a recording none of its partners holds, seconds."""
    spans = []
    for pair in found:
        line = pair.found.line
        late = 0.0 if one.facts.kind == PICTURE or line is None else line.offset_s
        spans.append((pair.found.head_s - late, pair.found.tail_s - late))
    unheld, until = 0.0, 0.0
    for begins, ends in sorted(spans):
        unheld += max(0.0, begins - until)
        until = max(until, ends)
    return unheld + max(0.0, float(one.facts.duration) - until)


def _one_by_one(
    one: Located, others: Mapping[str, Located], channels: _Channels, on_progress: OnProgress
) -> list[tuple[float, str, _Place]] | None:
    """Search each of the others by itself over some channels; None where somebody stopped it."""
    ranked: list[tuple[float, str, _Place]] = []
    for count, (name, other) in enumerate(others.items()):
        if not on_progress(count, len(others)):
            return None
        best = _rough(one, other, channels)
        if best is not None and best.height >= WORTH:
            ranked.append((best.height, name, best))
    ranked.sort(key=lambda item: item[:2], reverse=True)
    return ranked


def _sure(found: list[FoundBySound]) -> list[FoundBySound]:
    """Return what is certain: where one place is, a playback shared with another take is no question."""
    return [pair for pair in found if pair.found.decision == MATCHED]


@dataclass(slots=True)
class _Standing:
    """A place that more than chance speaks for: whose recording lies there, for which moments, and how it is laid."""

    name: str
    device: str
    span: tuple[float, float]
    place: Candidate
    own: Hearing
    other: Hearing
    there: Candidate
    _laid: Laid | None = None

    @property
    def laid(self) -> Laid:
        """What each window of the one that is searched for says of it: asked once, where a rival stands."""
        self._laid = self._laid or lay(self.own, self.other, self.there)
        return self._laid

    def excludes(self, other: _Standing) -> bool:
        """Say whether this one shows that another is wrong, of whose recordings one at most is right."""
        rivals = self.device == other.device and _many([self.span], other.span, 1)
        return rivals and excludes(self.own, self.laid, other.laid)


def _measured(
    key: str,
    one: Located,
    others: Mapping[str, Located],
    ranked: list[tuple[float, str, _Place]],
    made_by: Mapping[str, str],
) -> list[FoundBySound]:
    """Measure the places that are more than chance, the highest first; what is refused is none.

    Few are looked at for the same moments. A recording that ran on while another device made many has them all.
    """
    found: list[FoundBySound] = []
    looked_at: list[tuple[float, float]] = []
    open_ones: list[tuple[float, float]] = []
    for at in _standing(one, others, ranked, made_by):
        if _many(looked_at, at.span, MOST_LOOKED_AT) or _many(open_ones, at.span, MOST_OPEN):
            continue
        looked_at.append(at.span)
        is_picture = one.facts.kind == PICTURE
        picture, sound = (one, others[at.name]) if is_picture else (others[at.name], one)
        # All channels are asked, once; what comes out ambiguous is a place all the same, for a person to settle.
        result = measuring.measure_by_sound(picture, sound, proposal_s=at.place.offset_s)
        if result.decision != REFUSED and result.line is not None:
            keys = (key, at.name) if is_picture else (at.name, key)
            found.append(FoundBySound(*keys, result))
            if result.decision != MATCHED:  # many recorders hold one moment, few questions are asked of it
                open_ones.append(at.span)
    return found


def _standing(
    one: Located, others: Mapping[str, Located], ranked: list[tuple[float, str, _Place]], made_by: Mapping[str, str]
) -> list[_Standing]:
    """Return the places that more than chance speaks for, in order.

    Of a device's takes of one playback those stand that have most beyond the playback, however many there are.
    """
    standing: list[_Standing] = []
    chance: list[tuple[float, float]] = []
    is_picture = one.facts.kind == PICTURE
    for _, name, place in ranked:
        picture, sound = (one, others[name]) if is_picture else (others[name], one)
        span = _moments(picture, sound, place, of_picture=is_picture)
        if _many(chance, span, MOST_LOOKED_AT):
            continue
        heard = [cache.hearing(at.entry, channel) for at, channel in zip((picture, sound), place.channels, strict=True)]
        seen = verify(heard[0], heard[1], place.candidate, tried=max(1, len(others)))
        if seen is None or seen.log10_false_alarm > WORTH_MEASURING_LOG10:
            chance.append(span)  # told here rather than by a search everywhere
            continue
        # Windows are asked of the one that is searched for, whichever of the two has the picture.
        own, other = heard if is_picture else heard[::-1]
        there = seen.guess if is_picture else mirrored(seen.guess)
        new = _Standing(name, made_by.get(name, name), span, place.candidate, own, other, there)
        if not any(old.excludes(new) for old in standing):
            standing = [old for old in standing if not new.excludes(old)] + [new]
    return standing


def _moments(picture: Located, sound: Located, place: _Place, *, of_picture: bool) -> tuple[float, float]:
    """Return which moments two recordings share where they are laid so, on the own time of one of them, seconds."""
    offset = place.candidate.offset_s
    begins, ends = max(0.0, offset), min(float(picture.facts.duration), offset + float(sound.facts.duration))
    return (begins, ends) if of_picture else (begins - offset, ends - offset)


def _many(before: Sequence[tuple[float, float]], span: tuple[float, float], most: int) -> bool:
    """Say whether that many places were asked for about the same moments already."""
    least = _SAME_MOMENTS * (span[1] - span[0])
    return sum(min(ends, span[1]) - max(begins, span[0]) > least for begins, ends in before) >= most


def _long_ones(one: Located, others: Mapping[str, Located]) -> dict[str, Located]:
    """Return the others that can be searched as one: those that a take's segments may lie on."""
    least = one.facts.duration * _LEAST_SHARE
    found = {}
    for name, other in others.items():
        if other.facts.channels and other.facts.duration >= least:
            try:
                bordered(other.path, other.ensure_heard)
            except MediaError:
                continue
            if cache.matching_channels(other.facts, other.entry):
                found[name] = other
    return found


def _all_at_once(one: Located, others: Mapping[str, Located]) -> list[tuple[float, str, _Place]]:
    """Search all others for one at once, by the mix and its neighbour; at odd rates where the usual finds nothing."""
    names = list(others)
    is_picture = one.facts.kind == PICTURE
    own = cache.matching_channels(one.facts, one.entry)[:2]
    best: dict[str, _Place] = {}
    for rates, worth in (((0.0,), WORTH), (CONFUSED_RATES_PPM, WORTH_ODD)):
        for mine, theirs in product(own, range(2)):
            listed = [_channel(others[name], theirs) for name in names]
            reel = _reel(tuple((others[name].entry.folder, at) for name, at in zip(names, listed, strict=True)))
            short = cache.hearing(one.entry, mine).features
            if reel.total <= short.shape[0]:
                continue
            found = search_reel(reel, short, is_picture=is_picture, most=_MOST_IN_REEL, rates_ppm=rates)
            for index, place in found:
                channels = (mine, listed[index]) if is_picture else (listed[index], mine)
                before = best.get(names[index])
                if place.score >= worth and (before is None or place.score > before.height):
                    best[names[index]] = _Place(place.score, place, channels)
            if any(place.height >= CLEAR_HEIGHT for place in best.values()):
                break
        if best:
            break
    ranked = sorted(((place.height, name, place) for name, place in best.items()), key=lambda item: (-item[0], item[1]))
    least = _COMPARABLE * ranked[0][0] if ranked else 0.0
    return [each for n, each in enumerate(ranked) if n < MOST_LOOKED_AT or each[0] >= least]


def _channel(other: Located, wanted: int) -> int:
    """Return the channel that is asked first, or its neighbour where there is one."""
    channels = cache.matching_channels(other.facts, other.entry)
    return channels[min(wanted, len(channels) - 1)]


@lru_cache(maxsize=2)
def _reel(of: tuple[tuple[Path, int], ...]) -> Reel:
    """Lay a day's recordings one after the other, once for all that are searched among them."""
    return lay_reel([cache.hearing(cache.CacheEntry(folder), channel).features for folder, channel in of])


def gap_between(
    first: Located,
    second: Located,
    others: Mapping[str, Located],
    clocks: Mapping[str, Clocked],
    searches: Searches | None = None,
) -> float | None:
    """Return how much time lies between the end of one recording and the start of the next, as another device heard it.

    Parameters
    ----------
    first, second : Located
        Of one device.
    others : mapping of str to Located
        Recordings of the other kind.
    clocks : mapping of str to Clocked
        When each of those began, and which device made it.
    searches : Searches, optional
        What was searched for before.

    Returns
    -------
    float or None
        Seconds, to some 100 µs where one recording holds both ends; where two do, by the labels of these, and only
        if these lie more than a second apart from a joint. None where not both were found.
    """
    made_by = {key: one.source for key, one in clocks.items()}
    searches = searches or Searches()
    held = _end_on_other(searches, first, others, made_by, last=True)
    if held is None:
        return None
    # The same recording is asked first: most joints lie inside one.
    same = _end_on_other(searches, second, {held[0]: others[held[0]]}, made_by, last=False)
    if same is not None:
        return same[1] - held[1]
    other = _end_on_other(searches, second, others, made_by, last=False)
    before, after = clocks[held[0]].start, None if other is None else clocks[other[0]].start
    if other is None or before is None or after is None:
        return None
    gap = float(after - before) + other[1] - held[1]
    return gap if abs(gap) > _LABELS_S else None


def _end_on_other(
    searches: Searches, part: Located, others: Mapping[str, Located], made_by: Mapping[str, str], *, last: bool
) -> tuple[str, float] | None:
    """Return which other recording holds a recording's end, or its start, and when in its own time, seconds."""
    is_picture = part.facts.kind == PICTURE
    found = [one for one in searches.partners(_PART, part, others, made_by) if one.found.decision == MATCHED]
    if not found:
        return None
    best = max(found, key=lambda one: -one.found.log10_false_alarm)
    line = best.found.line
    at = float(part.facts.duration) if last else 0.0
    if line is None:
        return None
    if is_picture:
        return best.sound, at - line.offset_at(at)
    picture_s = at + line.offset_s
    for _ in range(3):  # a rate of some hundred ppm is met to a nanosecond
        picture_s = at + line.offset_at(picture_s)
    return best.picture, picture_s


def why_alone(reason: str, searched: int | None) -> str:
    """Return what is said of a recording without a partner: why, and among how many its sound was found in none."""
    return reason if searched is None else f"{reason}; its sound was found in none of {searched} recordings"


@dataclass(frozen=True, slots=True)
class _Place:
    """Where one recording could belong on another: how high that stands out, where, channels of picture and sound."""

    height: float
    candidate: Candidate
    channels: tuple[int, int]


_Channels = Callable[[Sequence[int], Sequence[int]], list[tuple[int, int]]]


def _first(own: Sequence[int], channels: Sequence[int]) -> list[tuple[int, int]]:
    return list(product(own[:2], channels[:2]))


def _rest(own: Sequence[int], channels: Sequence[int]) -> list[tuple[int, int]]:
    return [pair for pair in product(own, channels) if pair not in _first(own, channels)]


def _rough(one: Located, other: Located, channels: _Channels) -> _Place | None:
    """Return the best place by onsets over some channels of each; at odd rates where the usual one finds none."""
    usual = _best(one, other, channels, (0.0,))
    if usual is not None and usual.height >= WORTH:
        return usual
    odd = _best(one, other, channels, CONFUSED_RATES_PPM)
    # Four rates more give chance four times as many: what is real among them stands far higher.
    return odd if odd is not None and odd.height >= WORTH_ODD else usual


def _best(one: Located, other: Located, channels: _Channels, rates_ppm: tuple[float, ...]) -> _Place | None:
    if not other.facts.channels:
        return None
    try:
        bordered(other.path, other.ensure_heard)
    except MediaError:
        return None
    picture, sound = (one, other) if one.facts.kind == PICTURE else (other, one)
    listed = [cache.matching_channels(place.facts, place.entry) for place in (picture, sound)]
    best: _Place | None = None
    for own, channel in channels(*listed):
        candidates = search(
            cache.hearing(picture.entry, own).features,
            cache.hearing(sound.entry, channel).features,
            most=1,
            rates_ppm=rates_ppm,
        )
        if candidates and (best is None or candidates[0].score > best.height):
            best = _Place(candidates[0].score, candidates[0], (own, channel))
    return best
