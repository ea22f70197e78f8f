"""What a set sounds like beside who speaks: machines, wheels on rails, beeps, music in bars.

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


def _low(noise: NDArray[np.float64], rate: int, hertz: float) -> NDArray[np.float64]:
    return np.asarray(signal.sosfiltfilt(signal.butter(2, hertz, fs=rate, output="sos"), noise))
