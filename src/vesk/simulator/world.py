"""The world: what sounds where, in true time, and what a device's microphone hears of it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from math import prod

import numpy as np
import soxr
from numpy.typing import NDArray
from scipy import signal

from vesk.core.sound.distance import SPEED_OF_SOUND
from vesk.simulator.scenario import Device, Scenario, Shot
from vesk.simulator.voices import RATE, clap, horn, room_response, speech

LAV = 0.35  # of the first microphone's distance: how far the others are
_UP = 4
_NODES = (-2, -1, 0, 1, 2, 3)
_SCALES = tuple(1 / prod(node - other for other in _NODES if other != node) for node in _NODES)
_BLOCK = 1 << 13  # fits a core's cache


@lru_cache(maxsize=64)
def _speech(seconds: float, seed: int, delivery: int) -> NDArray[np.float32]:
    return speech(seconds, seed, delivery=delivery)


_SONG_S, _LOUD = 13.0, np.float32(2.5)


@dataclass(frozen=True, slots=True)
class Event:
    """A sound that begins at a true time (seconds since midnight)."""

    at: float
    sound: NDArray[np.float32]
    what: str


def events(scenario: Scenario, shot: Shot) -> list[Event]:
    """Return what sounds during a take."""
    start = float(scenario.moment(shot.start))
    seed = scenario.seed * 7919 + shot.lines * 31
    made = [
        Event(start + a, _speech(round(b - a, 6), seed + number, shot.delivery), "talk")
        for number, (a, b) in enumerate(shot.talk)
    ]
    made += [Event(start + t, horn(scenario.seed + 5), "horn") for t in shot.horns]
    # Louder than who speaks, and the very same in every take.
    made += [Event(start + t, _LOUD * _speech(_SONG_S, scenario.seed + 13, 0), "playback") for t in shot.songs]
    if shot.clap_s is not None:
        # No two claps of the same sticks are alike.
        own = clap(scenario.seed + shot.take * 1013 + sum(map(ord, shot.slate)))
        made.append(Event(start + shot.clap_s, own, "clap"))
    return made


def heard(
    all_events: list[Event],
    device: Device,
    times: NDArray[np.float64],
    channel: int,
    seed: int,
    way_s: NDArray[np.float64] | None = None,
) -> NDArray[np.float32]:
    """Return what one microphone hears at the true times at which its device takes samples.

    Parameters
    ----------
    all_events : list of Event
        Everything that sounds that day.
    device : Device
        Whose microphone, room, noise and level.
    times : ndarray of float64, shape (n,)
        True time of each sample, seconds since midnight, increasing.
    channel : int
        Which microphone; each hears its own room, and a lav is nearer than the mix.
    seed : int
        Of this recording's noise.
    way_s : ndarray of float64, shape (n,), optional
        By how much later it hears at each of those times, seconds: somebody walks.
    """
    distance = device.distance_m * (LAV if channel else 1.0)
    late = distance / SPEED_OF_SOUND + device.late_ms / 1000
    rng = np.random.default_rng([seed, channel])
    # The world has one grid of samples since midnight, the same for every device: events start on it,
    # devices sample between its points. A grid of each device's own would shift events by up to 10 µs.
    origin = int((float(times[0]) - 1.5) * RATE)
    begin = origin / RATE
    dry = np.zeros(int((times[-1] - begin + 1.0) * RATE), np.float32)
    for event in all_events:
        first = round(event.at * RATE) - origin
        if first + event.sound.size < 0 or first >= dry.size:
            continue
        a, b = max(0, first), min(dry.size, first + event.sound.size)
        dry[a:b] += event.sound[a - first : b - first]
    gain = 10 ** (device.level_db / 20) * min(1.0, 1.2 / max(distance, 0.3)) ** 0.5
    room = room_response(seed * 3 + channel + sum(map(ord, device.tag)), device.room)
    wet = signal.oaconvolve(dry, room)[: dry.size] * gain
    sound = sample_at(wet.astype(np.float32), (times - late - (0.0 if way_s is None else way_s) - begin) * RATE)
    sound += rng.normal(size=times.size).astype(np.float32) * 10 ** (device.noise_db / 20)
    if device.clip:
        sound = np.clip(sound * 12.0, -1, 1)
    if device.hum_db > -120:
        mains = np.sum([np.sin(2 * np.pi * 50 * k * times + k) / k for k in (1, 2, 3, 5)], axis=0)
        sound = sound + (10 ** (device.hum_db / 20) * mains).astype(np.float32)
    return np.clip(sound, -1, 1)


def sample_at(sound: NDArray[np.float32], position: NDArray[np.float64]) -> NDArray[np.float32]:
    """Read a sound between its samples: four times finer by a long filter, then Lagrange's six points.

    Independent of the product's own resampling, so that each tests the other. True to
    about -90 dB below 8 kHz.
    """
    fine = soxr.resample(sound, 1, _UP, quality="VHQ")
    out = np.zeros(position.size, np.float32)
    for start in range(0, position.size, _BLOCK):
        out[start : start + _BLOCK] = _lagrange(fine, position[start : start + _BLOCK] * _UP)
    out[(position < 0) | (position > sound.size - 1)] = 0.0
    return out


def _lagrange(fine: NDArray[np.float32], where: NDArray[np.float64]) -> NDArray[np.float64]:
    base = np.floor(where).astype(np.int64)
    part = where - base
    away = [part - node for node in _NODES]
    after = [np.ones_like(part)]  # of each node, the product over those behind it
    for one in away[:0:-1]:
        after.append(after[-1] * one)
    before = np.ones_like(part)
    out = np.zeros(where.size)
    for node, scale, one in zip(_NODES, _SCALES, away, strict=True):
        weight = after.pop()
        weight *= before
        weight *= scale
        weight *= fine.take(base + node, mode="clip")
        out += weight
        before *= one
    return out
