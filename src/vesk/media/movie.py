"""Movies: their facts, their sound as samples, and single frames. Opened read-only, always."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.video.reformatter import VideoReformatter
from numpy.typing import NDArray

from vesk.core.errors import MediaError, NumberError, TimecodeError
from vesk.core.facts import Facts
from vesk.core.figures import read_number
from vesk.core.heard import HeardHole
from vesk.core.kinds import PICTURE, SOUND, Flaw, Unusable
from vesk.core.timecode import RATES, FrameRate, Timecode, nearest_rate

EXACT_CODERS = ("pcm", "flac", "alac")
UNKNOWN = "unknown"
NO_PICTURE = "its picture is coded in a way that cannot be decoded here; its timecode and its sound are used"
_LONGEST = 4096  # of a tag
_LEAST_STAMPS, _ON_A_FRAME, _MOST = 12, 0.2, 0.97  # frames; of a frame; share of them
_CHUNK = 1 << 16  # samples handed over at once, where there are as many
_HOLE_S = 0.005  # stamps that lie nearer to where the samples before end are rounded, jitter, or creep
_CREPT_S, _USUAL_S, _FOLLOWED_S = 0.001, 1.0, 5.0  # creeping from there on; over how long; followed within
# A playlist named like a movie would have other files opened, or addresses asked: neither kind is read.
_FORMATS = "mov,mp4,m4a,3gp,3g2,mj2,mxf,matroska,webm,avi,mpegts,aac,mp3,ogg,flac,aiff,caf,wav,w64"
_ONLY = {"protocol_whitelist": "file", "format_whitelist": _FORMATS}
COPY_AGAIN = "Copy it again from the card, or set it aside."


@contextmanager
def opened(path: Path) -> Iterator[Any]:
    """Open a movie for reading; what the library cannot read becomes a `MediaError`."""
    try:
        with path.open("rb") as file:
            if not file.read(1):
                raise MediaError(path, "it is empty", COPY_AGAIN, Unusable.EMPTY)
        # Named as a file, so that a colon in its path is no protocol; tags in whatever letters do not stop it.
        with av.open(f"file:{path.absolute()}", mode="r", metadata_errors="replace", container_options=_ONLY) as found:
            yield found
    except (av.error.FFmpegError, ValueError, EOFError) as error:
        raise MediaError(path, f"it cannot be read ({_plain(error)})", COPY_AGAIN) from error
    except OSError as error:
        raise MediaError(
            path, f"it cannot be opened ({error.strerror or error})", "Look at its permissions."
        ) from error


def _plain(error: Exception) -> str:
    text = getattr(error, "strerror", None) or str(error)
    return str(text).split(":")[0].lower()


def read_facts(path: Path) -> Facts:
    """Read what a movie, or a sound file the wave reader does not know, says of itself."""
    with opened(path) as container:
        video = next((s for s in container.streams.video), None)
        sound = sound_streams(container)
        if video is None and not sound:
            raise MediaError(path, "it holds neither picture nor sound", "It is left out.")
        name = container.format.name.split(",")[0]
        values: dict[str, Any] = {"container": name, "remarks": ()}
        if sound:
            values.update(_sound_facts(sound))
        if video is None:
            samples = values["samples"]
            if not values["sound_codec"].startswith(EXACT_CODERS):
                said = "compressed sound without picture: where it starts and ends is as its container says"
                values["remarks"] = (said,)
            return Facts(kind=SOUND, duration=Fraction(samples, values["sample_rate"] or 1), **values)
        values.update(_picture_facts(path, container, video))
        return Facts(kind=PICTURE, **values)


def sound_streams(container: Any) -> list[Any]:
    """Return the sound streams that are read together as one recording's channels: those at the first one's rate."""
    streams = [s for s in container.streams.audio if s.codec_context and s.rate]
    return [s for s in streams if s.rate == streams[0].rate]


def _sound_facts(streams: list[Any]) -> dict[str, Any]:
    samples, stream = 0, streams[0]
    if stream.duration is not None and stream.time_base:
        samples = round(stream.duration * stream.time_base * stream.rate)
    codec = stream.codec_context
    bits = int(codec.format.bits) if codec.format and codec.name.startswith("pcm") else 0
    if codec.name.startswith("pcm_s24"):
        bits = 24
    return {
        "sound_codec": codec.name,
        "sample_rate": int(stream.rate or 0),
        "channels": sum(int(one.codec_context.channels or 0) for one in streams),
        "bits": bits,
        "samples": samples,
    }


def _picture_facts(path: Path, container: Any, video: Any) -> dict[str, Any]:
    average = Fraction(video.average_rate or video.guessed_rate or 0)
    if not average:
        raise MediaError(path, "its picture has no frame rate", COPY_AGAIN)
    fps = nearest_rate(average) or average
    frames = int(video.frames)
    remarks: list[str] = []
    flaws: list[Flaw] = []
    if (varies := _of_variable_rate(video, average)) is not None:
        fps, frames = varies
        remarks.append(f"its frames come at a variable rate: {float(average):.2f} of {float(fps):.2f} a second")
    if not frames:
        frames = sum(1 for packet in container.demux(video) if packet.size)
        remarks.append("the header does not count its frames; they were counted")
        flaws.append(Flaw.COUNTED)
    if nearest_rate(average) is None and varies is None:
        remarks.append(f"its frame rate of {float(average):.3f} is none in use")
    label = str(video.metadata.get("timecode") or container.metadata.get("timecode") or "")
    if not label:
        label = next((str(s.metadata["timecode"]) for s in container.streams if s.metadata.get("timecode")), "")
    label = label[:_LONGEST]
    drop = ";" in label
    if label:
        try:
            Timecode.parse(label, FrameRate(fps, drop))
        except TimecodeError as error:
            remarks.append(f"its timecode cannot be: {error}")
            label, drop = "", False
    tags = {name.lower(): str(value)[:_LONGEST] for name, value in container.metadata.items()}
    if video.codec_context is None:
        remarks.append(NO_PICTURE)
    capture = _capture_rate(tags.get("capture_fps", ""))
    told = {"duration": "frames", "fps": "container", "timecode": "timecode track"}
    values: dict[str, Any] = {
        "codec": video.codec_context.name if video.codec_context else UNKNOWN,
        "duration": frames / fps,
        "fps": fps,
        "frames": frames,
        "timecode": label,
        "timecode_rate": fps if label else None,
        "drop": drop,
        "scene": tags.get("scene", ""),
        "take": tags.get("take", ""),
        "tape": tags.get("reel_name", "") or str(video.metadata.get("reel_name", ""))[:_LONGEST],
        "camera": tags.get("camera", "") or tags.get("model", ""),
        "created": tags.get("creation_time", ""),
        "capture_fps": capture if capture != fps else None,
        "width": int(video.width) if video.codec_context else 0,
        "height": int(video.height) if video.codec_context else 0,
        "remarks": tuple(remarks),
        "flaws": tuple(flaws),
    }
    by_container = ("scene", "take", "tape", "camera", "created", "capture_fps")
    told |= {name: "container" for name in by_container if values[name]}
    return {**values, "origins": told}


def _of_variable_rate(video: Any, average: Fraction) -> tuple[Fraction, int] | None:
    """Return the rate whose frames a movie's time stamps fall on, and how many there are, shown or not.

    None where its average is a rate in use, or where no rate holds its stamps. Only a container's index is read.
    """
    if nearest_rate(average) is not None or not video.time_base:
        return None
    stamps = sorted(entry.timestamp for entry in video.index_entries)
    if len(stamps) < _LEAST_STAMPS:
        return None
    at = (np.array(stamps, np.float64) - stamps[0]) * float(video.time_base)
    for rate in sorted(RATES):
        numbers = at * float(rate)
        whole = np.rint(numbers)
        apart = np.unique(whole).size
        if (np.abs(numbers - whole) < _ON_A_FRAME).mean() > _MOST and apart > _MOST * at.size:
            return rate, int(whole[-1]) + 1
    return None


def _capture_rate(text: str) -> Fraction | None:
    """Read the rate that a container says its picture was recorded at; None when it says none."""
    try:
        value = read_number(text, least=Fraction(1, 1000), most=100_000)
    except NumberError:
        return None
    return nearest_rate(value) or value


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
        video = next((s for s in container.streams.video), None)
        origin = Fraction(0)
        if video is not None and video.start_time is not None:
            origin = video.start_time * video.time_base
        longest = container.duration / 1e6 if container.duration else None
        tracks = {stream.index: _Track(stream, origin, longest, on_hole) for stream in streams}
        for packet in container.demux(streams):
            tracks[packet.stream.index].take(packet)
            while min(track.ready for track in tracks.values()) >= _CHUNK:
                yield np.concatenate([track.give(_CHUNK) for track in tracks.values()], axis=1)
        for track in tracks.values():
            track.end()
        # A stream that ends sooner than another is silent from there on.
        while rest := max(track.ready for track in tracks.values()):
            yield np.concatenate([track.give(min(rest, _CHUNK)) for track in tracks.values()], axis=1)


# How decoders usually give samples, and what full scale is; anything else goes through a resampler, frame by frame.
_FULL = {
    "s16": (np.int16, 1 << 15), "s16p": (np.int16, 1 << 15), "s32": (np.int32, 1 << 31), "s32p": (np.int32, 1 << 31),
    "flt": (np.float32, 1), "fltp": (np.float32, 1),
}  # fmt: skip


def _samples(frame: Any, channels: int) -> NDArray[np.float32]:
    """Return what a decoded frame of sound holds, float32 (n, channels), full scale ±1, as a copy."""
    kind, full = _FULL[frame.format.name]
    if frame.format.is_planar:
        planes = [np.frombuffer(plane, kind, frame.samples) for plane in frame.planes]
        values = np.stack(planes, axis=1).astype(np.float32)
    else:
        values = np.frombuffer(frame.planes[0], kind, frame.samples * channels).reshape(-1, channels).astype(np.float32)
    if full > 1:
        values *= np.float32(1 / full)
    return values


class _Track:
    """One sound stream being decoded."""

    def __init__(
        self, stream: Any, origin: Fraction, longest_s: float | None, on_hole: Callable[[HeardHole], None]
    ) -> None:
        self._stream, self._origin, self._on_hole = stream, origin, on_hole
        self._rate, self._channels = int(stream.rate), int(stream.codec_context.channels)
        self._resampler = av.AudioResampler(format="flt", layout=stream.codec_context.layout, rate=stream.rate)
        self._ticks = float(stream.time_base * stream.rate)  # samples a tick of its stamps lasts
        self._near = _HOLE_S * self._rate + self._ticks
        self._longest = np.inf if longest_s is None else longest_s * self._rate
        self._silence = np.zeros((1, self._channels), np.float32)
        self._held: deque[NDArray[np.float32]] = deque()
        self._stamped: float | None = None  # of the next sample by those before, in samples; None before the first
        self._odd: tuple[float, NDArray[np.float32]] | None = None  # a frame stamped elsewhere, until the next tells
        self._usual = 0.0  # by how many samples its stamps are later than counted, usually
        self._creeps = False
        self._pace, self._due = 0.0, 0.0  # samples a frame by which they creep; not followed yet
        self._cut = 0  # samples still to be left out
        self._at = 0  # where the next sample lies, from frame 0 of the picture on
        self.ready = 0

    def take(self, packet: Any) -> None:
        """Decode a packet; the last one, without data, brings what the coder held back."""
        for frame in packet.decode():
            same = (frame.rate, frame.layout.nb_channels) == (self._rate, self._channels)
            if same and frame.format.name in _FULL:
                self._lay(frame.pts, _samples(frame, self._channels))
                continue
            for number, packed in enumerate(self._resampler.resample(frame)):
                block = packed.to_ndarray().reshape(-1, self._channels).astype(np.float32)
                self._lay(None if number else frame.pts, block)

    def end(self) -> None:
        """Lay what waited for a next frame."""
        if self._odd is not None:
            self._go_on(*self._odd)

    def _begin(self, pts: int) -> float:
        """Put silence where the stream begins late, leave out what it begins early; return what it is stamped with."""
        self._pass(round((pts * self._stream.time_base - self._origin) * self._rate))
        return pts * self._ticks

    def _lay(self, pts: int | None, block: NDArray[np.float32]) -> None:
        """Lay a frame where it is stamped; one alone that is stamped elsewhere goes on from the one before."""
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
                late -= was
            else:
                self._add(held)
        odd = abs(late) > self._near
        if odd:
            self._odd = late, block
        else:
            self._add(self._crept(late, block))

    def _crept(self, late: float, block: NDArray[np.float32]) -> NDArray[np.float32]:
        """Return a frame with a sample more or less where its stamps creep; a control loop of second order."""
        lasts_s = block.shape[0] / self._rate
        self._usual += min(1.0, lasts_s / _USUAL_S) * (late - self._usual)
        self._creeps |= abs(self._usual) > _CREPT_S * self._rate
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
        self._on_hole(HeardHole(self._at / self._rate, samples / self._rate))
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
        self._at += block.shape[0]

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
        return np.concatenate([*pieces, np.broadcast_to(self._silence, (count, self._channels))])


def _numbering_rate(video: Any) -> Fraction:
    average = Fraction(video.average_rate)
    varies = _of_variable_rate(video, average)
    return average if varies is None else varies[0]


def numbered(video: Any, decoded: Iterable[Any]) -> Iterator[tuple[int, Any]]:
    """Give each of a movie's decoded frames its number: where its own time stamp lies at the nominal rate.

    Two that fall on one number are one frame: the first is shown. A number that none falls on shows the one before.
    """
    base, scale, last = video.start_time or 0, float(video.time_base * _numbering_rate(video)), -1
    for frame in decoded:
        number = round((frame.pts - base) * scale)
        if number > last:
            last = number
            yield number, frame


def picture_stream(container: Any, path: Path) -> Any:
    """Return the picture stream of an opened movie, to be decoded by as many threads as there are.

    Raises
    ------
    MediaError
        If it has none that can be decoded.
    """
    video = next((s for s in container.streams.video if s.codec_context), None)
    if video is None:
        raise MediaError(path, "it has no picture that can be decoded here", "Its timecode and sound are used.")
    video.thread_type = "AUTO"
    return video


def numbered_frames(path: Path) -> Iterator[tuple[int, Any]]:
    """Decode all of a movie's frames in order, each with its number."""
    with opened(path) as container:
        video = picture_stream(container, path)
        yield from numbered(video, container.decode(video))


def _frames_at(path: Path, indices: list[int]) -> Iterator[tuple[int, Any]]:
    """Decode the frames that are shown at these numbers, counted from the first; those past the end are left out."""
    with opened(path) as container:
        video = picture_stream(container, path)
        rate = _numbering_rate(video)
        base = video.start_time or 0
        frames: Any = None
        shown: tuple[int, Any] | None = None
        following: tuple[int, Any] | None = None
        for index in sorted({i for i in indices if i >= 0}):
            if shown is None or index < shown[0] or index - shown[0] > 2 * rate:
                target = base + int(Fraction(index) / rate / video.time_base)
                container.seek(target, stream=video, backward=True)
                frames = numbered(video, container.decode(video))
                shown, following = None, next(frames, None)
            while following is not None and following[0] <= index:
                shown, following = following, next(frames, None)
            if shown is None or (following is None and index > shown[0] and index >= (video.frames or 0)):
                continue
            yield index, shown[1]


def _reduced(frames: Iterable[tuple[int, Any]], height: int, kind: str) -> Iterator[tuple[int, Any]]:
    """Scale frames down to a height, in a pixel format, all by one scaler: making one costs more than using it."""
    scaler = VideoReformatter()
    for index, frame in frames:
        tall = min(height, frame.height)
        yield index, scaler.reformat(frame, width=round(frame.width * tall / frame.height), height=tall, format=kind)


def frame_images(path: Path, indices: list[int], *, height: int) -> Iterator[tuple[int, Any]]:
    """Decode exact frames, counted from the first.

    Yields
    ------
    (index, image)
        The image is a PIL image scaled down to `height`, of the frame that is shown at that number; indices past the
        end are left out.
    """
    for index, frame in _reduced(_frames_at(path, indices), height, "rgb24"):
        yield index, frame.to_image()


def grey_frames(path: Path, first: int, count: int, *, height: int = 144) -> NDArray[np.uint8]:
    """Decode consecutive frames as grey pictures (frames, height, width); fewer at the picture's end."""
    frames = _frames_at(path, list(range(first, first + count)))
    pictures = [frame.to_ndarray() for _, frame in _reduced(frames, height, "gray8")]
    return np.stack(pictures) if pictures else np.zeros((0, height, 1), np.uint8)
