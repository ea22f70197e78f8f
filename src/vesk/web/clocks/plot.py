"""One plot for each device: time of day across, its clock against the truth up and down, all to one scale."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from vesk.actions.device_clocks import DeviceView
from vesk.core.day.against import Segment
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.wording import signed

WIDTH, HEIGHT, LEFT, RIGHT, FOOT = 900, 132, 56, 14, 18
_LEAST = 0.5  # frames that a plot shows either way, at least
_ROOM = 1.15
_FAR_S = 5.0  # levels further away are drawn about their own, and named
_TIMES = 8


@dataclass(frozen=True, slots=True)
class Mark:
    """A measurement: where, its band, which evidence, whether it is used, and words."""

    x: float
    y: float
    half: float
    kind: str
    used: bool
    says: str
    href_id: int


@dataclass(frozen=True, slots=True)
class Plot:
    """Everything to draw of one device; pixels."""

    marks: list[Mark]
    lines: list[tuple[float, float, float, float]]
    bands: list[str]
    jams: list[tuple[float, str]]
    levels: list[tuple[float, str]]
    rolled: list[tuple[float, float, str]]
    times: list[tuple[float, str]]
    ticks: list[tuple[float, str]]


@dataclass(frozen=True, slots=True)
class Window:
    """Which part of the day is drawn, label seconds, and how many frames either way."""

    since_s: float
    until_s: float
    frames: float

    def x(self, at_s: float) -> float:
        """Return where a label time lies."""
        return LEFT + (at_s - self.since_s) / max(self.until_s - self.since_s, 1e-9) * (WIDTH - LEFT - RIGHT)

    def y(self, frames: float) -> float:
        """Return where a height lies."""
        middle = (HEIGHT - FOOT) / 2
        return middle - frames / self.frames * (middle - 4)


def whole(views: Sequence[DeviceView]) -> tuple[float, float]:
    """Return from when to when the devices rolled, label seconds."""
    ends = [(low, high) for view in views for low, high, _ in view.rolled]
    if not ends:
        return 0.0, 1.0
    low, high = min(low for low, _ in ends), max(high for _, high in ends)
    room = 0.02 * (high - low)
    return low - room, high + room


def tallest(views: Sequence[DeviceView], fps: float) -> float:
    """Return how many frames either way show all that clocks do, each about its own level where that is far."""
    heights = [_LEAST]
    for view in views:
        for segment in view.shown.segments:
            level = _level(segment.ahead_s, fps)
            heights += [abs(ahead - level) * fps for ahead in segment.ahead_s]
    return _ROOM * max(heights)


def _level(ahead_s: tuple[float, float], fps: float) -> float:
    """Return about which level a segment is drawn: its own, in whole frames, where it is far from nothing."""
    middle = (ahead_s[0] + ahead_s[1]) / 2
    return round(middle * fps) / fps if abs(middle) > _FAR_S else 0.0


def draw(view: DeviceView, window: Window, fps: float, clock: FrameRate) -> Plot:
    """Lay out one device's plot.

    Parameters
    ----------
    view : DeviceView
    window : Window
    fps : float
        Frames a second of the day.
    clock : FrameRate
        The day's label clock.
    """
    segments = view.shown.segments
    lines, bands, levels = [], [], []
    for whole_one in segments:
        level = _level(whole_one.ahead_s, fps)
        one = _inside(whole_one, window)
        if one is None:
            continue
        low, high = window.x(one.since_s), window.x(one.until_s)
        if high - low < 3:
            low, high = low - 2, high + 2
        heights = [window.y((ahead - level) * fps) for ahead in one.ahead_s]
        lines.append((low, heights[0], high, heights[1]))
        above, below = (
            [window.y((one.ahead_s[n] - level + side * 1.96 * one.se_s[n]) * fps) for n in (0, 1)] for side in (1, -1)
        )
        corners = [(low, above[0]), (high, above[1]), (high, below[1]), (low, below[0])]
        bands.append(" ".join(f"{x:.1f},{y:.1f}" for x, y in corners))
        if level:
            levels.append((low, f"about {signed(level, 2)} s"))
    marks = []
    for seen, at, ahead in view.shown.marks:
        level = _nearest_level(view, at, fps)
        height = (ahead - level) * fps
        if abs(height) > window.frames or not window.since_s <= at <= window.until_s:
            continue
        reach = min(1.96 * seen.se_s * fps, window.frames)
        says = f"{seen.picture} with {seen.sound}, {_time(at, clock)}: {signed(ahead * fps, 3)} f by {seen.by}"
        marks.append(
            Mark(
                window.x(at), window.y(height), abs(window.y(reach) - window.y(0)), seen.by.replace(" ", "-"),
                seen.used, says if seen.used else f"{says}; set aside", int(seen.key),
            )
        )  # fmt: skip
    jams = [
        (window.x((after + before) / 2), f"set anew between {_time(after, clock)} and {_time(before, clock)}")
        for after, before in view.shown.jams
        if window.since_s <= (after + before) / 2 <= window.until_s
    ]
    rolled = [
        (window.x(low), max(1.5, window.x(high) - window.x(low)), f"{row.name}, {_time(low, clock)}")
        for low, high, row in view.rolled
        if low >= window.since_s and high <= window.until_s
    ]
    step = (window.until_s - window.since_s) / _TIMES
    times = [(window.x(at), _time(at, clock)) for at in (window.since_s + step * (n + 0.1) for n in range(_TIMES))]
    tick = _nice(window.frames)
    ticks = [(window.y(n * tick), f"{signed(n * tick, 2)}") for n in (-1, 0, 1)]
    return Plot(marks, lines, bands, jams, levels, rolled, times, ticks)


def _inside(one: Segment, window: Window) -> Segment | None:
    """Return the part of a segment that is drawn; None where none is."""
    low, high = max(one.since_s, window.since_s), min(one.until_s, window.until_s)
    if low > high:
        return None
    span = max(one.until_s - one.since_s, 1e-9)

    def at(values: tuple[float, float], label_s: float) -> float:
        return values[0] + (values[1] - values[0]) * (label_s - one.since_s) / span

    ahead, errors = ((at(values, low), at(values, high)) for values in (one.ahead_s, one.se_s))
    return replace(one, since_s=low, until_s=high, ahead_s=ahead, se_s=errors)


def _nearest_level(view: DeviceView, at_s: float, fps: float) -> float:
    segments = view.shown.segments
    if not segments:
        return 0.0
    one = min(segments, key=lambda own: max(0.0, own.since_s - at_s, at_s - own.until_s))
    return _level(one.ahead_s, fps)


def _nice(frames: float) -> float:
    """Return a round height that lies well inside."""
    return max(step for step in (0.1, 0.25, 0.5, 1, 2, 5, 10, 25, 50, 100, 250, 500) if step <= max(0.1, 0.9 * frames))


def _time(at_s: float, clock: FrameRate) -> str:
    return str(Timecode.at(Fraction(round(at_s * 1000), 1000) % clock.day, clock))[:8]
