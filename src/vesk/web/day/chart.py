"""The chart of the day: one lane for each source on a time-of-day axis whose idle hours are folded away."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from itertools import accumulate

from vesk.actions.placing import Placed
from vesk.core.kinds import RUN
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.wording import duration
from vesk.store.tables import Recording, Source

WIDTH, LEFT, RIGHT = 1236, 116, 30
LANE, TOP = 24, 22
FOLD = 16  # pixels a folded gap takes
IDLE = Fraction(45)  # seconds nobody rolled: folded from here on
_LABEL = 58  # pixels a time needs


@dataclass(frozen=True, slots=True)
class Block:
    """A recording on its lane, pixels; `joints` are where one file of a run goes over into the next."""

    x: float
    width: float
    recording: Recording
    title: str
    href_id: int | None
    state: str
    joints: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class Lane:
    """A source's lane."""

    y: float
    source: Source
    blocks: list[Block]


@dataclass(frozen=True, slots=True)
class Chart:
    """Everything to draw."""

    width: int
    height: int
    lanes: list[Lane]
    times: list[tuple[float, str]]
    folds: list[tuple[float, float, str]]


class Axis:
    """Time of day to pixels, with idle stretches folded to a fixed width."""

    def __init__(self, spans: list[tuple[Fraction, Fraction]]) -> None:
        self.runs: list[tuple[Fraction, Fraction]] = []
        for start, stop in sorted(spans):
            if self.runs and start - self.runs[-1][1] < IDLE:
                self.runs[-1] = (self.runs[-1][0], max(self.runs[-1][1], stop))
            else:
                self.runs.append((start, stop))
        rolling = float(sum((stop - start for start, stop in self.runs), Fraction(0))) or 1.0
        fold = min(FOLD, 0.5 * (WIDTH - LEFT - RIGHT) / max(1, len(self.runs) - 1))
        self._scale = (WIDTH - LEFT - RIGHT - fold * max(0, len(self.runs) - 1)) / rolling
        self.starts: list[float] = []
        x = float(LEFT)
        for start, stop in self.runs:
            self.starts.append(x)
            x += float(stop - start) * self._scale + fold
        self.fold = fold
        # A microsecond is far below a pixel: floats here, and each end belongs to its run.
        self._begins = [float(start) for start, _ in self.runs]
        self._ends = [float(stop) + 1e-6 for _, stop in self.runs]

    def x(self, at: Fraction) -> float:
        """Return where a moment of some run lies."""
        when = float(at)
        run = bisect_right(self._begins, when) - 1
        if run < 0 or when > self._ends[run]:
            return float(LEFT)
        return self.starts[run] + (when - self._begins[run]) * self._scale


def chart(
    sources: list[Source],
    listed: list[Recording],
    clock: FrameRate,
    partners: dict[int, tuple[int, str]],
    placed: Mapping[int, Placed],
    files: Mapping[int, Recording],
) -> Chart | None:
    """Lay the day out; None when nothing on it has a time.

    Parameters
    ----------
    sources, listed
        The day's.
    clock : FrameRate
        Its label clock.
    partners : dict
        For a recording: a pairing to open, and its state word.
    placed : mapping
        Where recordings lie.
    files : mapping
        What merged recordings are made of.
    """
    timed = [(row, placed[row.id]) for row in listed if row.id in placed]
    if not timed:
        return None
    axis = Axis([(place.start, place.start + place.took) for _, place in timed])
    lanes = []
    for index, source in enumerate(sources):
        blocks = []
        for row, place in timed:
            if row.source_id != source.id:
                continue
            pairing, state = partners.get(row.id, (None, "set aside" if row.aside else "unpaired"))
            x = axis.x(place.start)
            width = max(3.0, axis.x(place.start + place.took) - x)
            label = f"{Timecode.at(place.start, clock)}{' by sound' if place.by_sound else ''}"
            took = f", took {duration(float(place.took))}" if row.took is not None else ""
            title = f"{row.name}, {label}, {duration(float(row.duration))}{took}, {state}"
            joints = tuple(axis.x(place.start + at) for at in _joints(row, files))
            blocks.append(Block(x, width, row, title, pairing, state, joints))
        lanes.append(Lane(TOP + index * LANE, source, blocks))
    times, last = [], -1e9
    for (start, _), x in zip(axis.runs, axis.starts, strict=True):
        if x - last >= _LABEL:
            times.append((x, str(Timecode.at(start, clock))[:8]))
            last = x
    folds = []
    for (_, stop), (start, _), x in zip(axis.runs[:-1], axis.runs[1:], axis.starts[1:], strict=True):
        folds.append((x - axis.fold, axis.fold, duration(float(start - stop))))
    return Chart(WIDTH, TOP + len(sources) * LANE + 4, lanes, times, folds)


def _joints(row: Recording, files: Mapping[int, Recording]) -> list[Fraction]:
    """Return how far into a run each of its files but the first begins, seconds."""
    if row.merged != RUN:
        return []
    return list(accumulate(files[number].duration for number in row.members[:-1] if number in files))
