"""What is heard on the ferry: speech-like voices, claps and a horn, made from seeds.

A voice is a source and a filter: glottal pulses with a moving pitch, shaped by
three formants that change from syllable to syllable, with breath and pauses.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import signal

RATE = 48_000
_VOWELS = np.array(
    [
        [730, 1090, 2440],
        [530, 1840, 2480],
        [270, 2290, 3010],
        [570, 840, 2410],
        [300, 870, 2240],
        [490, 1350, 1690],
    ]
)


def _formants(excitation: NDArray[np.float64], centres: NDArray[np.float64]) -> NDArray[np.float64]:
    out = np.zeros_like(excitation)
    for centre, gain in zip(centres, (1.0, 0.6, 0.35), strict=True):
        radius = np.exp(-np.pi * (60 + 0.06 * centre) / RATE)
        a = [1.0, -2 * radius * np.cos(2 * np.pi * centre / RATE), radius**2]
        out += gain * signal.lfilter([1 - radius], a, excitation)
    return out


def speech(seconds: float, seed: int, *, delivery: int = 0) -> NDArray[np.float32]:
    """Speak `seconds` of speech-like sound, peak about 0.5; shape (n,) at RATE.

    `seed` is what is said and by whom, `delivery` how: the same lines spoken again keep their
    syllables and voice, and differ in timing, melody and every sample.
    """
    rng = np.random.default_rng(seed)
    how = np.random.default_rng([seed, delivery])
    out = np.zeros(int(seconds * RATE) + RATE)
    low = rng.uniform(95, 210)
    stretch = rng.uniform(0.9, 1.15)
    t = 0.0
    while t < seconds - 0.25:
        if rng.random() < 0.12:
            t += rng.uniform(0.25, 0.8)  # a breath between phrases
            continue
        length = rng.uniform(0.11, 0.28) * how.uniform(0.85, 1.15)
        n = int(length * RATE)
        pitch = low * 2 ** (rng.normal(0, 0.12) + how.normal(0, 0.03) + np.linspace(0.08, -0.1, n))
        phase = np.cumsum(pitch / RATE)
        pulses = np.diff(np.floor(phase), prepend=0.0)
        excitation = signal.lfilter([1.0], [1.0, -0.94], pulses) + 0.02 * how.normal(size=n)
        shape = np.sin(np.linspace(0, np.pi, n)) ** 0.6
        centres = _VOWELS[rng.integers(len(_VOWELS))] * stretch * rng.uniform(0.95, 1.05, 3)
        sound = _formants(excitation, centres) * shape * rng.uniform(0.4, 1.0)
        at = int(t * RATE)
        if rng.random() < 0.45:  # a consonant before the vowel
            m = int(rng.uniform(0.03, 0.09) * RATE)
            hiss = signal.lfilter(*signal.butter(2, rng.uniform(2500, 6000), "high", fs=RATE), how.normal(size=m))
            out[at : at + m] += 0.02 * hiss * np.hanning(m)
            at += m
        out[at : at + n] += sound
        t = at / RATE + length * rng.uniform(0.75, 1.05)
    out = out[: int(seconds * RATE)]
    return np.asarray(0.5 * out / max(np.abs(out).max(initial=0.0), 1e-9), dtype=np.float32)


def clap(seed: int) -> NDArray[np.float32]:
    """Close the sticks: a sharp attack of both edges, 60 ms of wood; peak 0.95."""
    rng = np.random.default_rng(seed)
    n = int(0.06 * RATE)
    decay = np.exp(-np.arange(n) / (0.004 * RATE))
    wood = rng.normal(size=n) * decay
    for centre in rng.uniform(900, 3200, 3):
        wood += np.sin(2 * np.pi * centre * np.arange(n) / RATE) * np.exp(-np.arange(n) / (0.012 * RATE))
    return np.asarray(0.95 * wood / np.abs(wood).max(), dtype=np.float32)


def horn(seed: int) -> NDArray[np.float32]:
    """Sound the ferry's horn once: 1.4 s, two low notes."""
    rng = np.random.default_rng(seed)
    t = np.arange(int(1.4 * RATE)) / RATE
    tone = sum(np.sin(2 * np.pi * f * k * t) / k for f in (146.0, 185.5) for k in range(1, 9))
    shape = np.minimum(1, t / 0.12) * np.minimum(1, (1.4 - t) / 0.3)
    return (0.12 * tone * shape + 0.002 * rng.normal(size=t.size)).astype(np.float32)


def room_response(seed: int, amount: float, seconds: float = 0.25) -> NDArray[np.float32]:
    """Return a room: the direct sound first, then `amount` of decaying echoes; shape (n,) at RATE."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE)
    tail = rng.normal(size=n) * np.exp(-np.arange(n) / (0.05 * RATE))
    tail[: int(0.003 * RATE)] = 0.0
    tail *= amount / max(np.sqrt((tail**2).sum()), 1e-9)
    tail[0] = 1.0
    return tail.astype(np.float32)
