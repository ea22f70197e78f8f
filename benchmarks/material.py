"""Pairs of recordings whose map is known: as bad as life, at the engine's working rate."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
import soxr
from numpy.typing import NDArray
from scipy import fft

from vesk.core.sound.features import WORK_RATE, onset_features
from vesk.core.sound.hearing import Hearing
from vesk.simulator import paths
from vesk.simulator.voices import RATE, clap, speech
from vesk.simulator.world import sample_at

Sound = NDArray[np.float32]
MARGIN = 4.0  # seconds of world on either side of a picture
_ANSWERS_S = 0.3 / 343  # so far apart a room answers two places each in a way of its own


def hear(sound: Sound) -> Hearing:
    """Return a sound ready to be matched."""
    return Hearing(sound, onset_features(sound))


@lru_cache(maxsize=96)
def talk(seconds: int, seed: int, delivery: int = 0) -> Sound:
    """Return speech-like sound at the working rate."""
    return np.asarray(soxr.resample(speech(seconds, seed, delivery=delivery), RATE, WORK_RATE), np.float32)


def babble(count: int, seed: int) -> Sound:
    """Return several voices at once."""
    rng = np.random.default_rng(seed)
    out = np.zeros(count, np.float32)
    for _ in range(5):
        voice = np.tile(talk(30, int(rng.integers(10_000, 10_012))), count // (30 * WORK_RATE) + 2)
        start = int(rng.integers(30 * WORK_RATE))
        out += voice[start : start + count]
    return out


_LONG = 1 << 23  # samples


def hiss(count: int, seed: int) -> Sound:
    """Return noise that falls with frequency, as wind and engines do."""
    # Of two hours, a length with a large prime factor would take minutes; shorter ones keep the noise they had.
    size = fft.next_fast_len(count + 64, real=True) if count > _LONG else count + 64
    white = np.random.default_rng(seed).normal(size=size)
    spectrum = np.fft.rfft(white)
    spectrum /= np.sqrt(np.maximum(np.arange(spectrum.size) / spectrum.size, 0.01))
    out = np.fft.irfft(spectrum, white.size)[:count]
    return np.asarray(out / out.std(), np.float32)


@dataclass(frozen=True)
class Pair:
    """Two recordings and the truth: offset and ppm by the project's conventions, jumps as (picture s, samples)."""

    picture: Sound
    sound: Sound
    offset_s: float
    ppm: float
    jumps: list[tuple[float, int]] = field(default_factory=list)

    def offset_at(self, picture_s: float) -> float:
        """Return the true offset at a picture time: picture time minus sound time, seconds."""
        own = (picture_s - self.offset_s) * (1 + self.ppm * 1e-6)
        own += sum(samples for at, samples in self.jumps if picture_s >= at) / WORK_RATE
        return picture_s - own


def pair(
    seconds: float,
    seed: int,
    *,
    snr_db: float = 20.0,
    ppm: float | None = None,
    offset_s: float | None = None,
    room: float = 0.5,
    moving: bool = False,
    noise: str = "hiss",
    sound_seconds: float | None = None,
    jumps: list[tuple[float, int]] | None = None,
    level_db: float = 0.0,
    polarity: float = 1.0,
    faults: tuple[str, ...] = (),
    pauses: tuple[tuple[float, float], ...] = (),
) -> Pair:
    """Make a camera's scratch and a recorder's sound of the same talk.

    The room and noise are the scratch's; the recorder stands nearer (a tenth of the echoes, 30 dB). Nobody speaks in
    `pauses` (picture times, seconds).
    """
    rng = np.random.default_rng(seed)
    ppm = float(rng.uniform(-80, 80)) if ppm is None else ppm
    offset_s = float(rng.uniform(-2.5, 1.0)) if offset_s is None else offset_s
    length = seconds + 2 * MARGIN if sound_seconds is None else max(seconds, sound_seconds + abs(offset_s)) + 2 * MARGIN
    count = int(length * WORK_RATE)
    voice = talk(60, int(rng.integers(20)))
    other = talk(60, 100 + int(rng.integers(12)))
    reps = count // voice.size + 2
    # Longer than a minute: pieces of many minutes, none of them twice.
    order = [*rng.permutation(80), *range(80, reps)]
    pieces = [voice, other] + [talk(60, 200 + int(order[n])) for n in range(max(0, reps - 2))]
    world = np.concatenate(pieces)[int(rng.integers(WORK_RATE)) :][:count]
    world = np.pad(world, (0, count - world.size))
    for low, high in pauses:
        world[int((low + MARGIN) * WORK_RATE) : int((high + MARGIN) * WORK_RATE)] = 0
    scratch = paths.reverberant(world, WORK_RATE, seed=seed * 2 + 1, amount=room, moving=moving)
    close = paths.reverberant(world, WORK_RATE, seed=seed * 2 + 2, amount=room / 10)
    n = int(seconds * WORK_RATE)
    picture = scratch[int(MARGIN * WORK_RATE) : int(MARGIN * WORK_RATE) + n]
    m = int(sound_seconds * WORK_RATE) if sound_seconds else int((seconds - offset_s + 1.0) * WORK_RATE)
    own = np.arange(m) / (WORK_RATE * (1 + ppm * 1e-6)) + offset_s + MARGIN
    sound = np.asarray(sample_at(close, own * WORK_RATE), np.float32)
    disturb = babble(n, seed + 5) if noise == "babble" else hiss(n, seed + 5)
    picture = paths.with_noise(picture, disturb, snr_db)
    sound = paths.with_noise(sound, hiss(m, seed + 6), 30.0)
    told = jumps or []
    if told:
        places = [(int((at - offset_s) * (1 + ppm * 1e-6) * WORK_RATE), added) for at, added in told]
        sound = paths.with_jumps(sound, places)
    for fault in faults:
        picture = _FAULTS[fault](picture)
    return Pair(np.asarray(picture * polarity * 10 ** (level_db / 20), np.float32), sound, offset_s, ppm, told)


@dataclass(frozen=True)
class Conversation(Pair):
    """A pair in which people speak from places of their own.

    Attributes
    ----------
    places_s : tuple of float
        By how much later each place is heard on the scratch, against the sound, than the clocks say, seconds.
    turns : list of (float, float, int)
        Picture times between which who speaks.
    """

    places_s: tuple[float, ...] = ()
    turns: list[tuple[float, float, int]] = field(default_factory=list)


def conversation(
    seconds: float,
    seed: int,
    *,
    places_s: tuple[float, ...] = (115e-6, -105e-6),
    snr_db: float = 15.0,
    ppm: float | None = None,
    room: float = 0.5,
    turn_s: tuple[float, float] = (0.8, 3.5),
    lacks: tuple[int, ...] = (),
    jumps: list[tuple[float, int]] | None = None,
    share: float = 0.0,
    together: bool = False,
) -> Conversation:
    """Make what a camera and a recorder hear of people who speak in turn, each from a place of their own.

    Parameters
    ----------
    places_s : tuple of float
        One a speaker. The scratch hears that place so much later than the sound does.
    lacks : tuple of int
        Speakers whom the sound, a lav on somebody else, hears 24 dB down.
    share : float
        Of turns in which the next one speaks as well.
    together : bool
        Whether the first speaks nearly all the time.
    """
    rng = np.random.default_rng(seed + 77_000)
    ppm = float(rng.uniform(-80, 80)) if ppm is None else ppm
    offset_s = float(rng.uniform(-2.5, 1.0))
    told = jumps or []
    more = sum(abs(added) for _, added in told) / WORK_RATE
    count = int((seconds + 2 * MARGIN + 2 * more) * WORK_RATE)
    turns, at, who = [], -MARGIN, int(rng.integers(len(places_s)))
    while at < seconds + MARGIN:
        until = at + float(rng.uniform(*turn_s)) * (4 if together and who == 0 else 1)
        turns.append((at, until, who))
        at = until + float(rng.uniform(0.0, 0.3))
        who = (who + int(rng.integers(1, max(2, len(places_s))))) % len(places_s)
    scratch, sound_world = np.zeros(count, np.float32), np.zeros(count, np.float32)
    fade = np.hanning(320).astype(np.float32)
    for number, place in enumerate(places_s):
        gate = np.zeros(count, np.float32)
        for low, high, speaks in turns:
            beside = share and (speaks + 1) % len(places_s) == number and rng.random() < share
            if speaks == number or beside:
                gate[max(0, int((low + MARGIN) * WORK_RATE)) : int((high + MARGIN) * WORK_RATE)] = 1
        gate = np.convolve(gate, fade / fade.sum(), "same").astype(np.float32)
        voice = np.concatenate([talk(60, 300 + int(n)) for n in rng.permutation(60)[: count // (60 * WORK_RATE) + 1]])
        voice = voice[:count] * gate * float(rng.uniform(0.6, 1.4))
        own = seed * 16 + 2 * number
        moved = sample_at(voice, np.arange(count) - place * WORK_RATE)
        scratch += paths.reverberant(np.asarray(moved, np.float32), WORK_RATE, seed=own + 1, amount=room)
        heard = paths.reverberant(voice, WORK_RATE, seed=own + 2, amount=room / 5)
        sound_world += heard * (10 ** (-24 / 20) if number in lacks else 1.0)
    n, m = int(seconds * WORK_RATE), int((seconds - offset_s + 1.0 + more) * WORK_RATE)
    picture = paths.with_noise(scratch[int(MARGIN * WORK_RATE) :][:n], hiss(n, seed + 5), snr_db)
    own_at = np.arange(m) / (WORK_RATE * (1 + ppm * 1e-6)) + offset_s + MARGIN
    sound = np.asarray(sample_at(sound_world, own_at * WORK_RATE), np.float32)
    sound = paths.with_noise(sound, hiss(m, seed + 6), 30.0)
    if told:
        sound = paths.with_jumps(
            sound, [(int((at - offset_s) * (1 + ppm * 1e-6) * WORK_RATE), added) for at, added in told]
        )
    return Conversation(np.asarray(picture, np.float32), sound, offset_s, ppm, told, places_s, turns)


_FAULTS = {
    "agc": lambda sound: paths.automatic_gain(sound, WORK_RATE),
    "clip": lambda sound: paths.clipped(sound, 0.03),
    "narrow": lambda sound: paths.narrow(sound, WORK_RATE),
    "aac": lambda sound: paths.through_aac(sound, WORK_RATE, 24),
}


def claps_at(count: int, at: list[float], seeds: list[int], level: float = 0.5) -> Sound:
    """Return silence with claps at given times (seconds)."""
    out = np.zeros(count, np.float32)
    for when, seed in zip(at, seeds, strict=True):
        piece = soxr.resample(clap(seed), RATE, WORK_RATE) * level
        start = int(when * WORK_RATE)
        out[start : start + piece.size] += piece[: max(0, count - start)]
    return out


@dataclass(frozen=True)
class Moved(Pair):
    """A pair whose offset is no line: somebody moves, or a clock's rate does. The truth is a table.

    Attributes
    ----------
    at_s, clock_s, way_s : ndarray of float64, shape (n,)
        Picture times; the offset that the clocks alone give there (no distance); by how much later the scratch hears.
    """

    at_s: NDArray[np.float64] = field(default_factory=lambda: np.zeros(1))
    clock_s: NDArray[np.float64] = field(default_factory=lambda: np.zeros(1))
    way_s: NDArray[np.float64] = field(default_factory=lambda: np.zeros(1))

    def offset_at(self, picture_s: float) -> float:
        """Return the offset that the clocks give: picture time minus sound time, seconds."""
        return float(np.interp(picture_s, self.at_s, self.clock_s))

    def heard_at(self, picture_s: float) -> float:
        """Return the offset as heard."""
        return self.offset_at(picture_s) + float(np.interp(picture_s, self.at_s, self.way_s))


def moved(
    seconds: float,
    seed: int,
    *,
    metres: Callable[[Sound], Sound] | None = None,
    rate_ppm: Callable[[Sound], Sound] | None = None,
    ppm: float | None = None,
    snr_db: float = 15.0,
    room: float = 0.5,
    faults: tuple[str, ...] = (),
    jumps: list[tuple[float, int]] | None = None,
) -> Moved:
    """Make a pair in which the talker walks away from the scratch's microphone, or the sound's clock wanders.

    Parameters
    ----------
    metres : callable
        Picture times (n,) to the talker's distance from the scratch's microphone; a lav stays near.
    rate_ppm : callable
        Picture times (n,) to what the sound's rate error adds to `ppm` there.
    """
    rng = np.random.default_rng(seed + 31_000)
    ppm = float(rng.uniform(-60, 60)) if ppm is None else ppm
    offset_s = float(rng.uniform(-2.5, 1.0))
    step = 0.01
    grid = np.arange(-MARGIN, seconds + MARGIN + 1, step)
    rate = np.full(grid.size, ppm) + (0.0 if rate_ppm is None else rate_ppm(grid))
    gained = np.concatenate([[0.0], np.cumsum((rate[1:] + rate[:-1]) / 2 * step)]) * 1e-6
    gained -= np.interp(offset_s, grid, gained)
    own = grid - offset_s + gained  # what the sound's clock says at each picture time
    ways = np.zeros(grid.size) if metres is None else np.maximum(np.asarray(metres(grid), float), 0.05) / 343.0
    count = int((seconds + 2 * MARGIN) * WORK_RATE)
    order = rng.permutation(60)
    voice = np.concatenate([talk(60, 300 + int(order[n % 60])) for n in range(count // (60 * WORK_RATE) + 1)])[:count]
    t = np.arange(count) / WORK_RATE - MARGIN
    late = np.interp(t, grid, ways)
    near = float(ways.min()) if metres is not None else 1.0
    loud = 1.0 if metres is None else np.clip(near / np.maximum(late, 1e-4), 0.1, 1.0)
    direct = np.asarray(sample_at(voice, np.arange(count) - late * WORK_RATE) * loud, np.float32)
    # Who goes away is heard less; the room stays as loud, and answers every place in another way.
    echoes = np.zeros(count)
    knots = np.arange(float(late.min()), float(late.max()) + _ANSWERS_S, _ANSWERS_S)
    for number, knot in enumerate(knots):
        share = np.maximum(0.0, 1 - np.abs(late - knot) / _ANSWERS_S) ** 0.5  # of neighbours, by energy
        echoes += share * (paths.reverberant(voice, WORK_RATE, seed=seed * 2 + 1 + 7000 * number, amount=room) - voice)
    scratch = direct + np.asarray(sample_at(echoes, np.arange(count) - late * WORK_RATE), np.float32) * (
        1.0 if metres is None else 0.5
    )
    close = paths.reverberant(voice, WORK_RATE, seed=seed * 2 + 2, amount=room / 10)
    n = int(seconds * WORK_RATE)
    picture = paths.with_noise(scratch[int(MARGIN * WORK_RATE) :][:n], hiss(n, seed + 5), snr_db)
    for fault in faults:
        picture = _FAULTS[fault](picture)
    told = jumps or []
    m = int((seconds - offset_s + 1.0) * WORK_RATE)
    when = np.interp(np.arange(m) / WORK_RATE, own, grid)
    sound = np.asarray(sample_at(close, (when + MARGIN) * WORK_RATE), np.float32)
    sound = paths.with_noise(sound, hiss(m, seed + 6), 30.0)
    if told:
        sound = paths.with_jumps(sound, [(int(np.interp(at, grid, own) * WORK_RATE), added) for at, added in told])
    clock = grid - own - sum(np.where(grid >= at, added, 0) / WORK_RATE for at, added in told)
    return Moved(np.asarray(picture, np.float32), sound, offset_s, ppm, told, grid, clock, ways)
