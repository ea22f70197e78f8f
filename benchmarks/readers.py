"""What programs that are not ours read of everything that is handed over: timecode, channels, length, packet by packet.

Needs Debian's ffmpeg (ffprobe) and mediainfo; says so where they are not installed. Every kind of file at every frame
rate is made from small originals, and read back by both.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import soundfile

from vesk.core.conform.render import picture_samples
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.timemap import TimeMap
from vesk.dailies import delivering
from vesk.dailies.located import locate
from vesk.media.movie_copy import LaidTrack, carried_by, copy_movie
from vesk.media.wave_copy import copy_wave

RATES = ("23.976", "24", "25", "29.97 DF", "29.97 NDF", "30", "50", "59.94 DF", "60")
MADE = ((".mov", "libx264"), (".mp4", "libx264"), (".mxf", "mpeg2video"), (".mkv", "libx264"))
FRAMES, SOUND_HZ = 75, 48_000


@dataclass(frozen=True)
class Expected:
    """What a file must be read as; empty and zero where it is not asked."""

    timecode: str = ""
    frames: int = 0
    fps: Fraction = Fraction(0)
    channels: tuple[int, ...] = ()
    reference: int | None = None
    samples: int = 0


def _asked(*words: str) -> Any:
    return json.loads(subprocess.run(words, check=True, capture_output=True).stdout)


def _packets(path: Path) -> list[str]:
    """Return the hash of every packet of the picture, as ffprobe reads it."""
    told = _asked("ffprobe", "-v", "error", "-select_streams", "v:0", "-show_entries", "packet=data_hash",
                  "-show_data_hash", "MD5", "-of", "json", str(path))  # fmt: skip
    return [one["data_hash"] for one in told["packets"]]


def _by_ffprobe(path: Path, wanted: Expected) -> Iterator[str]:
    told = _asked("ffprobe", "-v", "error", "-show_streams", "-show_format", "-of", "json", str(path))
    streams = told["streams"]
    tags = [one.get("tags", {}) for one in (told["format"], *streams)]
    labels = {one["timecode"] for one in tags if "timecode" in one}
    if wanted.timecode and labels != {wanted.timecode}:
        yield f"timecode {sorted(labels)}, not {wanted.timecode}"
    sounds = tuple(one["channels"] for one in streams if one["codec_type"] == "audio")
    if wanted.channels and sounds != wanted.channels:
        yield f"channels {sounds}, not {wanted.channels}"
    if wanted.fps:
        (video,) = [one for one in streams if one["codec_type"] == "video"]
        if Fraction(video["avg_frame_rate"]).limit_denominator(1001) != wanted.fps:
            yield f"frame rate {video['avg_frame_rate']}, not {wanted.fps}"
    reference = next((int(one["time_reference"]) for one in tags if "time_reference" in one), None)
    if wanted.reference is not None and reference != wanted.reference:
        yield f"time reference {reference}, not {wanted.reference}"
    if wanted.samples and round(Fraction(streams[0]["duration"]) * SOUND_HZ) != wanted.samples:
        yield f"{streams[0]['duration']} s, not {wanted.samples} samples"


def _by_mediainfo(path: Path, wanted: Expected) -> Iterator[str]:
    tracks = _asked("mediainfo", "--Output=JSON", str(path))["media"]["track"]
    kinds: dict[str, list[dict[str, str]]] = {}
    for one in tracks:
        kinds.setdefault(one["@type"], []).append(one)
    # What a coder wrote into its own groups of pictures stays as it was.
    labels = {one["TimeCode_FirstFrame"] for one in kinds.get("Other", ()) if "TimeCode_FirstFrame" in one}
    if wanted.timecode and labels != {wanted.timecode}:
        yield f"timecode {sorted(labels)}, not {wanted.timecode}"
    if wanted.frames and int(kinds["Video"][0]["FrameCount"]) != wanted.frames:
        yield f"{kinds['Video'][0]['FrameCount']} frames, not {wanted.frames}"
    sounds = tuple(int(one["Channels"]) for one in kinds.get("Audio", ()))
    if wanted.channels and sounds != wanted.channels:
        yield f"channels {sounds}, not {wanted.channels}"
    if wanted.samples and int(kinds["Audio"][0]["SamplingCount"]) != wanted.samples:
        yield f"{kinds['Audio'][0]['SamplingCount']} samples, not {wanted.samples}"


def _original(path: Path, codec: str, clock: FrameRate, label: str) -> Path:
    """Make a small camera file with a channel of its own sound and one of noise that stands for timecode."""
    rng = np.random.default_rng(5)
    with av.open(str(path), "w") as out:
        video = out.add_stream(codec, rate=clock.fps)
        video.width, video.height, video.pix_fmt = 128, 72, "yuv420p"
        if codec == "libx264":
            video.options = {"bf": "2", "g": "12"}
        video.metadata["timecode"] = label
        sound = out.add_stream("pcm_s16le" if path.suffix != ".mp4" else "aac", rate=SOUND_HZ)
        sound.codec_context.layout = "stereo"
        for n in range(FRAMES):
            image = rng.integers(0, 255, (72, 128, 3), dtype=np.uint8)
            frame = av.VideoFrame.from_ndarray(image, format="rgb24").reformat(format="yuv420p")
            frame.pts, frame.time_base = n, 1 / clock.fps
            out.mux(video.encode(frame))
        out.mux(video.encode(None))
        count = round(FRAMES / clock.fps * SOUND_HZ)
        wave = (rng.standard_normal((count, 2)) * 2000).astype(np.int16).reshape(1, -1)
        frame = av.AudioFrame.from_ndarray(wave, format="s16", layout="stereo")
        frame.sample_rate, frame.pts, frame.time_base = SOUND_HZ, 0, Fraction(1, SOUND_HZ)
        fifo = av.AudioFifo()
        context = sound.codec_context
        for one in av.AudioResampler(format=context.format, layout="stereo", rate=SOUND_HZ).resample(frame):
            fifo.write(one)
        while (part := fifo.read(context.frame_size or 1024, partial=True)) is not None:
            out.mux(sound.encode(part))
        out.mux(sound.encode(None))
    return path


def main(scale: float) -> int:
    """Make, read and print; returns how many files are read otherwise than they must be."""
    missing = [one for one in ("ffprobe", "mediainfo") if shutil.which(one) is None]
    if missing:
        print(f"not run: {' and '.join(missing)} not installed (Debian's packages ffmpeg and mediainfo)")
        return 0
    good, wrong = Counter[str](), 0
    with tempfile.TemporaryDirectory() as place:
        home = Path(place)
        soundfile.write(home / "S1.wav", np.random.default_rng(2).standard_normal((SOUND_HZ * 20, 3)) * 0.1, SOUND_HZ,
                        subtype="PCM_24")  # fmt: skip
        for name in RATES[: max(2, round(len(RATES) * scale))]:
            clock = FrameRate.parse(name)
            label = str(Timecode(clock.frames_per_day - 50, clock))  # over midnight while it runs
            for kind, path, wanted, original in _all(home, clock, label):
                found = [*_by_ffprobe(path, wanted), *_by_mediainfo(path, wanted)]
                if original is not None and _packets(path) != _packets(original):
                    found.append("its picture packets are others")
                good[kind] += not found
                wrong += bool(found)
                for one in found:
                    print(f"{name}, {kind}, {path.name}: {one}")
    for kind, count in good.items():
        print(f"{kind}: {count} files read alike by both and as made")
    print(f"{wrong} read otherwise")
    return wrong


def _all(home: Path, clock: FrameRate, label: str) -> Iterator[tuple[str, Path, Expected, Path | None]]:
    """Make every kind of file at a rate: what it is, where, what it must be read as, whose packets it holds."""
    for ending, codec in MADE:
        source = _original(home / f"A001{ending}", codec, clock, label)
        picture, sound = (locate(one, home / "cache" / one.name) for one in (source, home / "S1.wav"))
        laid = delivering.deliver(
            picture, [delivering.Laid(sound, TimeMap(Fraction(-5)))], home / "laid.wav", scene="1", take="1",
            project="x", shot_on=date(2027, 3, 18),
        )  # fmt: skip
        samples = picture_samples(FRAMES, clock.fps, SOUND_HZ)
        reference = laid.time_reference
        yield "sound", laid.path, Expected(channels=(3,), reference=reference, samples=samples), None
        track = LaidTrack(laid.path, (0, 1, 2), "mix")
        made = home / f"made{carried_by(source, picture.facts.codec).ending}"
        # Matroska tells no timecode of a picture that was made here, and MXF has a track for each of its sounds.
        said = picture.facts.timecode
        copy_movie(source, made, tracks=[track], timecode=said or label)
        yield f"movie of {ending[1:]}", made, Expected(label, FRAMES, clock.fps, (3, 2)), source
        if ending in {".mov", ".mxf"}:
            other = str(Timecode(clock.frames_per_day // 2, clock))
            copy_movie(source, home / f"copy{ending}", timecode=other, silent={1})
            yield (
                f"copy of {ending[1:]} with timecode",
                home / f"copy{ending}",
                Expected(other, FRAMES, clock.fps, (2,)),
                source,
            )
        if ending == ".mov":
            copy_movie(source, home / "slow.mov", tracks=[track], timecode="01:00:00:00", stretch=clock.fps / 25)
            sounds = (3,) if clock.fps != 25 else (3, 2)
            yield (
                "movie retimed to 25",
                home / "slow.mov",
                Expected("01:00:00:00", FRAMES, Fraction(25), sounds),
                source,
            )
    copy_wave(home / "S1.wav", home / "S1 copy.wav", time_reference=1_234_567_890_123, silent={2})
    wanted = Expected(channels=(3,), reference=1_234_567_890_123, samples=SOUND_HZ * 20)
    yield "copy of WAV with time reference", home / "S1 copy.wav", wanted, None
