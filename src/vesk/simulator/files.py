"""Write the recordings: MOV with a timecode track and scratch, broadcast WAV with bext and iXML."""

from __future__ import annotations

from fractions import Fraction
from itertools import pairwise
from math import floor

import av
import numpy as np
from numpy.typing import NDArray

from vesk.media import ixml
from vesk.media.wave import Bext, write_wave
from vesk.simulator.devices import Take
from vesk.simulator.paths import with_jumps
from vesk.simulator.pictures import SIZE, frames
from vesk.simulator.scenario import Scenario
from vesk.simulator.world import Event, heard


def _sound(take: Take, events: list[Event]) -> NDArray[np.float32]:
    times = take.times()
    channels = [heard(events, take.device, times, channel, take.seed) for channel in range(len(take.device.channels))]
    if take.jumps:
        places = [(round(at * take.device.sample_rate), samples) for at, samples in take.jumps]
        channels = [with_jumps(channel, places) for channel in channels]
    return np.stack(channels, axis=1)


def write_recording(take: Take, scenario: Scenario, events: list[Event]) -> None:
    """Make one recording's file."""
    take.path.parent.mkdir(parents=True, exist_ok=True)
    sound = _sound(take, events)
    if take.label is None:
        _write_sound(take, scenario, sound)
    else:
        _write_movie(take, events, sound)


def _write_sound(take: Take, scenario: Scenario, sound: NDArray[np.float32]) -> None:
    info = ixml.IXml(
        scene=take.shot.slate, take=str(take.shot.take), tape=take.device.roll, note=take.shot.note,
        project=scenario.production, track_names=take.device.channels, timecode_rate=scenario.rate.fps,
        drop=scenario.rate.drop,
    )  # fmt: skip
    bext = Bext(
        description=f"{take.shot.slate} / {take.shot.take}", originator=take.device.name, date=scenario.date,
        time="00:00:00", time_reference=take.time_reference,
    )  # fmt: skip
    write_wave(
        take.path, iter([sound]), sample_rate=take.device.sample_rate, channels=sound.shape[1], bext=bext,
        ixml=ixml.build(info, sample_rate=take.device.sample_rate, time_reference=take.time_reference),
    )  # fmt: skip


def closing_frame(take: Take, events: list[Event]) -> int | None:
    """Return the first frame that shows the sticks closed, or None when no clap falls into the take."""
    for event in events:
        if event.what == "clap":
            frame = take.own_time(event.at) * float(take.rate.fps)
            if 0 <= frame < take.frames:
                return floor(frame) + 1  # closed within this frame's time: seen closed from the next on
    return None


def _levels(sound: NDArray[np.float32], count: int) -> NDArray[np.float64]:
    edges = np.linspace(0, sound.shape[0], count + 1).astype(int)
    rms = np.array([np.sqrt(np.mean(sound[a:b, 0] ** 2)) if b > a else 0.0 for a, b in pairwise(edges)])
    return np.clip(rms / max(float(np.percentile(rms, 98)), 1e-6), 0, 1)


def _write_movie(take: Take, events: list[Event], sound: NDArray[np.float32]) -> None:
    device, rate = take.device, take.rate
    options = {"movie_timescale": "240000", "fflags": "+bitexact", "movflags": "use_metadata_tags"}
    with av.open(str(take.path), "w", format="mov", options=options) as container:
        container.metadata["scene"], container.metadata["take"] = take.shot.slate, str(take.shot.take)
        video = container.add_stream("libx264", rate=rate.fps)
        video.width, video.height = SIZE
        video.pix_fmt = "yuv420p"
        video.codec_context.thread_count = 1
        video.codec_context.gop_size = device.gop
        video.options = {"preset": "ultrafast", "crf": "30", "bf": "0", "x264-params": "threads=1"}
        video.metadata["timecode"] = str(take.label)
        video.metadata["reel_name"] = device.roll
        audio = container.add_stream(
            "pcm_s16le", rate=device.sample_rate, layout="mono" if sound.shape[1] == 1 else "stereo"
        )
        pictures = frames(
            count=take.frames, tag=device.tag, slate=take.shot.slate, take=take.shot.take,
            clap_frame=closing_frame(take, events), levels=_levels(sound, take.frames), seed=take.seed,
        )  # fmt: skip
        written = 0
        per_frame = Fraction(device.sample_rate) / rate.fps
        for k, image in enumerate(pictures):
            frame = av.VideoFrame.from_image(image)
            frame.pts, frame.time_base = k, 1 / rate.fps
            container.mux(video.encode(frame))
            until = min(sound.shape[0], floor((k + 1) * per_frame)) if k + 1 < take.frames else sound.shape[0]
            written = _mux_sound(container, audio, sound, written, until)
        container.mux(video.encode(None))
        container.mux(audio.encode(None))


def _mux_sound(
    container: av.container.OutputContainer,
    audio: av.AudioStream,
    sound: NDArray[np.float32],
    start: int,
    stop: int,
) -> int:
    if stop <= start:
        return start
    block = np.clip(np.rint(sound[start:stop] * 32767), -32768, 32767).astype(np.int16)
    frame = av.AudioFrame.from_ndarray(block.reshape(1, -1), format="s16", layout=audio.codec_context.layout)
    frame.sample_rate, frame.pts, frame.time_base = audio.rate, start, Fraction(1, audio.rate)
    container.mux(audio.encode(frame))
    return stop
