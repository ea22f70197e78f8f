"""The chart of the day: one lane for each source on a time-of-day axis whose idle hours are folded away."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from itertools import accumulate, pairwise
from operator import itemgetter

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
WIDEST = 40_000  # pixels: a day of eighteen hours at two seconds a pixel and more
_SEEN = 2.0  # pixels that a gap needs to be pointed at


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
class Between:
    """A stretch of a lane that explains itself when pointed at: nothing was recorded, or two at once; pixels."""

    x: float
    width: float
    says: str
    overlap: bool


@dataclass(frozen=True, slots=True)
class Lane:
    """A source's lane."""

    y: float
    source: Source
    blocks: list[Block]
    between: list[Between]
    says: str


@dataclass(frozen=True, slots=True)
class Chart:
    """Everything to draw."""

    width: int
    height: int
    lanes: list[Lane]
    times: list[tuple[float, str]]
    folds: list[tuple[float, float, str]]
    runs: list[tuple[float, float, float]]  # where each stretch that is not folded begins: pixel, second; seconds long
    scale: float  # pixels a second


class Axis:
    """Time of day to pixels, with idle stretches folded to a fixed width."""

    def __init__(self, spans: list[tuple[Fraction, Fraction]], width: int = WIDTH) -> None:
        self.runs: list[tuple[Fraction, Fraction]] = []
        for start, stop in sorted(spans):
            if self.runs and start - self.runs[-1][1] < IDLE:
                self.runs[-1] = (self.runs[-1][0], max(self.runs[-1][1], stop))
            else:
                self.runs.append((start, stop))
        rolling = float(sum((stop - start for start, stop in self.runs), Fraction(0))) or 1.0
        room = width - LEFT - RIGHT
        fold = min(FOLD, 0.5 * room / max(1, len(self.runs) - 1))
        self.scale = (room - fold * max(0, len(self.runs) - 1)) / rolling
        self.starts: list[float] = []
        x = float(LEFT)
        for start, stop in self.runs:
            self.starts.append(x)
            x += float(stop - start) * self.scale + fold
        self.fold = fold
        # A microsecond is far below a pixel: floats here, and each end belongs to its run.
        self._begins = [float(start) for start, _ in self.runs]
        self._ends = [float(stop) + 1e-6 for _, stop in self.runs]

    @property
    def laid(self) -> list[tuple[float, float, float]]:
        """Where each stretch begins, pixel and second of the day, and its seconds: to read a time off a place."""
        pairs = zip(self.starts, self.runs, strict=True)
        return [(round(x, 2), float(start), float(stop - start)) for x, (start, stop) in pairs]

    def x(self, at: Fraction) -> float:
        """Return where a moment of some run lies."""
        when = float(at)
        run = bisect_right(self._begins, when) - 1
        if run < 0 or when > self._ends[run]:
            return float(LEFT)
        return self.starts[run] + (when - self._begins[run]) * self.scale


def chart(
    sources: list[Source],
    listed: list[Recording],
    clock: FrameRate,
    partners: dict[int, tuple[int, str]],
    placed: Mapping[int, Placed],
    files: Mapping[int, Recording],
    width: int = WIDTH,
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
    width : int
        Pixels: wider shows more of each take.
    """
    timed = [(row, placed[row.id]) for row in listed if row.id in placed]
    if not timed:
        return None
    axis = Axis([(place.start, place.start + place.took) for _, place in timed], width)
    lanes = []
    for index, source in enumerate(sources):
        blocks = []
        for row, place in timed:
            if row.source_id != source.id:
                continue
            pairing, state = partners.get(row.id, (None, "set aside" if row.aside else "unpaired"))
            x = axis.x(place.start)
            wide = max(3.0, axis.x(place.start + place.took) - x)
            label = f"{Timecode.at(place.start, clock)}{' by sound' if place.by_sound else ''}"
            took = f", took {duration(float(place.took))}" if row.took is not None else ""
            title = f"{row.name}, {label}, {duration(float(row.duration))}{took}, {state}"
            joints = tuple(axis.x(place.start + at) for at in _joints(row, files))
            blocks.append(Block(x, wide, row, title, pairing, state, joints))
        own = [(row, place) for row, place in timed if row.source_id == source.id]
        untimed = sum(row.source_id == source.id for row in listed) - len(own)
        lanes.append(
            Lane(TOP + index * LANE, source, blocks, _between(own, axis, source.tag), _lane_says(source, own, untimed))
        )
    times, last = [], -1e9
    for (start, _), x in zip(axis.runs, axis.starts, strict=True):
        if x - last >= _LABEL:
            times.append((x, str(Timecode.at(start, clock))[:8]))
            last = x
    folds = []
    ends = sorted((place.start + place.took, row.name) for row, place in timed)
    begins = sorted((place.start, row.name) for row, place in timed)
    for (_, stop), (start, _), x in zip(axis.runs[:-1], axis.runs[1:], axis.starts[1:], strict=True):
        last_name = ends[bisect_right(ends, stop, key=itemgetter(0)) - 1][1]
        first_name = begins[bisect_left(begins, start, key=itemgetter(0))][1]
        said = f"nobody rolled for {duration(float(start - stop))}, from {last_name} to {first_name}"
        folds.append((x - axis.fold, axis.fold, said))
    return Chart(width, TOP + len(sources) * LANE + 4, lanes, times, folds, axis.laid, axis.scale)


def _between(own: list[tuple[Recording, Placed]], axis: Axis, tag: str) -> list[Between]:
    """Return the gaps and overlaps of a lane, each with the files that make it."""
    found = []
    ordered = sorted(own, key=lambda item: (item[1].start, item[0].path))
    for (row, place), (after, then) in pairwise(ordered):
        stop = place.start + place.took
        gap = then.start - stop
        low, high = sorted((stop, then.start))
        if gap < 0:
            high = min(high, then.start + then.took)
        x = axis.x(low)
        wide = axis.x(high) - x
        if wide < _SEEN or gap == 0:
            continue
        span = duration(float(abs(gap)))
        if gap > 0:
            says = f"{tag} did not roll for {span}, from {row.name} to {after.name}"
        else:
            says = f"{after.name} begins {span} before {row.name} ends: one device cannot record both"
        found.append(Between(x, wide, says, gap < 0))
    return found


def _lane_says(source: Source, own: list[tuple[Recording, Placed]], untimed: int) -> str:
    names = sorted(row.name for row, _ in own)
    count = f"{len(names)} {'recording' if len(names) == 1 else 'recordings'}"
    listed = "" if not names else f": {names[0]}" if len(names) == 1 else f", {names[0]} to {names[-1]}"
    more = f"; {untimed} more without a place" if untimed else ""
    where = source.folder or "the day's folder"
    return f"{source.tag}, {where}: {count}{listed}{more}"


def _joints(row: Recording, files: Mapping[int, Recording]) -> list[Fraction]:
    """Return how far into a run each of its files but the first begins, seconds."""
    if row.merged != RUN:
        return []
    return list(accumulate(files[number].duration for number in row.members[:-1] if number in files))
