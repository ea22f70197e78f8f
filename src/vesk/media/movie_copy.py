"""Write movies: a copy whose picture packets are those of the original, with other sound or another timecode.

Nothing of the picture is decoded: packets, time stamps, rotation and colour tags pass as they are.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import ExitStack, suppress
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from vesk.core.errors import MediaError, StoppedError, TimecodeError
from vesk.core.timecode import nearest_rate
from vesk.media.movie import first_label, opened, picture_of
from vesk.media.picture_packets import Part, leans, packets_of, part_of, trimmed
from vesk.media.sound import SoundReader
from vesk.media.whole import written_whole

_BLOCK = 48_000
_TICKS = "240000"  # of a movie's own time: edit lists round to it, and to a millisecond without
_COARSEST, _FINEST = 10_000, 10**6  # ticks a second
_COARSE_S = Fraction(1, 2000)
_MXF_PICTURES = {"mpeg2video"}
_CARRIED = {".mov": ".mov", ".mp4": ".mov", ".m4v": ".mov", ".mxf": ".mxf"}
GoOn = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class LaidTrack:
    """A sound laid on the picture already: a WAV that begins with its first frame.

    Attributes
    ----------
    path : Path
    channels : tuple of int
        Which of its channels, from 0, in this order.
    name : str
        Of the track.
    span : (int, int) or None
        Its first sample, which lies at the first frame, and the one past its last; None: all of it.
    """

    path: Path
    channels: tuple[int, ...]
    name: str
    span: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class Carried:
    """In which container a movie is written, and what should be known of that."""

    ending: str
    remark: str


def carried_by(path: Path, codec: str, kept: tuple[int, int] | None = None) -> Carried:
    """Return the container for a movie with sound of 24 bits: the original's, else the nearest that can hold it.

    Parameters
    ----------
    path : Path
        The original.
    codec : str
        Of its picture.
    kept : (int, int) or None
        As `copy_movie` has it.
    """
    ending = path.suffix.lower()
    holds = _CARRIED.get(ending, ".mov")
    if holds == ".mxf" and codec not in _MXF_PICTURES:
        return Carried(".mov", f"MOV, since {codec} picture cannot be written to MXF here")
    if holds == ".mxf" and kept is not None and leans(part_of(path, kept)):
        return Carried(".mov", "MOV, since MXF cannot hide the frames that its first one leans on")
    if holds == ending:
        return Carried(holds, "")
    return Carried(
        holds, f"{holds[1:].upper()}, since {ending[1:].upper()} holds no sound of 24 bits that opens anywhere"
    )


def copy_movie(
    source: Path,
    target: Path,
    *,
    tracks: Sequence[LaidTrack] = (),
    scratch: bool = True,
    timecode: str = "",
    silent: Collection[int] = (),
    kept: tuple[int, int] | None = None,
    stretch: Fraction = Fraction(1),
    go_on: GoOn = lambda: True,
) -> None:
    """Write a movie with the original's picture and other sound first.

    Parameters
    ----------
    source, target : Path
        Opened for reading only; written whole or not at all.
    tracks : sequence of LaidTrack
        Good sound, the first played by itself; none leaves the sound as it is.
    scratch : bool
        Whether the original's own sound stays, behind the good and not played by itself.
    timecode : str
        Label of its first frame; empty: that of the original.
    silent : collection of int
        Channels of the original's own sound, from 0 over all its streams, that shall be silent: timecode. All else of
        it stays, byte for byte.
    kept : (int, int) or None
        From which frame, from 0, to before which it goes; None: all of it. Packets before the first that it needs to
        be decoded lie before its beginning (an edit list hides them); good sound begins with the first frame kept.
    stretch : Fraction
        Seconds that the picture plays for one as recorded; only MOV holds another than 1. The packets stay, their
        times change; the original's own sound, which would not fit, is left out.

    Raises
    ------
    MediaError
        If the original cannot be read, or the container cannot hold what is asked.
    """
    with written_whole(target) as part, opened(source) as original, ExitStack() as stack:
        readers = [(one, stack.enter_context(SoundReader(one.path))) for one in tracks]
        options = {"movflags": "use_metadata_tags", "movie_timescale": _TICKS} if target.suffix == ".mov" else {}
        times = _Times.of(source, original, stretch)
        if times is not None:
            options["video_track_timescale"] = str(times.tick.denominator)
        kind = "mxf" if target.suffix == ".mxf" else "mov"
        try:
            with av.open(str(part), "w", format=kind, options=options) as made:
                copying = _Copying(original, made, source, timecode, _part_of(source, target, kept), times)
                copying.lay(readers)
                if (scratch or not readers) and stretch == 1:
                    copying.keep(_quiet(original, silent))
                copying.run(original, go_on)
        except av.FFmpegError as error:
            into = target.suffix[1:].upper()
            raise MediaError(source, f"it cannot be copied into {into}: {error}", "Hand over its sound.") from error


def coded_with_others(source: Path, silent: Collection[int]) -> bool:
    """Say whether channels that shall be silent are coded together with others that shall stay.

    Parameters
    ----------
    source : Path
    silent : collection of int
        From 0, over all its sound streams.
    """
    with opened(source) as original:
        return any(quiet and len(quiet) < count and not _width(one) for one, quiet, count in _quiet(original, silent))


def _quiet(original: Any, silent: Collection[int]) -> Iterator[tuple[Any, tuple[int, ...], int]]:
    """Yield every sound stream, which of its channels shall be silent, and how many it has."""
    first = 0
    for stream in original.streams.audio:
        channels = int(stream.codec_context.channels or 1)
        yield stream, tuple(n - first for n in sorted(silent) if first <= n < first + channels), channels
        first += channels


@dataclass(frozen=True, slots=True)
class _Times:
    """When the packets of a picture are written to play, where that is not as the original has it.

    Attributes
    ----------
    stretch : Fraction
        Seconds that it plays for one as recorded.
    plays : Fraction
        Frames a second.
    tick : Fraction
        What its times count, seconds.
    recorded : Fraction or None
        Frames a second of an original whose container rounds when they are shown; None: it tells that exactly.
    """

    stretch: Fraction
    plays: Fraction
    tick: Fraction
    recorded: Fraction | None = None

    @classmethod
    def of(cls, source: Path, original: Any, stretch: Fraction) -> _Times | None:
        video = picture_of(original)
        if video is None:
            return None
        steady = _rounded_rate(source, video)
        if stretch == 1 and steady is None:
            return None
        recorded = steady or video.average_rate or Fraction(25)
        plays = recorded / stretch
        # In ticks of which a frame is a whole number, where that can be.
        scale = plays.numerator if plays.numerator < _FINEST else int(_TICKS)
        while scale < _COARSEST:
            scale *= 10
        return cls(stretch, plays.limit_denominator(_FINEST), Fraction(1, scale), steady)

    def apply(self, packet: Any) -> None:
        """Move a packet of the picture to when it plays."""
        packet.duration = self._ticks(packet.duration or 0, packet.time_base)
        packet.dts = self._ticks(packet.dts, packet.time_base)
        if packet.pts is not None:
            packet.pts = self._ticks(packet.pts, packet.time_base)
        packet.time_base = self.tick

    def _ticks(self, count: int, base: Fraction) -> int:
        seconds = count * base
        if self.recorded is not None:
            seconds = round(seconds * self.recorded) / self.recorded
        return round(seconds * self.stretch / self.tick)


def _rounded_rate(source: Path, video: Any) -> Fraction | None:
    """Return the steady rate of a picture whose container counts so coarsely that frames do not lie where they are."""
    rate = nearest_rate(video.average_rate or Fraction(0))
    if rate is None or video.time_base < _COARSE_S or (1 / rate / video.time_base).denominator == 1:
        return None
    with opened(source) as container:
        base = video.time_base
        off = [
            abs(at * base - round(at * base * rate) / rate)
            for at in (one.pts for one in packets_of(container, picture_of(container)) if one.pts is not None)
        ]
    return rate if off and max(off) <= base else None


class _Copying:
    """One movie being written from another: which streams go where."""

    def __init__(
        self, original: Any, made: Any, source: Path, timecode: str, part: Part | None, times: _Times | None
    ) -> None:
        self._part, self._times = part, times
        self.video: Any = picture_of(original)
        if self.video is None:
            raise MediaError(source, "it has no picture", "It is no movie: hand over its sound.")
        self._made, self._source = made, source
        made.metadata.update({key: value for key, value in original.metadata.items() if key != "timecode"})
        self._picture = made.add_stream_from_template(self.video, opaque=True)
        self._picture.metadata.update({k: value for k, value in self.video.metadata.items() if k != "timecode"})
        if times is not None:
            self._picture.codec_context.framerate = times.plays  # what its timecode track counts by
        with suppress(TimecodeError):  # one that cannot be is left out
            timecode = timecode or first_label(source, original)[0]
        if timecode:
            self._picture.metadata["timecode"] = timecode
        if reel := _told(original, "reel_name"):
            self._picture.metadata["reel_name"] = reel
        self._laid: list[_SoundStream] = []
        self._kept: dict[int, tuple[Any, tuple[int, ...], int]] = {}

    def lay(self, tracks: Sequence[tuple[LaidTrack, SoundReader]]) -> None:
        """Put good sound in: the first is played by itself."""
        begins = Fraction(0)
        if self.video.start_time is not None and self._part is None:
            begins = self.video.start_time * self.video.time_base * (self._times.stretch if self._times else 1)
        self._laid = [
            _SoundStream(self._made, one, reader, begins, first=not number)
            for number, (one, reader) in enumerate(tracks)
        ]

    def keep(self, streams: Iterator[tuple[Any, tuple[int, ...], int]]) -> None:
        """Keep the original's own sound; a stream whose channels all are to be silent is left out."""
        for stream, quiet, channels in streams:
            if len(quiet) == channels:
                continue
            if quiet and not _width(stream):
                raise MediaError(
                    self._source, f"its timecode lies in {stream.codec_context.name} sound, which cannot be silenced "
                    "without coding it anew", "Leave it as it is, or hand over its sound as WAV.",
                )  # fmt: skip
            own = self._made.add_stream_from_template(stream, opaque=True)
            own.metadata.update(stream.metadata)
            if self._laid:
                own.disposition = av.stream.Disposition(0)
                own.metadata["handler_name"] = "scratch"
            self._kept[stream.index] = own, quiet, channels

    def run(self, original: Any, go_on: GoOn) -> None:
        """Copy packet by packet, in the order in which they lie, good sound a second ahead of the picture."""
        streams = [self.video, *(one for one in original.streams.audio if one.index in self._kept)]
        if self._part is not None:
            # To the key before it: MXF tells the order of decoding of the first packet after a seek wrongly.
            original.seek(max(self._part.lead - 1, self.video.start_time or 0), stream=self.video)
        for packet in packets_of(original, self.video, streams):
            if not self._belongs(packet):
                continue
            if packet.stream.index == self.video.index:
                if not go_on():
                    raise StoppedError("stopped before its movie was whole")
                if self._times is not None:
                    self._times.apply(packet)
                for one in self._laid:
                    one.up_to(packet.dts * packet.time_base + 1)
                packet.stream = self._picture
                self._made.mux(packet)
            else:
                self._mux_sound(packet)
        for one in self._laid:
            one.up_to(None)

    def _belongs(self, packet: Any) -> bool:
        """Say whether a packet lies in what is kept, and count its time from there."""
        if self._part is None:
            return True
        at = packet.dts if packet.pts is None else packet.pts
        if packet.stream.index == self.video.index:
            inside = self._part.lead <= at < self._part.end
            if packet.pts is not None:
                packet.pts = self._part.at(packet.pts) + self._part.begin
        else:
            base = self.video.time_base
            ends = (at + (packet.duration or 0)) * packet.time_base
            inside = ends > self._part.begin * base and at * packet.time_base < self._part.end * base
        by = round(self._part.begin * self.video.time_base / packet.time_base)
        packet.dts -= by
        if packet.pts is not None:
            packet.pts -= by
        return bool(inside)

    def _mux_sound(self, packet: Any) -> None:
        own, quiet, channels = self._kept[packet.stream.index]
        if quiet:
            width = _width(packet.stream)
            samples = np.frombuffer(bytes(packet), np.uint8).reshape(-1, channels, width).copy()
            samples[:, list(quiet)] = 0
            still = av.Packet(samples.tobytes())
            still.pts, still.dts, still.time_base = packet.pts, packet.dts, packet.time_base
            still.duration, still.is_keyframe = packet.duration, True
            packet = still
        packet.stream = own
        self._made.mux(packet)


def _part_of(source: Path, target: Path, kept: tuple[int, int] | None) -> Part | None:
    if kept is None and not trimmed(source):
        return None
    part = part_of(source, kept)
    if target.suffix == ".mxf" and leans(part):
        raise MediaError(
            source, "the first frame kept leans on one before it, which MXF cannot hide", "Hand over its sound, or let "
            "the range begin where it can be decoded.",
        )  # fmt: skip
    return part


def _told(original: Any, name: str) -> str:
    """Return what a movie's tracks say under a name: its timecode's first label, its reel."""
    every = [original.metadata, *(stream.metadata for stream in original.streams)]
    return next((str(one[name]) for one in every if one.get(name)), "")


def _width(stream: Any) -> int:
    """Return the bytes of one sample of plain sound; 0 where it is coded."""
    found = re.fullmatch(r"pcm_[su](8|16|24|32)(?:le|be)?", stream.codec_context.name)
    return int(found[1]) // 8 if found else 0


class _SoundStream:
    """One track of good sound, fed as the picture goes on."""

    def __init__(self, made: Any, track: LaidTrack, reader: SoundReader, begins: Fraction, *, first: bool) -> None:
        self._made, self._track, self._reader = made, track, reader
        self._rate = reader.sample_rate
        self._first, last = track.span or (0, reader.frames)
        self._count = max(0, min(last, reader.frames) - self._first)
        self._at = 0
        self._begins = begins
        self._stream = made.add_stream("pcm_s24le", rate=self._rate)
        self._stream.codec_context.layout = _layout(len(track.channels))
        self._stream.codec_context.format = "s32"
        self._stream.time_base = Fraction(1, self._rate)
        self._stream.metadata["handler_name"] = track.name
        self._stream.metadata["title"] = track.name
        self._stream.disposition = av.stream.Disposition.default if first else av.stream.Disposition(0)

    def up_to(self, seconds: Fraction | None) -> None:
        """Write what sounds until a time of the movie; all that is left without one."""
        last = self._count
        stop = last if seconds is None else min(last, max(0, round((seconds - self._begins) * self._rate)))
        while self._at < stop:
            count = min(_BLOCK, stop - self._at)
            block = self._reader.read(self._first + self._at, count)[:, list(self._track.channels)]
            for packet in self._stream.encode(self._frame(block)):
                self._made.mux(packet)
            self._at += count
        if seconds is None:
            for packet in self._stream.encode(None):
                self._made.mux(packet)

    def _frame(self, block: NDArray[np.float32]) -> Any:
        whole = np.clip(np.rint(block.astype(np.float64) * 2**23), -(2**23), 2**23 - 1).astype(np.int32) << 8
        packed = np.ascontiguousarray(whole).reshape(1, -1)
        frame = av.AudioFrame.from_ndarray(packed, format="s32", layout=_layout(block.shape[1]))
        frame.sample_rate = self._rate
        frame.pts = self._at + round(self._begins * self._rate)
        frame.time_base = Fraction(1, self._rate)
        return frame


def _layout(channels: int) -> str:
    return {1: "mono", 2: "stereo"}.get(channels, f"{channels}c")
