"""What lies between a sound and a recording of it: moving rooms, babble, automatic gain, clipping, AAC.

Everything works on one channel (n,) at any sample rate and keeps time exactly: what a path adds is
colour, echoes and noise, never delay, so that the truth about a pair stays the truth.
"""

from __future__ import annotations

import io
from fractions import Fraction

import av
import numpy as np
from numpy.typing import NDArray
from scipy import signal

Sound = NDArray[np.float32]


def reverberant(
    sound: Sound, rate: int, *, seed: int, amount: float, decay_s: float = 0.45, moving: bool = False
) -> Sound:
    """Put a sound into a room: direct path 1, echoes of `amount` times its energy, 60 dB down after `decay_s`.

    With `moving`, the echoes (not the direct path) change into another room's along the take.
    """
    count = int(decay_s * rate)
    rng = np.random.default_rng(seed)

    def tail() -> NDArray[np.float64]:
        echoes = rng.normal(size=count) * 10 ** (-3 * np.arange(count) / count)
        echoes[: int(0.002 * rate)] = 0.0
        return np.asarray(echoes * np.sqrt(amount) / np.sqrt((echoes**2).sum()))

    wet = signal.oaconvolve(sound, tail())[: sound.size]
    if moving:
        other = signal.oaconvolve(sound, tail())[: sound.size]
        blend = 0.5 - 0.5 * np.cos(np.linspace(0, 6 * np.pi, sound.size))
        wet = np.sqrt(1 - blend) * wet + np.sqrt(blend) * other
    return np.asarray(sound + wet, np.float32)


def echoing(sound: Sound, rate: int, *, late_s: float, amount: float, direct: float = 1.0) -> Sound:
    """Add one echo, of a wall or a loudspeaker: `amount` times the sound, `late_s` after `direct` times the sound."""
    late = round(late_s * rate)
    out = direct * sound
    out[late:] += amount * sound[: sound.size - late]
    return np.asarray(out, np.float32)


def with_noise(sound: Sound, noise: Sound, snr_db: float) -> Sound:
    """Add `noise` so that sound over noise is `snr_db`, by their energies over the whole length."""
    level = float(np.sqrt(np.mean(sound**2))) / max(float(np.sqrt(np.mean(noise**2))), 1e-12)
    return np.asarray(sound + noise * level * 10 ** (-snr_db / 20), np.float32)


def automatic_gain(sound: Sound, rate: int) -> Sound:
    """Pump the level as a small camera's automatic gain does: quick to duck, slow to come back."""
    envelope = signal.lfilter([1 - np.exp(-1 / (0.01 * rate))], [1, -np.exp(-1 / (0.01 * rate))], np.abs(sound))
    slow = signal.lfilter([1 - np.exp(-1 / (0.6 * rate))], [1, -np.exp(-1 / (0.6 * rate))], envelope)
    return np.asarray(sound / (0.02 + np.maximum(envelope, slow)) * 0.1, np.float32)


def clipped(sound: Sound, share: float = 0.02) -> Sound:
    """Overload: the loudest `share` of samples sticks at the limit."""
    limit = float(np.quantile(np.abs(sound), 1 - share)) or 1.0
    return np.asarray(np.clip(sound, -limit, limit), np.float32)


def narrow(sound: Sound, rate: int, low: float = 300.0, high: float = 3400.0) -> Sound:
    """Keep a telephone's band, without delay."""
    taps = signal.firwin(513, [low, high], pass_zero=False, fs=rate)
    return np.asarray(signal.oaconvolve(sound, taps, mode="full")[256 : 256 + sound.size], np.float32)


def through_aac(sound: Sound, rate: int, kilobits: int = 32) -> Sound:
    """Code to AAC at a low rate and decode again; the coder's own delay is taken out."""
    buffer = io.BytesIO()
    with av.open(buffer, "w", format="mp4") as out:
        stream = out.add_stream("aac", rate=rate, layout="mono")
        stream.bit_rate = kilobits * 1000
        padded = np.concatenate([sound, np.zeros(4096, np.float32)])
        for start in range(0, padded.size, 1024):
            frame = av.AudioFrame.from_ndarray(padded[None, start : start + 1024], format="fltp", layout="mono")
            frame.sample_rate, frame.pts, frame.time_base = rate, start, Fraction(1, rate)
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    buffer.seek(0)
    with av.open(buffer, "r") as source:
        pieces = [(frame.pts, frame.to_ndarray()[0]) for frame in source.decode(source.streams.audio[0])]
    decoded = np.zeros(sound.size, np.float32)
    for pts, piece in pieces:
        low, high = max(0, pts), min(sound.size, pts + piece.size)
        if high > low:
            decoded[low:high] = piece[low - pts : high - pts]
    return decoded


def with_jumps(sound: Sound, jumps: list[tuple[int, int]]) -> Sound:
    """Lose (negative) or double (positive) samples: each jump is (sample it happens at, samples added)."""
    pieces, at = [], 0
    for where, added in sorted(jumps):
        pieces.append(sound[at:where])
        if added > 0:
            pieces.append(sound[max(0, where - added) : where])
            at = where
        else:
            at = where - added
    pieces.append(sound[at:])
    return np.concatenate(pieces)
