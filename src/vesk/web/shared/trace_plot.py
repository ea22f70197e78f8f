"""The trace as a picture: the same rules for the small plot of a row and the large one of the bench."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from weakref import WeakKeyDictionary

from vesk.core.conform.correction import error_at, laid_at
from vesk.core.pairing.judgement import Judgement
from vesk.core.sound.measurement import Line

MOST_TICKS = 48


@dataclass(frozen=True, slots=True)
class Mark:
    """A point of a plot: where, and how sure (0 to 1), and whether it lies on the line."""

    x: float
    y: float
    weight: float
    agrees: bool


_BESIDE_S = 0.001  # a jump and its mend are rounded to a sample each: beside it both are clear


@dataclass(frozen=True)
class TracePlot:
    """A trace ready to be drawn; all places in pixels from the top left.

    Attributes
    ----------
    band : (top, bottom)
        Of the tolerance.
    line : list of (x, y)
        The fitted line from head to tail, with a stair at each jump.
    timecode_y : float
        Where timecode alone would put the error at the head: always zero before corrections.
    grid : list of (y, text)
        Levels in frames.
    """

    width: float
    height: float
    left: float
    right: float
    band: tuple[float, float]
    zero: float
    marks: list[Mark]
    line: list[tuple[float, float]]
    edge: list[tuple[float, float]]
    grid: list[tuple[float, str]]
    places: list[tuple[float, str]]

    @cached_property
    def ticks(self) -> tuple[str, str]:
        """Every second mark as upright strokes, in one path: those on the line, and those off it."""
        drawn = ("", "")
        for mark in self.marks[::2]:
            stroke = f"M{mark.x:.1f} {mark.y - 3:.1f}v6"
            drawn = (drawn[0] + stroke, drawn[1]) if mark.agrees else (drawn[0], drawn[1] + stroke)
        return drawn


def _nice(value: float) -> float:
    for step in (0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 25, 50, 100, 250, 1000, 5000, 25000):
        if value <= step * 4:
            return step
    return value / 4


def _corners(now: Judgement, line: Line, head: float, tail: float) -> list[float]:
    """Return the picture times between which the line is straight: just before and after each jump and each mend."""
    # What a recorder lost sounds nowhere: of the picture times until it goes on nothing can be said.
    gaps = [(jump.at_s, jump.at_s + max(0.0, jump.step_s)) for jump in line.jumps]
    turns = [at for gap in gaps for at in gap]
    for at, _ in now.correction.jumps:
        # Where the mended sample was heard: by the line before the jump, and by the line after it.
        turns += [float(at) + line.offset_at(float(now.laid(at)) + side) for side in (-0.5, 0.5)]
    inner = [at + side for at in turns if head < at < tail for side in (-_BESIDE_S, _BESIDE_S)]
    inner = [at for at in inner if not any(low < at < high for low, high in gaps)]
    bends = [at for at, *_ in line.bends if head < at < tail]
    return sorted([head, *inner, *bends, tail])


# Drawn once for as long as its judgement is kept anywhere, and no longer: each slip makes another.
_DRAWN: WeakKeyDictionary[Judgement, dict[tuple[float, ...], TracePlot | None]] = WeakKeyDictionary()


def trace_plot(now: Judgement, *, width: float, height: float, left: float, pad: float) -> TracePlot | None:
    """Return a pairing's trace as it is laid now: late above, early below, in frames."""
    drawn = _DRAWN.setdefault(now, {})
    size = width, height, left, pad
    if size not in drawn:
        drawn[size] = _laid_out(now, *size)
    return drawn[size]


def _laid_out(now: Judgement, width: float, height: float, left: float, pad: float) -> TracePlot | None:
    found = now.found
    errors = now.errors
    if found is None or found.line is None or errors is None:
        return None
    line = now.line or found.line
    fps = float(now.fps)
    laid, late = now.laid, now.late_s
    head, tail = found.head_s, found.tail_s
    span = max(tail - head, 1e-6)
    rows = []
    for point in found.trace:
        # The offset heard in this window against where the sound is laid.
        sits = laid_at(laid, point.at_s - point.offset_s)
        rows.append((point.at_s, (sits - (point.at_s - late)) * fps, point.weight, point.agrees))
    if len(rows) > MOST_TICKS:
        # Thinned for the eye; the strongest of each stretch stays.
        size = len(rows) / MOST_TICKS
        rows = [max(rows[int(i * size) : int((i + 1) * size)], key=lambda row: row[2]) for i in range(MOST_TICKS)]
    tolerance = float(now.tolerance.frames)
    ends = [error * fps for error in errors.all]
    top = max(2 * tolerance, *(abs(e) for e in ends)) * 1.2
    # Zero is always in sight; a trace far to one side leaves the other side small.
    high = max(top if max(ends) > 0 else 2 * tolerance, 2 * tolerance)
    low = max(top if min(ends) < 0 else 2 * tolerance, 2 * tolerance)

    def x(at: float) -> float:
        return left + (at - head) / span * (width - left - pad)

    def y(frames: float) -> float:
        return pad + (high - min(max(frames, -low), high)) / (high + low) * (height - 2 * pad)

    step = _nice(high + low)
    levels = [n * step for n in range(-int(low / step), int(high / step) + 1)]
    digits = 2 if step < 0.1 or step == 0.25 else 1 if step < 1 else 0
    edge = []
    for side in (1, -1):
        steps = range(25) if side == 1 else range(24, -1, -1)
        for n in steps:
            at = head + span * n / 24
            error = error_at(laid, line, at, late_s=late) + side * line.band_at(at)
            edge.append((x(at), y(error * fps)))
    return TracePlot(
        width=width,
        height=height,
        left=left,
        right=width - pad,
        band=(y(tolerance), y(-tolerance)),
        zero=y(0),
        marks=[Mark(x(at), y(frames), weight, agrees) for at, frames, weight, agrees in rows],
        line=[(x(at), y(error_at(laid, line, at, late_s=late) * fps)) for at in _corners(now, line, head, tail)],
        edge=edge,
        grid=[(y(level), f"{'+' if level >= 0 else chr(8722)}{abs(level):.{digits}f}") for level in levels],
        places=[
            (x(at), name) for at, name in zip((head, found.middle_s, tail), ("head", "middle", "tail"), strict=True)
        ],
    )
