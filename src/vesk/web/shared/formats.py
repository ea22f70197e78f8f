"""How figures are written on pages: the same number has the same format everywhere."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import Any

from vesk.core.timecode import FrameRate, Timecode
from vesk.core.wording import duration, in_frames, signed


def frames(seconds: float | None, fps: Fraction) -> str:
    """Write seconds as ``+1.32 f``, hours as hours; a dash when nothing is known."""
    return "—" if seconds is None else in_frames(seconds, fps)


def ms(seconds: float | None) -> str:
    """Write seconds as ``+55.0 ms``, or in seconds where that is longer than ten of them."""
    if seconds is None:
        return "—"
    return f"{signed(seconds * 1000, 1)} ms" if abs(seconds) < 10 else f"{signed(seconds, 3)} s"


def fine_ms(seconds: float | None) -> str:
    """Write a small residual, in hundredths of a millisecond."""
    return "—" if seconds is None else f"{signed(seconds * 1000, 2)} ms"


def samples(seconds: float | None, sample_rate: int) -> str:
    """Write seconds as samples, thousands apart."""
    if seconds is None:
        return "—"
    count = round(seconds * sample_rate)
    return signed(count, 0)[0] + f"{abs(count):,}".replace(",", "\N{NARROW NO-BREAK SPACE}")


def plus_minus(seconds: float | None, fps: Fraction) -> str:
    """Write an uncertainty in frames."""
    if seconds is None:
        return ""
    value = seconds * float(fps)
    return f"{value:.4f}" if value < 0.05 else f"{value:.1f}"


def bytes_(count: int) -> str:
    """Write a file's size."""
    for size, unit, digits in ((10**9, "GB", 2), (10**6, "MB", 1)):
        if count >= size:
            return f"{count / size:.{digits}f} {unit}"
    return f"{count / 1000:.1f} kB"


def rate(value: str | Fraction | None) -> str:
    """Write a frame rate as people say it."""
    return "" if not value else str(FrameRate(Fraction(value)))


def span(seconds: Fraction | float) -> str:
    """Write a duration."""
    return duration(float(seconds))


def label(seconds: Fraction | None, clock: FrameRate) -> str:
    """Write a moment on a label clock."""
    return "—" if seconds is None else str(Timecode.at(seconds, clock))


FILTERS: dict[str, Callable[..., Any]] = {
    "frames": frames, "ms": ms, "fine_ms": fine_ms, "samples": samples, "plus_minus": plus_minus, "bytes": bytes_,
    "rate": rate, "span": span, "label": label, "signed": signed,
}  # fmt: skip
