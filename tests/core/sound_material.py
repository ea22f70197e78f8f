"""Sound for tests of the engine, made here: no resampler or room of the product's; who talks is the simulator's."""

from functools import lru_cache

import numpy as np
import soxr
from scipy import fft, signal

from vesk.core.sound.features import WORK_RATE, onset_features
from vesk.core.sound.hearing import Hearing
from vesk.simulator.voices import RATE, speech


@lru_cache(maxsize=24)
def _talk(seconds: float, seed: int) -> np.ndarray:
    return soxr.resample(speech(seconds, seed), RATE, WORK_RATE)[: int(seconds * WORK_RATE)]


def talk(seconds: float, seed: int) -> np.ndarray:
    """Somebody who speaks, with a pitch: as the simulator's voices do."""
    return _talk(seconds, seed).copy()


def babble(seconds: float, seed: int) -> np.ndarray:
    """Band-limited sound whose loudness and colour change several times a second, as speech does."""
    return _babble(seconds, seed).copy()


@lru_cache(maxsize=24)
def _babble(seconds: float, seed: int) -> np.ndarray:
    rng = np.random.default_rng(seed)
    count = int(seconds * WORK_RATE)
    out = np.zeros(count)
    at = 0
    while at < count:
        length = int(rng.uniform(0.08, 0.3) * WORK_RATE)
        low = rng.uniform(150, 2500)
        piece = signal.sosfilt(
            signal.butter(2, [low, min(6500, low * 2.2)], "band", fs=WORK_RATE, output="sos"), rng.normal(size=length)
        )
        stop = min(count, at + length)
        out[at:stop] += (piece * np.hanning(length) * rng.uniform(0.1, 1))[: stop - at]
        at += int(length * rng.uniform(0.8, 1.6))
    return out / np.abs(out).max()


def read_at(sound: np.ndarray, seconds: np.ndarray) -> np.ndarray:
    """Read a sound between its samples, silent beyond its ends: four times finer by Fourier, then by Lagrange."""
    finer, beside = 4, 400
    padded = np.concatenate([np.zeros(beside), sound, np.zeros(beside)])
    padded = np.concatenate([padded, np.zeros(fft.next_fast_len(padded.size) - padded.size)])
    fine = fft.irfft(fft.rfft(padded), padded.size * finer) * finer
    where = (np.clip(seconds * WORK_RATE, -beside / 2, sound.size + beside / 2) + beside) * finer
    whole = np.floor(where).astype(np.int64)
    part = where - whole
    points = range(-2, 4)
    out = np.zeros(where.size)
    for k in points:
        weight = np.prod([(part - m) / (k - m) for m in points if m != k], axis=0)
        out += weight * fine[whole + k]
    return np.where((seconds >= 0) & (seconds * WORK_RATE <= sound.size - 1), out, 0.0)


def delayed(sound: np.ndarray, seconds: float, ppm: float = 0.0) -> np.ndarray:
    """Make what a recorder `ppm` fast records of a sound that begins `seconds` later on it, between its samples."""
    if ppm:
        return read_at(sound, np.arange(sound.size) / WORK_RATE / (1 + ppm * 1e-6) - seconds)
    size = sound.size
    spectrum = np.fft.rfft(np.concatenate([sound, np.zeros(size)]))
    phase = np.exp(-2j * np.pi * np.arange(spectrum.size) * seconds * WORK_RATE / (2 * size))
    return np.fft.irfft(spectrum * phase, 2 * size)[:size]


def hearing(sound: np.ndarray, noise: float = 0.0, seed: int = 0) -> Hearing:
    """Make it ready to be matched, with white noise of its own."""
    mono = (sound + noise * np.random.default_rng(seed + 99).normal(size=sound.size)).astype(np.float32)
    return Hearing(mono, onset_features(mono))


def knock(seed: int) -> np.ndarray:
    """A clap: 40 ms of noise that dies away, its attack on the first sample."""
    rng = np.random.default_rng(seed)
    n = int(0.04 * WORK_RATE)
    return rng.normal(size=n) * np.exp(-np.arange(n) / (0.006 * WORK_RATE)) * 0.3


def with_knocks(seconds: float, at: list[float], seeds: list[int], noise_seed: int) -> np.ndarray:
    """Quiet room tone with claps at given times."""
    out = 0.0005 * np.random.default_rng(noise_seed).normal(size=int(seconds * WORK_RATE))
    for when, seed in zip(at, seeds, strict=True):
        start = round(when * WORK_RATE)
        out[start : start + 640] += knock(seed)
    return out
