"""Find partners by sound alone, for recordings whose clock says nothing."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from vesk.actions import measuring
from vesk.actions.located import Located
from vesk.core.errors import MediaError
from vesk.core.sound.coarse import search
from vesk.core.sound.measurement import MATCHED, Measurement
from vesk.media import cache
from vesk.media.facts import PICTURE
from vesk.media.guarded import bordered

WORTH = 6.0  # robust standard deviations: chance over a day's files reaches about 5
MOST_MEASURED = 3


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
        Those that matched; a long recording may have several partners.
    """
    if not one.facts.channels:
        return []
    one.ensure_heard()
    ranked: list[tuple[float, str, _Place]] = []
    for count, (name, other) in enumerate(others.items()):
        if not report(count, len(others)):
            return []
        best = _rough(one, other)
        if best is not None and best.height >= WORTH:
            ranked.append((best.height, name, best))
    found: list[FoundBySound] = []
    for _, name, place in sorted(ranked, key=lambda item: item[:2], reverse=True)[:MOST_MEASURED]:
        picture, sound = (one, others[name]) if one.facts.kind == PICTURE else (others[name], one)
        # The channels that look alike first: most places are none, and to be sure of that with all of them takes long.
        result = measuring.measure_by_sound(picture, sound, proposal_s=place.offset_s, channels=place.channels)
        if result.decision != MATCHED:
            continue
        whole = measuring.measure_by_sound(picture, sound, proposal_s=place.offset_s)
        result = whole if whole.decision == MATCHED else result
        if result.line is not None:
            keys = (key, name) if one.facts.kind == PICTURE else (name, key)
            found.append(FoundBySound(*keys, result))
    return found


@dataclass(frozen=True, slots=True)
class _Place:
    """Where one recording could belong on another: how high that stands out, seconds, channels of picture and sound."""

    height: float
    offset_s: float
    channels: tuple[int, int]


def _rough(one: Located, other: Located) -> _Place | None:
    """Return the best place by onsets, over the first channels of each that can be heard."""
    if not other.facts.channels:
        return None
    try:
        bordered(other.path, other.ensure_heard)
    except MediaError:
        return None
    picture, sound = (one, other) if one.facts.kind == PICTURE else (other, one)
    best: _Place | None = None
    for own in _some(cache.matching_channels(picture.facts, picture.kept)):
        for channel in _some(cache.matching_channels(sound.facts, sound.kept)):
            candidates = search(
                cache.hearing(picture.kept, own).features, cache.hearing(sound.kept, channel).features, most=1
            )
            if candidates and (best is None or candidates[0].score > best.height):
                best = _Place(candidates[0].score, candidates[0].offset_s, (own, channel))
    return best


def _some(channels: Sequence[int]) -> Sequence[int]:
    return channels[:2]
