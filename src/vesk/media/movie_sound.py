"""A movie's sound as samples, each where its time stamps lay it beside the picture. Opened read-only, always."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from vesk.core.heard import HeardHole
from vesk.media.movie import opened, picture_of, sound_streams

_CHUNK = 1 << 16  # samples laid and handed over at once, where there are as many
_HOLE_S = 0.005  # stamps that lie nearer to where the samples before end are rounded, jitter, or creep
_FEW = 20  # damaged packets, however few there are
_LONGEST_S = 3600.0  # a stamp that lies further off is nonsense
_CREPT_S, _USUAL_S, _FOLLOWED_S = 0.001, 1.0, 5.0  # creeping from there on; over how long; followed within


def _unheard(_hole: HeardHole) -> None:
    """Keep nothing of a hole."""


def sound_blocks(path: Path, on_hole: Callable[[HeardHole], None] = _unheard) -> Iterator[NDArray[np.float32]]:
    """Decode a movie's sound streams together, from the first picture on.

    Sound that begins before the first frame is cut, and silence put where it begins later, so that
    sample 0 belongs to the start of frame 0: edit lists and coders' priming are accounted for by their time stamps.
    Where it stops on the way and goes on later by these, silence lies between, and what overlaps is cut. Where they
    creep away from the count of samples, a sample is said twice or left out now and then: the picture goes by them.

    Parameters
    ----------
    path : Path
    on_hole : callable
        Told each of those.

    Yields
    ------
    ndarray of float32, shape (n, channels)
        Full scale ±1, at the streams' own sample rate; streams one after the other as channels.
    """
    with opened(path) as container:
        streams = sound_streams(container)
        if not streams:
            return
        video = picture_of(container)
        origin = Fraction(0)
        if video is not None and video.start_time is not None:
            origin = video.start_time * video.time_base
        longest_s = min(_LONGEST_S, container.duration / 1e6 if container.duration else _LONGEST_S)
        tracks = {stream.index: _Track(stream, origin, longest_s, on_hole) for stream in streams}
        for packet in container.demux(streams):
            tracks[packet.stream.index].take(packet)
            while (ready := min((track.ready for track in tracks.values() if not track.lost), default=0)) >= _CHUNK:
                yield _beside([track.give(min(ready, 2 * _CHUNK)) for track in tracks.values()])
        for track in tracks.values():
            track.end()
        if all(track.lost for track in tracks.values()):
            raise av.error.InvalidDataError(0, "none of its sound can be decoded")
        ends = max(track.at for track in tracks.values())
        for track in tracks.values():
            if track.lost:  # of several: the others are heard, and this one is said to be silent
                on_hole(HeardHole(track.at / track.rate, (ends - track.at) / track.rate))
        # A stream that ends sooner than another is silent from there on.
        while rest := max(track.ready for track in tracks.values()):
            yield _beside([track.give(min(rest, _CHUNK)) for track in tracks.values()])


def _beside(blocks: list[NDArray[np.float32]]) -> NDArray[np.float32]:
    return blocks[0] if len(blocks) == 1 else np.concatenate(blocks, axis=1)


# How decoders usually give samples, and what full scale is; anything else goes through a resampler, frame by frame.
_FULL = {
    "s16": (np.int16, 1 << 15), "s16p": (np.int16, 1 << 15), "s32": (np.int32, 1 << 31), "s32p": (np.int32, 1 << 31),
    "flt": (np.float32, 1), "fltp": (np.float32, 1),
}  # fmt: skip


def _samples(frames: Sequence[Any], channels: int) -> NDArray[np.float32]:
    """Return what decoded frames of one format hold, float32 (n, channels), full scale ±1, as a copy."""
    kind, full = _FULL[frames[0].format.name]
    if frames[0].format.is_planar:
        each = ([np.frombuffer(one.planes[n], kind, one.samples) for one in frames] for n in range(channels))
        values = np.stack([np.concatenate(plane) for plane in each], axis=1).astype(np.float32)
    else:
        packed = [np.frombuffer(one.planes[0], kind, one.samples * channels) for one in frames]
        values = np.concatenate(packed).reshape(-1, channels).astype(np.float32)
    if full > 1:
        values *= np.float32(1 / full)
    return values


class _Track:
    """One sound stream being decoded."""

    def __init__(self, stream: Any, origin: Fraction, longest_s: float, on_hole: Callable[[HeardHole], None]) -> None:
        self._stream, self._origin, self._on_hole = stream, origin, on_hole
        self.rate, self._channels = int(stream.rate), int(stream.codec_context.channels)
        self._resampler = av.AudioResampler(format="flt", layout=stream.codec_context.layout, rate=stream.rate)
        self._ticks = float(stream.time_base * stream.rate)  # samples a tick of its stamps lasts
        self._near = _HOLE_S * self.rate + self._ticks
        self._crept_from = _CREPT_S * self.rate
        self._longest = longest_s * self.rate
        self._silence = np.zeros((1, self._channels), np.float32)
        self._held: deque[NDArray[np.float32]] = deque()
        self._stamped: float | None = None  # of the next sample by those before, in samples; None before the first
        self._odd: tuple[float, NDArray[np.float32]] | None = None  # a frame stamped elsewhere, until the next tells
        self._usual = 0.0  # by how many samples its stamps are later than counted, usually
        self._creeps = False
        self._pace, self._due = 0.0, 0.0  # samples a frame by which they creep; not followed yet
        self._cut = 0  # samples still to be left out
        self._decoded: list[Any] = []  # frames that were not laid yet,
        self._waiting = 0  # and their samples
        self._packets, self._damaged = 0, 0
        self.at = 0  # where the next sample lies, from frame 0 of the picture on
        self.ready = 0
        self.lost = False  # most of it cannot be decoded

    def take(self, packet: Any) -> None:
        """Decode a packet; the last one, without data, brings what the coder held back.

        One that is damaged is a hole, which the stamp of the next one tells; where most are, nothing is to be had.
        """
        if self.lost:
            return
        self._packets += 1
        try:
            frames = packet.decode()
        except av.error.FFmpegError:
            self._damaged += 1
            self.lost = self._damaged > _FEW and 2 * self._damaged > self._packets
            return
        for frame in frames:
            self._decoded.append(frame)
            self._waiting += frame.samples
        if self._waiting >= _CHUNK:
            self._lay_decoded()

    def _lay_decoded(self) -> None:
        """Lay what was decoded: in one step where it goes on as it was counted, else frame by frame."""
        frames, self._decoded, self._waiting = self._decoded, [], 0
        if self._goes_on(frames):
            self._add(_samples(frames, self._channels))
            return
        for frame in frames:
            if self._is_plain(frame):
                self._lay(frame.pts, _samples([frame], self._channels))
                continue
            for number, packed in enumerate(self._resampler.resample(frame)):
                block = packed.to_ndarray().reshape(-1, self._channels).astype(np.float32)
                self._lay(None if number else frame.pts, block)

    def _is_plain(self, frame: Any) -> bool:
        """Say whether a frame holds samples as the stream says, in a form that is read as it lies."""
        same = (frame.rate, frame.layout.nb_channels) == (self.rate, self._channels)
        return same and frame.format.name in _FULL

    def _goes_on(self, frames: Sequence[Any]) -> bool:
        """Say whether frames are plain and stamped where those before end, and count them if so."""
        if not frames or self._stamped is None or self._odd is not None or self._creeps:
            return False
        form, stamped, usual = frames[0].format.name, self._stamped, self._usual
        for frame in frames:
            late = 0.0 if frame.pts is None else frame.pts * self._ticks - stamped
            stamped += frame.samples
            usual += self._weight(frame.samples) * (late - usual)
            plain = frame.format.name == form and frame.samples and self._is_plain(frame)
            if not plain or abs(late) > self._near or abs(usual) > self._crept_from:
                return False
        self._stamped, self._usual = stamped, usual
        return True

    def _weight(self, samples: int) -> float:
        """Return how much a frame counts for how late its stamps usually are."""
        return min(1.0, samples / self.rate / _USUAL_S)

    def end(self) -> None:
        """Lay what waited for others."""
        self._lay_decoded()
        self.lost |= bool(self._damaged) and self._stamped is None
        if self._odd is not None:
            self._go_on(*self._odd)

    def _begin(self, pts: int) -> float:
        """Put silence where the stream begins late, leave out what it begins early; return what it is stamped with."""
        late = round((pts * self._stream.time_base - self._origin) * self.rate)
        self._pass(late if abs(late) < self._longest else 0)
        return pts * self._ticks

    def _lay(self, pts: int | None, block: NDArray[np.float32]) -> None:
        """Lay a frame where it is stamped; one alone that is stamped elsewhere goes on from the one before."""
        if not block.shape[0]:
            return
        if self._stamped is None:
            self._stamped = self._begin(pts or 0)
        late = 0.0 if pts is None else pts * self._ticks - self._stamped
        if abs(late) >= self._longest:
            late = 0.0
        self._stamped += block.shape[0]
        if self._odd is not None:
            was, held = self._odd
            self._odd = None
            if pts is None or abs(late - was) <= self._near:
                self._go_on(was, held)
                self._stamped += was
                late = 0.0 if pts is None else late - was
            else:
                self._add(held)
        odd = abs(late) > self._near
        if odd:
            self._odd = late, block
        else:
            self._add(self._crept(late, block))

    def _crept(self, late: float, block: NDArray[np.float32]) -> NDArray[np.float32]:
        """Return a frame with a sample more or less where its stamps creep; a control loop of second order."""
        lasts_s = block.shape[0] / self.rate
        self._usual += self._weight(block.shape[0]) * (late - self._usual)
        self._creeps |= abs(self._usual) > self._crept_from
        if not self._creeps:
            return block
        share = min(0.5, lasts_s / _FOLLOWED_S)
        self._pace += share**2 * late
        self._due += self._pace + 2 * share * late
        more = max(int(self._due), 1 - block.shape[0])
        self._due -= more
        self._stamped = (self._stamped or 0.0) + more
        if more <= 0:
            return block[: block.shape[0] + more]
        return np.concatenate([block, np.repeat(block[-1:], more, axis=0)])

    def _go_on(self, late: float, block: NDArray[np.float32]) -> None:
        """Lay a frame that much later than the sound before it ends, samples; below 0, without what overlaps."""
        lost = round(late / block.shape[0]) * block.shape[0]
        samples = lost if abs(late - lost) <= self._ticks else round(late)  # stamps are rounded, packets lost are whole
        self._on_hole(HeardHole(self.at / self.rate, samples / self.rate))
        self._pass(samples)
        self._add(block)

    def _pass(self, count: int) -> None:
        """Put so many samples of silence; below 0, leave out as many of what comes."""
        if count < 0:
            self._cut -= count
        else:
            self._add(np.broadcast_to(self._silence, (count, self._channels)))  # an hour of it takes no memory

    def _add(self, block: NDArray[np.float32]) -> None:
        if self._cut:
            gone = min(self._cut, block.shape[0])
            block, self._cut = block[gone:], self._cut - gone
        self._held.append(block)
        self.ready += block.shape[0]
        self.at += block.shape[0]

    def give(self, count: int) -> NDArray[np.float32]:
        """Hand over the next `count` samples, silent where there are no more."""
        pieces: list[NDArray[np.float32]] = []
        while count and self._held:
            block = self._held.popleft()
            if block.shape[0] > count:
                self._held.appendleft(block[count:])
                block = block[:count]
            pieces.append(block)
            count -= block.shape[0]
            self.ready -= block.shape[0]
        if count:
            pieces.append(np.broadcast_to(self._silence, (count, self._channels)))
        return pieces[0] if len(pieces) == 1 else np.concatenate(pieces)
