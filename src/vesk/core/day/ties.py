"""What ties a picture and a sound without their sounds: one name on both, one slate and its clap, a person's hand."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from math import log
from typing import TypeVar

from vesk.core.day.day import Day, HeardClap, Named, Recorded, SeenClap, Tie
from vesk.core.kinds import PICTURE, Witness

T = TypeVar("T", SeenClap, HeardClap)
_MEAN, _SPREAD = 0.42, 0.2  # of the bounds of a first frame seen, a frame and a half: see `lateness`
_UNIFORM = 12**-0.5
_LEAST_SE_S = 0.001
_SOFT_FRAMES = 0.1  # that a clap may lie outside of its frame: shutters, labels
_CHANCE = 0.05  # of a sudden sound where none is meant
_CLEAR_NATS = log(3.0)  # by which one reading must be likelier than the next
_ALIKE_FRAMES = 1.5  # within which two readings are one
_LEAST_SHARED_S = 0.5


def ties_of(day: Day, late: Mapping[str, float]) -> list[Tie]:
    """Return all ties of a day: a person's first, then names, then slates of pictures without sound.

    Parameters
    ----------
    day : Day
    late : mapping of str to float
        How late devices hear, seconds, by tag.
    """
    found = [*day.ties, *_by_name(day, late), *_by_slate(day, late)]
    ties: dict[tuple[str, str], Tie] = {}
    for one in found:
        ties.setdefault((one.picture, one.sound), one)
    return [ties[pair] for pair in sorted(ties)]


def _by_name(day: Day, late: Mapping[str, float]) -> list[Tie]:
    """Tie recordings that bear a sync point of one name. A name used twice on one device tells no moment."""
    recordings = {one.key: one for one in day.recordings}
    named: dict[str, list[Named]] = {}
    for one in sorted(day.named, key=lambda one: (one.name, one.recording, one.low_s)):
        if one.recording in recordings and one.name.strip():
            named.setdefault(" ".join(one.name.split()).casefold(), []).append(one)
    made = []
    for own in named.values():
        devices = [recordings[one.recording].device for one in own]
        once = [one for one, device in zip(own, devices, strict=True) if devices.count(device) == 1]
        pictures = [one for one in once if recordings[one.recording].kind == PICTURE]
        sounds = [one for one in once if recordings[one.recording].kind != PICTURE]
        made += [_tie_named(one, other, recordings, late) for one in pictures for other in sounds]
    return made


def _tie_named(seen: Named, heard: Named, recordings: Mapping[str, Recorded], late: Mapping[str, float]) -> Tie:
    picture, sound = recordings[seen.recording], recordings[heard.recording]
    width = seen.high_s - seen.low_s
    at, se = _middle(seen.low_s, seen.high_s), width * _SPREAD
    if seen.heard:
        at, se = (seen.low_s + seen.high_s) / 2 - _late_of(picture, late), width * _UNIFORM
    own = (heard.low_s + heard.high_s) / 2 - _late_of(sound, late)
    se = float((se**2 + ((heard.high_s - heard.low_s) * _UNIFORM) ** 2) ** 0.5)
    return Tie(picture.key, sound.key, at, at - own, max(_LEAST_SE_S, se), Witness.SYNC_POINT, seen.name)


def _late_of(one: Recorded, late: Mapping[str, float]) -> float:
    return late.get(one.device, 0.0) if one.late_s is None else one.late_s


def _middle(low_s: float, high_s: float) -> float:
    """Return where a contact lies in the mean: the last half frame of its bounds counts less than the first."""
    return low_s + (high_s - low_s) * _MEAN


def _by_slate(day: Day, late: Mapping[str, float]) -> list[Tie]:
    """Tie a silent picture that saw a clap with the one sound of a recorder that bears its slate and heard it."""
    sounds: dict[tuple[str, str], list[Recorded]] = {}
    for one in day.recordings:
        if one.kind != PICTURE and one.slate:
            sounds.setdefault((one.slate, one.device), []).append(one)
    pictures: dict[tuple[str, str], list[Recorded]] = {}
    for one in day.recordings:
        if one.kind == PICTURE and one.slate:
            pictures.setdefault((one.slate, one.device), []).append(one)
    seen, heard = _by_recording(day.seen), _by_recording(day.heard)
    made = []
    for (slate, _), own in sorted(pictures.items()):
        for (other, _), with_slate in sorted(sounds.items(), key=lambda item: item[0]):
            if other != slate or len(own) > 1 or len(with_slate) > 1 or own[0].ears:
                continue  # a slate that was used twice does not say which is meant; what has ears, sound decides
            picture, sound = own[0], with_slate[0]
            late_s = _late_of(sound, late)
            tie = _tie_claps(picture, sound, seen.get(picture.key, []), heard.get(sound.key, []), late_s)
            made += [] if tie is None else [tie]
    return made


def _by_recording(claps: Iterable[T]) -> dict[str, list[T]]:
    found: dict[str, list[T]] = {}
    for clap in claps:
        found.setdefault(clap.recording, []).append(clap)
    return found


def _tie_claps(
    picture: Recorded, sound: Recorded, seen: list[SeenClap], heard: list[HeardClap], late_s: float
) -> Tie | None:
    """Lay claps seen on claps heard; None where nothing fits, or where two readings are about as likely."""
    soft = _SOFT_FRAMES * picture.frame_s
    readings = []
    for clap in seen:
        for ear in heard:
            offset = _middle(clap.low_s, clap.high_s) - (ear.at_s - late_s)
            shared = min(picture.duration_s, offset + sound.duration_s) - max(0.0, offset)
            if shared >= _LEAST_SHARED_S:
                readings.append((_weight(offset, seen, heard, late_s, soft), offset, clap, ear))
    if not readings:
        return None
    readings.sort(key=lambda one: (-one[0], one[1]))
    best, offset, clap, _ = readings[0]
    others = [weight for weight, at, *_ in readings if abs(at - offset) > _ALIKE_FRAMES * picture.frame_s]
    if best <= 0 or (others and best - max(others) < _CLEAR_NATS):
        return None
    allowed = [
        (one.low_s - contact, one.high_s - contact)
        for one in seen
        for contact in (ear.at_s - late_s for ear in heard)
        if one.low_s - soft <= offset + contact <= one.high_s + soft
    ]
    low, high = max(low for low, _ in allowed), min(high for _, high in allowed)  # what all that fit allow together
    if high - low < soft:
        low, high = (low + high - soft) / 2, (low + high + soft) / 2
    at = _middle(clap.low_s, clap.high_s)
    return Tie(
        picture.key, sound.key, at, _middle(low, high), max(_LEAST_SE_S, (high - low) * _SPREAD), Witness.SYNC_POINT,
        sound.slate,
    )  # fmt: skip


def _weight(offset: float, seen: list[SeenClap], heard: list[HeardClap], late_s: float, soft: float) -> float:
    total = 0.0
    for clap in seen:
        fits = [ear.likely for ear in heard if clap.low_s - soft <= offset + ear.at_s - late_s <= clap.high_s + soft]
        total += log(1 - clap.likely + clap.likely * max(fits, default=0.0) / _CHANCE + 1e-9)
    return total
