"""Find partners by sound alone, for recordings whose clock says nothing."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import product

from vesk.actions import measuring
from vesk.actions.located import Located
from vesk.core.errors import MediaError
from vesk.core.sound.coarse import Candidate, search
from vesk.core.sound.look import look_at
from vesk.core.sound.measure import CONFUSED_RATES_PPM
from vesk.core.sound.measurement import MATCHED, REFUSED, Measurement
from vesk.media import cache
from vesk.media.facts import PICTURE
from vesk.media.guarded import bordered

WORTH = 6.0  # robust standard deviations: chance over a day's files reaches about 5
WORTH_ODD = 12.0
WORTH_MEASURING_LOG10 = -3.0  # a place this unlikely by chance is measured in full, which decides
MOST_MEASURED, MOST_LOOKED_AT = 3, 6


@dataclass(frozen=True, slots=True)
class FoundBySound:
    """A pairing that sound proposes: keys of picture and sound, and what was measured."""

    picture: str
    sound: str
    found: Measurement


def find_partners(
    key: str,
    one: Located,
    others: Mapping[str, Located],
    report: Callable[[int, int], bool] = lambda _done, _total: True,
) -> list[FoundBySound]:
    """Compare one recording with all of the other kind, and measure where it could belong.

    Parameters
    ----------
    key, one
        The recording without a clock.
    others : mapping of str to Located
        Recordings of the other kind.
    report : callable
        Called with (done, total); returns whether to go on.

    Returns
    -------
    list of FoundBySound
        Those that were not refused; a long recording may have several partners.
    """
    if not one.facts.channels:
        return []
    one.ensure_heard()
    found: list[FoundBySound] = []
    # The mix and its neighbour hold most takes; where they lead nowhere, a voice that only one lav holds may.
    for channels in (_first, _rest):
        ranked: list[tuple[float, str, _Place]] = []
        for count, (name, other) in enumerate(others.items()):
            if not report(count, len(others)):
                return []
            best = _rough(one, other, channels)
            if best is not None and best.height >= WORTH:
                ranked.append((best.height, name, best))
        ranked.sort(key=lambda item: item[:2], reverse=True)
        found += _measured(key, one, others, ranked[:MOST_LOOKED_AT])
        # Where one place is certain, a playback shared with another take is no question.
        sure = [pair for pair in found if pair.found.decision == MATCHED]
        if sure:
            return sure
    return found


def _measured(
    key: str, one: Located, others: Mapping[str, Located], ranked: list[tuple[float, str, _Place]]
) -> list[FoundBySound]:
    """Measure the places that are more than chance, the highest first; what is refused is none."""
    found: list[FoundBySound] = []
    tried = max(1, len(others))
    for _, name, place in ranked:
        picture, sound = (one, others[name]) if one.facts.kind == PICTURE else (others[name], one)
        if len(found) >= MOST_MEASURED or not _stands(picture, sound, place, tried):
            continue
        # All channels are asked, once; what comes out ambiguous is a place all the same, for a person to settle.
        result = measuring.measure_by_sound(picture, sound, proposal_s=place.candidate.offset_s)
        if result.decision != REFUSED and result.line is not None:
            keys = (key, name) if one.facts.kind == PICTURE else (name, key)
            found.append(FoundBySound(*keys, result))
    return found


def not_found(count: int) -> str:
    """Return what is said of a recording that was searched for among so many, and found in none."""
    return f"its sound was found in none of {count} recordings"


@dataclass(frozen=True, slots=True)
class _Place:
    """Where one recording could belong on another: how high that stands out, where, channels of picture and sound."""

    height: float
    candidate: Candidate
    channels: tuple[int, int]


def _stands(picture: Located, sound: Located, place: _Place, tried: int) -> bool:
    """Look at a place window by window: most are chance, and are told so here rather than by a search everywhere."""
    own, channel = place.channels
    seen = look_at(cache.hearing(picture.kept, own), cache.hearing(sound.kept, channel), place.candidate, tried=tried)
    return seen is not None and seen.log10_false_alarm <= WORTH_MEASURING_LOG10


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
    listed = [cache.matching_channels(place.facts, place.kept) for place in (picture, sound)]
    best: _Place | None = None
    for own, channel in channels(*listed):
        candidates = search(
            cache.hearing(picture.kept, own).features, cache.hearing(sound.kept, channel).features, most=1,
            rates_ppm=rates_ppm,
        )  # fmt: skip
        if candidates and (best is None or candidates[0].score > best.height):
            best = _Place(candidates[0].score, candidates[0], (own, channel))
    return best
