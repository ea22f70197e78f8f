"""Sound for tests of the engine, made here: no resampler or room of the product's; who talks is the simulator's."""

import numpy as np
import soxr
from scipy import signal

from vesk.core.sound.features import WORK_RATE, onset_features
from vesk.core.sound.hearing import Hearing
from vesk.simulator.voices import RATE, speech


def talk(seconds: float, seed: int) -> np.ndarray:
    """Somebody who speaks, with a pitch: as the simulator's voices do."""
    return soxr.resample(speech(seconds, seed), RATE, WORK_RATE)[: int(seconds * WORK_RATE)]


def babble(seconds: float, seed: int) -> np.ndarray:
    """Band-limited sound whose loudness and colour change several times a second, as speech does."""
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


def delayed(sound: np.ndarray, seconds: float, ppm: float = 0.0) -> np.ndarray:
    """Make what a recorder `ppm` fast records of a sound that begins `seconds` later on it, by Fourier series."""
    size = sound.size
    spectrum = np.fft.rfft(np.concatenate([sound, np.zeros(size)]))
    bins = np.arange(spectrum.size)
    if ppm == 0.0:
        phase = np.exp(-2j * np.pi * bins * seconds * WORK_RATE / (2 * size))
        return np.fft.irfft(spectrum * phase, 2 * size)[:size]
    fine = np.fft.irfft(spectrum, 2 * size * 16) * 16
    position = (np.arange(size) / (1 + ppm * 1e-6) - seconds * WORK_RATE) * 16
    inside = (position >= 0) & (position < fine.size - 2)
    return np.where(inside, np.interp(position, np.arange(fine.size), fine), 0.0)


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
