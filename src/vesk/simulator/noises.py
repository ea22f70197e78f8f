"""What a set sounds like beside who speaks: machines, wheels on rails, beeps, music in bars, wind, hits, knocks.

One channel (n,) at any sample rate, of no fixed level: `paths.with_noise` lays it under or over a sound.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import signal

Sound = NDArray[np.float32]


def engine(count: int, rate: int, *, seed: int, hertz: float = 23.7, wander: float = 0.01) -> Sound:
    """Return an engine's strokes, each as far from the last as a period that wanders by a share of itself."""
    rng = np.random.default_rng(seed)
    at = np.arange(round(0.0125 * rate)) / rate
    stroke = np.exp(-at * 530) * np.sin(at * 9600)
    out = np.zeros(count + stroke.size)
    begins = 0.0
    while begins < count:
        out[int(begins) :][: stroke.size] += stroke * rng.uniform(0.8, 1.2)
        begins += rate / hertz * rng.normal(1, wander)
    return np.asarray(out[:count], np.float32)


def bars(count: int, rate: int, *, seed: int, bar_s: float = 2.0, beats: int = 8) -> Sound:
    """Return music that repeats to the sample: one bar, of a few beats that swell, over and over."""
    length = round(bar_s * rate)
    beat = np.exp(-np.arange(length) % (length // beats) / (0.075 * rate))
    tune = _low(np.random.default_rng(seed).normal(size=length), rate, 3000) * beat
    return np.asarray(np.tile(tune, count // length + 1)[:count], np.float32)


def how_loud_wheels_are(count: int, rate: int, *, seed: int, every_s: float = 0.7) -> Sound:
    """Return how loud a train is that passes over the joints of its rails: a rhythm, whatever is heard of it."""
    roar = np.abs(_low(np.random.default_rng(seed).normal(size=count), rate, 3))
    since = np.arange(count) % round(every_s * rate)
    return np.asarray(roar / roar.mean() + 6 * np.exp(-since / (0.031 * rate)), np.float32)


def diffuse(loud: Sound, rate: int, *, seed: int) -> Sound:
    """Return what one microphone hears of what comes from everywhere: as loud as given, its waves no other's."""
    return np.asarray(_low(np.random.default_rng(seed).normal(size=loud.size), rate, 2500) * loud, np.float32)


def beeps(count: int, rate: int) -> Sound:
    """Return a beep of 1 kHz each second, as a machine that warns gives."""
    at = np.arange(count) / rate
    return np.asarray((at % 1 < 0.06) * np.sin(2 * np.pi * 1000 * at), np.float32)


def with_hits(sound: Sound, rate: int, *, seed: int, a_second: float = 1.0, db: float = 15.0) -> Sound:
    """Return what a radio link makes of a sound: hits of up to a quarter of a second over it, a third of them lost."""
    rng = np.random.default_rng(seed)
    out, level = sound.copy(), float(np.std(sound)) * 10 ** (db / 20)
    for _ in range(rng.poisson(a_second * sound.size / rate)):
        begin = int(rng.integers(sound.size))
        part = out[begin : begin + int(rng.uniform(0.005, 0.25) * rate)]
        part *= rng.random() < 0.5
        if rng.random() < 0.7:
            part += (rng.normal(size=part.size) * level).astype(np.float32)
        else:
            part[:] = 0
    return out


def knocks(count: int, rate: int, *, seed: int, a_second: float = 1.0) -> Sound:
    """Return a camera that is touched, moved and set down: dull, each gone within half a second."""
    rng = np.random.default_rng(seed)
    out = np.zeros(count)
    for _ in range(rng.poisson(a_second * count / rate)):
        length = int(rng.uniform(0.05, 0.4) * rate)
        begin = int(rng.integers(count))
        knock = _low(rng.normal(size=length), rate, 1200) * np.exp(-np.arange(length) / (length / 4))
        out[begin : begin + length] += knock[: count - begin]
    return np.asarray(out, np.float32)


def wind(count: int, rate: int, *, seed: int) -> Sound:
    """Return wind on one microphone, in gusts: no two hear the same."""
    rng = np.random.default_rng(seed)
    every = np.arange(0, count + rate, rate // 4)
    gusts = np.interp(np.arange(count), every, np.maximum(0, rng.normal(size=every.size)))
    spectrum = np.fft.rfft(rng.normal(size=count)) / np.maximum(np.fft.rfftfreq(count, 1 / rate), 40)
    roar = np.fft.irfft(spectrum, count)
    return np.asarray(roar / roar.std() * gusts, np.float32)


def _low(noise: NDArray[np.float64], rate: int, hertz: float) -> NDArray[np.float64]:
    return np.asarray(signal.sosfiltfilt(signal.butter(2, hertz, fs=rate, output="sos"), noise))
