"""A shoot day as evidence alone: what clocks, sounds and claps would say of it, and the truth, without any file.

A stand-in for hundreds of files: the day's solution is asked about days that would take hours to make.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from math import floor

import numpy as np

from vesk.core.day.day import Day, Device, HeardClap, Match, Recorded, SeenClap
from vesk.core.kinds import HEADER, PICTURE, SOUND, Clock, Kind

_SE_S = 2e-6
_EDGE_S, _LEAST_S = 0.2, 1.0
_LIKELY = 0.9
_LIKELY_HEARD = 0.8


@dataclass(frozen=True, slots=True)
class MadeDevice:
    """A device: its clock's error (seconds) as a function of true time, None without one; what its ears are like.

    `late_s` is how late it hears, `wander_m` how far its microphone moves from take to take. A mute one hears nothing.
    """

    tag: str
    kind: Kind
    error: Callable[[float], float] | None = lambda _at: 0.0
    clock: Clock = HEADER
    late_s: float = 0.0
    wander_m: float = 0.3
    mute: bool = False
    fps: float = 25.0
    ppm: float = 0.0


_Rolled = tuple[str, MadeDevice, float, float, float]  # key, device, true time, length, how late it heard


@dataclass
class MadeDay:
    """A day being made.

    Attributes
    ----------
    places : dict of (str, str) to float
        Truth: picture time of sound sample 0, on picture.
    """

    devices: Sequence[MadeDevice]
    seed: int = 1
    places: dict[tuple[str, str], float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._rng = np.random.default_rng(self.seed)
        self._own = {one.tag: one for one in self.devices}
        self._rolled: list[_Rolled] = []
        self._claps: list[float] = []
        self._odd: dict[tuple[str, str], float] = {}

    def roll(self, tag: str, at_s: float, length_s: float) -> str:
        """Have a device record from a true time on; returns the recording's key."""
        own = self._own[tag]
        key = f"{tag}{sum(one.tag == tag for _, one, *_ in self._rolled) + 1:03}"
        away = float(self._rng.normal(0, own.wander_m)) / 343
        self._rolled.append((key, own, at_s, length_s, own.late_s + away))
        return key

    def clap(self, at_s: float) -> None:
        """Have the sticks meet at a true time."""
        self._claps.append(at_s)

    def take(self, tags: Sequence[str], at_s: float, length_s: float, *, clap: bool = True) -> list[str]:
        """Have devices record a take: the recorder a little longer, each camera as quick as its operator."""
        keys = []
        for tag in tags:
            early = float(self._rng.uniform(0.5, 2.5))
            lead = early + (2.0 if self._own[tag].kind == SOUND else 0.0)
            keys.append(self.roll(tag, at_s - lead, length_s + lead + early))
        if clap:
            self.clap(at_s + 1.0)
        return keys

    def mistake(self, picture: str, sound: str, by_s: float) -> None:
        """Have sound lay a pair wrong by so much: a ring tone, another take of the same lines."""
        self._odd[picture, sound] = by_s

    def day(self, *, sure: bool = True) -> Day:
        """Return the evidence; what is not `sure` was left open by sound, as where several takes share theirs."""
        recorded = tuple(self._recorded(*one) for one in self._rolled)
        pictures = [one for one in self._rolled if one[1].kind == PICTURE]
        sounds = [one for one in self._rolled if one[1].kind == SOUND]
        matches = []
        for picture in pictures:
            for sound in sounds:
                match = self._match(picture, sound)
                if match is not None:
                    matches.append(replace(match, sure=sure))
        seen = [
            self._seen(key, own, clap - at, late)
            for key, own, at, length, late in pictures
            for clap in self._within(at, length)
        ]
        heard = [
            HeardClap(key, clap - at + late, _LIKELY_HEARD)
            for key, _, at, length, late in sounds
            for clap in self._within(at, length)
        ]
        devices = tuple(Device(one.tag, one.kind) for one in self.devices)
        return Day(devices, recorded, tuple(matches), tuple(seen), tuple(heard))

    def _within(self, at: float, length: float) -> list[float]:
        return [clap for clap in self._claps if at + _EDGE_S < clap < at + length - _EDGE_S]

    def _match(self, picture: _Rolled, sound: _Rolled) -> Match | None:
        key, own, at, length, late = picture
        other_key, other, begins, long, other_late = sound
        head, tail = max(at, begins), min(at + length, begins + long)
        if tail - head < _LEAST_S:
            return None
        self.places[key, other_key] = offset = begins - at
        if own.mute:
            return None
        ppm = other.ppm - own.ppm
        at_head = offset - ppm * 1e-6 * (head - at) + late - other_late + self._odd.get((key, other_key), 0.0)
        at_head += float(self._rng.normal(0, _SE_S))
        return Match(key, other_key, head - at, tail - at, at_head, _SE_S, ppm)

    def _recorded(self, key: str, own: MadeDevice, at: float, length: float, _late: float) -> Recorded:
        start = None
        if own.error is not None:
            says = at + own.error(at)
            if own.kind == PICTURE:
                says = floor(says * own.fps + 1e-6) / own.fps if own.clock == HEADER else says
            start = Fraction(round(says * 48_000), 48_000) % 86_400
        clock = own.clock if own.error else None
        return Recorded(key, own.tag, own.kind, start, clock, length, 1 / own.fps, ears=not own.mute)

    def _seen(self, key: str, own: MadeDevice, contact: float, late: float) -> SeenClap:
        closed = floor(contact * own.fps) + 1  # the first frame that begins after contact
        low, high = (closed - 1) / own.fps, (closed + 0.5) / own.fps
        return SeenClap(key, low, high, _LIKELY, None if own.mute else contact + late)
