"""Movies: their facts and single frames. Opened read-only, always."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from vesk.core.errors import MediaError, NumberError, TimecodeError
from vesk.core.facts import Facts
from vesk.core.figures import read_number
from vesk.core.kinds import PICTURE, SOUND, Flaw, Unusable
from vesk.core.timecode import RATES, FrameRate, Timecode, nearest_rate
from vesk.media.quicktime import TimecodeTrack, timecode_track

EXACT_CODERS = ("pcm", "flac", "alac")
UNKNOWN = "unknown"
NO_PICTURE = "its picture is coded in a way that cannot be decoded here; its timecode and its sound are used"
_LONGEST = 4096  # of a tag
_MOV = "mov"  # what the library calls QuickTime and MP4
_LEAST_STAMPS, _ON_A_FRAME, _MOST = 12, 0.2, 0.97  # frames; of a frame; share of them
_CUT_S = 2  # by which a picture may end before its file does
_MOST_LOST = 4  # times as many frames as there are: beyond, stamps are nonsense
# A playlist named like a movie would have other files opened, or addresses asked: neither kind is read.
_FORMATS = "mov,mp4,m4a,3gp,3g2,mj2,mxf,matroska,webm,avi,mpegts,mpeg,aac,mp3,ogg,flac,aiff,caf,wav,w64,asf,amr"
_ONLY = {"protocol_whitelist": "file", "format_whitelist": _FORMATS}
_UNCOUNTED, _MORE_THAN_PADDING = {"mp3", "aac", "amr"}, 4 * 1152  # samples: what coders put before and after
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
        video = picture_of(container)
        sound = sound_streams(container)
        if video is None and not sound:
            raise MediaError(path, "it holds neither picture nor sound", "It is left out.")
        name = container.format.name.split(",")[0]
        values: dict[str, Any] = {"container": name}
        if sound:
            values.update(_sound_facts(path, sound))
        others = sum(1 for one in container.streams.audio if one.codec_context and one.rate) - len(sound)
        odd: tuple[str, ...] = ()
        if others:
            odd = (f"{others} of its sound tracks have another sample rate: they are left out",)
        if strange := sum(1 for one in container.streams.audio if not one.codec_context):
            odd += (f"{strange} of its sound tracks cannot be decoded here: they are left out",)
        if video is None:
            values.update(_label_of_sound(path, container, sound[0]))
            if not values["sound_codec"].startswith(EXACT_CODERS):
                odd += ("compressed sound without picture: where it starts and ends is as its container says",)
            length = Fraction(values["samples"], values["sample_rate"] or 1)
            return Facts(kind=SOUND, duration=length, **values, remarks=odd)
        flaws = values.pop("flaws", ())
        values.update(_picture_facts(path, container, video))
        values["flaws"] = tuple(dict.fromkeys((*values["flaws"], *flaws)))
        return Facts(kind=PICTURE, **values | {"remarks": values["remarks"] + odd})


def picture_of(container: Any) -> Any:
    """Return the stream of a movie's picture; None of one that holds no more than the cover of a record."""
    cover = av.stream.Disposition.attached_pic
    return next((s for s in container.streams.video if not s.disposition & cover), None)


def sound_streams(container: Any) -> list[Any]:
    """Return the sound streams that are read together as one recording's channels: those at the first one's rate."""
    streams = [s for s in container.streams.audio if s.codec_context and s.rate]
    return [s for s in streams if s.rate == streams[0].rate]


def _sound_facts(path: Path, streams: list[Any]) -> dict[str, Any]:
    samples, stream = 0, streams[0]
    if stream.duration is not None and stream.time_base:
        samples = round(stream.duration * stream.time_base * stream.rate)
    elif stream.container.duration:
        samples = round(stream.container.duration / av.time_base * stream.rate)
    if stream.container.format.name in _UNCOUNTED and stream.time_base:
        counted = _by_packets(path)
        samples = counted if abs(counted - samples) > _MORE_THAN_PADDING else samples
    there_s = _cut_short(path, stream)
    if there_s is not None:
        samples = min(samples, round(there_s * stream.rate))
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
        "flaws": () if there_s is None else (Flaw.CUT_SHORT,),
    }


def _by_packets(path: Path) -> int:
    """Return how many samples the packets of a file of sound hold: one that tells no length is guessed by its size."""
    with opened(path) as container:
        stream = container.streams.audio[0]
        ticks = sum(packet.duration or 0 for packet in container.demux(stream))
        return round(float(ticks * stream.time_base * stream.rate))


def _cut_short(path: Path, stream: Any) -> Fraction | None:
    """Return how much of a stream lies in its file, seconds, where the index tells of more; None where it is whole.

    Raises
    ------
    MediaError
        If nothing of it does.
    """
    size = path.stat().st_size
    shown = [one for one in stream.index_entries if not one.is_discard]
    if _MOV not in stream.container.format.name or not shown or shown[-1].pos + shown[-1].size <= size:
        return None
    ends = min(one.timestamp for one in shown if one.pos + one.size > size)
    if ends <= shown[0].timestamp:
        raise MediaError(path, "it was cut short before its first frame", COPY_AGAIN)
    return Fraction(ends - shown[0].timestamp) * Fraction(stream.time_base)


def _picture_facts(path: Path, container: Any, video: Any) -> dict[str, Any]:
    average = Fraction(video.average_rate or video.guessed_rate or 0)
    if not average:
        raise MediaError(path, "its picture has no frame rate", COPY_AGAIN)
    fps, frames, remarks, flaws = _counts(container, video, average)
    there_s = _cut_short(path, video)
    if there_s is not None:
        whole, frames = frames, min(frames, round(there_s * fps))
        remarks.append(f"it ends before its index says: the copy was cut short, {frames} of {whole} frames are there")
        flaws.append(Flaw.CUT_SHORT)
    label, counted_at = "", fps
    try:
        label, counted_at = first_label(path, container)
    except TimecodeError as error:
        remarks.append(f"its timecode cannot be: {error}")
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
        "timecode_rate": counted_at if label else None,
        "drop": ";" in label,
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


def first_label(path: Path, container: Any) -> tuple[str, Fraction]:
    """Return the label of the first frame that an opened movie shows, empty without one, and the rate it counts at.

    An edit list may leave out the beginning: the timecode track's own says what of it stands beside the first frame.

    Raises
    ------
    TimecodeError
        If it has one that cannot be.
    """
    video = picture_of(container)
    fps = picture_rate(video)
    label, track = _told_label(path, container, video)
    # It counts at its picture's rate, or at a whole part of that.
    counts = nearest_rate(track.rate) if track is not None else None
    if counts is None or counts > fps or (fps / counts).denominator > 1:
        counts = fps
    if label:
        label = _as_it_counts(label, counts)
        first = Timecode.parse(label, FrameRate(counts, ";" in label))
    elif track is not None and track.first is not None:  # the library tells no label that says it drops at such a rate
        first = Timecode(track.first % FrameRate(counts).frames_per_day, FrameRate(counts))
    else:
        return "", fps
    begins = (video.start_time or 0) * (video.time_base or Fraction(0))
    return str(first + (track.frames_at(begins) if track is not None else 0)), counts


def _counts(container: Any, video: Any, average: Fraction) -> tuple[Fraction, int, list[str], list[Flaw]]:
    """Return a picture's rate, how many frames it has, shown or not, and what is odd about either."""
    fps = nearest_rate(average) or average
    frames = shown_frames(video)
    remarks: list[str] = []
    flaws: list[Flaw] = []
    if hidden := int(video.frames) - frames:
        remarks.append(f"its edit list leaves out {hidden} of its {int(video.frames)} frames")
    if (stamped := _rate_of_stamps(video, average)) is not None:
        shown, (fps, frames) = frames, stamped
        if 0 < shown < frames and nearest_rate(average) is not None:
            remarks.append(f"{frames - shown} of its {frames} frames are missing by its own time stamps")
        elif shown < frames:
            remarks.append(f"its frames come at a variable rate: {float(average):.2f} of {float(fps):.2f} a second")
    if not frames:
        stamps = [packet.pts for packet in container.demux(video) if packet.size and not packet.is_discard]
        frames = _counted(stamps, video.time_base, fps)
        remarks.append("the header does not count its frames; they were counted")
        flaws.append(Flaw.COUNTED)
        lacks = Fraction(container.duration or 0, av.time_base) - frames / fps
        if "matroska" in container.format.name and lacks > _CUT_S:
            remarks.append(f"it ends {float(lacks):.1f} s before its header says: the copy was cut short")
            flaws.append(Flaw.CUT_SHORT)
    if nearest_rate(average) is None and stamped is None:
        remarks.append(f"its frame rate of {float(average):.3f} is none in use")
    return fps, frames, remarks, flaws


def _told_label(path: Path, container: Any, stream: Any) -> tuple[str, TimecodeTrack | None]:
    """Return the first label that a container tells, empty without one, and the track that it is from, if it has that.

    What a stream says of itself stands above what others do.
    """
    every = [stream.metadata, container.metadata, *(one.metadata for one in container.streams)]
    label = next((str(one["timecode"])[:_LONGEST] for one in every if one.get("timecode")), "")
    return label, timecode_track(path) if _MOV in container.format.name else None


def _as_it_counts(label: str, rate: Fraction) -> str:
    """Return a label that is written as drop-frame at a rate which drops none as what it counts."""
    try:
        FrameRate(rate, drop=True)
    except TimecodeError:
        return label.replace(";", ":")
    return label


def _label_of_sound(path: Path, container: Any, stream: Any) -> dict[str, Any]:
    """Return what a movie's file without a picture says of its timecode: it counts at the day's rate without one."""
    label, track = _told_label(path, container, stream)
    rate = nearest_rate(track.rate) if track is not None else None
    if rate is not None and track is not None:
        try:
            begins = (stream.start_time or 0) * (stream.time_base or Fraction(0))
            label = _as_it_counts(label, rate)
            label = str(Timecode.parse(label, FrameRate(rate, ";" in label)) + track.frames_at(begins))
        except TimecodeError:
            label = ""
    if not label:
        return {}
    told = {"timecode": "timecode track"}
    return {"timecode": label, "timecode_rate": rate, "drop": ";" in label, "origins": told}


def shown_frames(video: Any) -> int:
    """Return how many frames a picture shows by its header, 0 where that does not count them.

    An edit list leaves out what was trimmed away, and what frames at the beginning need to be decoded.
    """
    frames = int(video.frames)
    if _MOV not in video.container.format.name:
        return frames
    return min(frames, sum(not entry.is_discard for entry in video.index_entries) or frames)


def _rate_of_stamps(video: Any, average: Fraction) -> tuple[Fraction, int] | None:
    """Return the rate whose frames a movie's time stamps fall on, and how many there are, shown or not.

    None where its average is a rate in use, or where no rate holds its stamps. An average that is near one in use is no
    proof that none was lost: ten of half an hour's do not show in it. Where none holds them but one is near, it runs a
    little off that, and each frame still belongs where its stamp lies. Only a container's index is read, and
    only one of every frame: some list where decoding can begin.
    """
    near = nearest_rate(average)
    if near == average or not video.time_base:
        return None
    stamps = sorted(entry.timestamp for entry in video.index_entries if not entry.is_discard)
    if len(stamps) < max(_LEAST_STAMPS, _MOST * (shown_frames(video) or np.inf)):
        return None
    at = (np.array(stamps, np.float64) - stamps[0]) * float(video.time_base)
    for rate in sorted(RATES):
        numbers = at * float(rate)
        whole = np.rint(numbers)
        apart = np.unique(whole).size
        if (np.abs(numbers - whole) < _ON_A_FRAME).mean() > _MOST and apart > _MOST * at.size:
            return rate, int(whole[-1]) + 1
    return None if near is None else (near, round(at[-1] * float(near)) + 1)


def _counted(stamps: list[int | None], time_base: Fraction, fps: Fraction) -> int:
    """Return how many frames a picture has by its stamps, those that were lost on the way among them."""
    known = np.array([at for at in stamps if at is not None], np.float64)
    if known.size < max(_LEAST_STAMPS, len(stamps)):
        return len(stamps)
    numbers = (known - known.min()) * float(time_base * fps)
    whole = int(np.rint(numbers.max())) + 1
    falls = (np.abs(numbers - np.rint(numbers)) < _ON_A_FRAME).mean() > _MOST
    most = _MOST_LOST * len(stamps) if falls else 1.001 * len(stamps) + 1  # or it runs a little off the rate
    return whole if len(stamps) <= whole <= most else len(stamps)


def _capture_rate(text: str) -> Fraction | None:
    """Read the rate that a container says its picture was recorded at; None when it says none."""
    try:
        value = read_number(text, least=Fraction(1, 1000), most=100_000)
    except NumberError:
        return None
    return nearest_rate(value) or value


def numbering(video: Any) -> tuple[int, float]:
    """Return how a picture's frames are numbered: the stamp of frame 0, and how many frames a tick lasts."""
    return video.start_time or 0, float(video.time_base * picture_rate(video))


def picture_rate(video: Any) -> Fraction:
    """Return the rate at which a picture's frames are numbered: one in use by its stamps, else by its average."""
    average = Fraction(video.average_rate or video.guessed_rate or 0)
    stamped = _rate_of_stamps(video, average)
    return stamped[0] if stamped is not None else nearest_rate(average) or average


def decoded(container: Any, stream: Any) -> Iterator[Any]:
    """Decode a stream frame by frame; a packet that is damaged costs its own frames, not those of the others.

    Raises
    ------
    FFmpegError
        If none of it can be decoded.
    """
    none, damage = True, None
    for packet in container.demux(stream):
        try:
            for frame in packet.decode():
                none = False
                yield frame
        except av.error.FFmpegError as error:
            damage = error
    if none and damage is not None:
        raise damage


def numbered(video: Any, decoded: Iterable[Any]) -> Iterator[tuple[int, Any]]:
    """Give each of a movie's decoded frames its number: where its own time stamp lies at the nominal rate.

    Two that fall on one number are one frame: the first is shown. A number that none falls on shows the one before.
    """
    (base, scale), last = numbering(video), -1
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
    video = picture_of(container)
    if video is None or not video.codec_context:
        raise MediaError(path, "it has no picture that can be decoded here", "Its timecode and sound are used.")
    video.thread_type = "AUTO"
    return video
