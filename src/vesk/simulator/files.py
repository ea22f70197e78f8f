"""Write the recordings: MOV with a timecode track and scratch, broadcast WAV with bext and iXML."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from itertools import pairwise
from math import floor
from pathlib import Path

import av
import numpy as np
from numpy.typing import NDArray

from vesk.media import ixml
from vesk.media.wave import Bext, write_wave
from vesk.simulator import ltc
from vesk.simulator.devices import CAMERA, Take
from vesk.simulator.paths import with_jumps
from vesk.simulator.pictures import SIZE, frames
from vesk.simulator.scenario import Scenario
from vesk.simulator.trimming import trim
from vesk.simulator.world import Event, heard


def recorded(take: Take, events: list[Event]) -> NDArray[np.float32]:
    """Return what a device records of what sounds: float32 (samples, channels), full scale 1."""
    if take.of is not None:
        # One device recorded all of it: cut from the whole, noise and all.
        first = take.skipped
        if take.device.kind == CAMERA:
            first = round(Fraction(take.skipped) / take.rate.fps * take.device.sample_rate)
        return recorded(take.of, events)[first : first + take.samples]
    times = take.times()
    device = take.device
    if not device.channels:
        return np.zeros((take.samples, 0), np.float32)
    channels = [
        _timecode_sound(take)
        if channel == device.ltc
        # Its first microphone is the first channel that hears.
        else np.zeros(take.samples, np.float32)
        if device.channels[channel] == "empty"
        else heard(events, device, times, channel - (0 <= device.ltc < channel), take.seed, take.way_s(times))
        for channel in range(len(device.channels))
    ]
    if device.ltc >= 0 and device.leak_db > -120:
        leak = channels[device.ltc] * np.float32(10 ** (device.leak_db / 20))
        channels = [one if n == device.ltc else one + leak for n, one in enumerate(channels)]
    if take.jumps:
        places = [(round(at * take.device.sample_rate), samples) for at, samples in take.jumps]
        channels = [with_jumps(channel, places) for channel in channels]
    return np.stack(channels, axis=1)


def _timecode_sound(take: Take) -> NDArray[np.float32]:
    """Return what a timecode box sends, as this device's sample clock records it."""
    per_second = take.device.sample_rate * take.clock / (1 + take.device.tc_ppm * 1e-6)
    first = take.code * float(take.rate.fps)
    sound = ltc.signal(first, take.samples, take.rate, per_second, user_bits="27031800")
    at, frames = take.ltc_jump
    if frames:
        anew = ltc.signal(first + frames, take.samples, take.rate, per_second, user_bits="27031800")
        cut = round(at * take.device.sample_rate)
        sound = np.concatenate([sound[:cut], anew[cut:]])
    return sound * np.float32(10 ** (take.device.ltc_db / 20))


def write_recording(
    take: Take, scenario: Scenario, events: list[Event], records: Callable[..., NDArray[np.float32]] = recorded
) -> None:
    """Make one recording's file, with what `records` says of its sound, as `recorded` does."""
    take.path.parent.mkdir(parents=True, exist_ok=True)
    sound = records(take, events)
    if take.device.kind != CAMERA:
        _write_sound(take, scenario, sound)
    elif take.device.mono:
        _write_movie(take, events, sound[:, :0])
        for number in range(sound.shape[1]):
            track = f"{number:02}" if sound.shape[1] > 1 else ""
            path = take.path.with_name(f"{take.path.stem}{track}.wav")
            write_wave(
                path, iter([sound[:, number : number + 1]]), sample_rate=take.device.sample_rate, channels=1,
                bits=take.device.bits,
            )  # fmt: skip
    else:
        _write_movie(take, events, sound)


def _write_sound(take: Take, scenario: Scenario, sound: NDArray[np.float32]) -> None:
    device = take.device
    if device.mixed:
        mix = np.repeat(sound.mean(axis=1, keepdims=True, dtype=np.float32), 2, axis=1).astype(np.float32)
        _write_wave(take.path, take, scenario, mix, ("mix", "mix"))
        _write_wave(take.path.with_stem(f"{take.path.stem}_D"), take, scenario, mix * np.float32(0.25), ("mix", "mix"))
        for number, name in enumerate(device.channels):
            path = take.path.with_stem(f"{take.path.stem}_Tr{number + 1}")
            _write_wave(path, take, scenario, sound[:, number : number + 1], (name,))
    if not (device.mixed or device.mono) or device.poly:
        _write_wave(take.path, take, scenario, sound, device.channels)
    if device.mono:
        for number, name in enumerate(device.channels):
            path = take.path.with_stem(f"{take.path.stem}_{number + 1}")
            track = (str(number + 1), str(len(device.channels)))
            _write_wave(path, take, scenario, sound[:, number : number + 1], (name,), track=track)


def _write_wave(
    path: Path,
    take: Take,
    scenario: Scenario,
    sound: NDArray[np.float32],
    names: tuple[str, ...],
    *,
    track: tuple[str, str] = ("", ""),
) -> None:
    """Write one WAV; `track` is which of how many files of a set it is."""
    device = take.device
    if device.header == "none":
        blocks = iter([sound])
        write_wave(path, blocks, sample_rate=take.device.sample_rate, channels=sound.shape[1], bits=device.bits)
        return
    info = ixml.IXml(
        scene=take.shot.slate, take=str(take.shot.take), tape=take.device.roll, note=take.shot.note,
        project=scenario.production, track_names=names, timecode_rate=scenario.rate.fps,
        drop=scenario.rate.drop, family=f"{device.tag}-{take.path.stem}-{take.seed}" if track[0] else "",
        family_index=track[0], family_size=track[1],
    )  # fmt: skip
    bext = Bext(
        description=f"{take.shot.slate} / {take.shot.take}",
        originator=take.device.name,
        date=scenario.date,
        time="00:00:00",
        time_reference=take.time_reference,
    )
    write_wave(
        path, iter([sound]), sample_rate=take.device.sample_rate, channels=sound.shape[1], bext=bext,
        bits=take.device.bits,
        ixml=ixml.build(info, sample_rate=take.device.sample_rate, time_reference=take.time_reference),
    )  # fmt: skip


def closing_frame(take: Take, events: list[Event]) -> int | None:
    """Return the first frame that shows the sticks closed, or None when no clap falls into the take."""
    for event in events:
        if event.what == "clap":
            frame = take.own_time(event.at) * (take.capture_fps or float(take.rate.fps))
            if 0 <= frame < take.frames:
                return floor(frame) + 1  # closed within this frame's time: seen closed from the next on
    return None


def _levels(sound: NDArray[np.float32], count: int) -> NDArray[np.float64]:
    if not sound.shape[1]:
        return np.zeros(count)
    edges = np.linspace(0, sound.shape[0], count + 1).astype(int)
    rms = np.array([np.sqrt(np.mean(sound[a:b, -1] ** 2)) if b > a else 0.0 for a, b in pairwise(edges)])
    return np.clip(rms / max(float(np.percentile(rms, 98)), 1e-6), 0, 1)


def _write_movie(take: Take, events: list[Event], sound: NDArray[np.float32]) -> None:
    device, rate = take.device, take.rate
    options = {"movie_timescale": "240000", "fflags": "+bitexact", "movflags": "use_metadata_tags"}
    with av.open(str(take.path), "w", format="mov", options=options) as container:
        if not device.anonymous:
            container.metadata["scene"], container.metadata["take"] = take.shot.slate, str(take.shot.take)
            container.metadata["camera"] = device.name
        if take.capture_fps and take.named:
            container.metadata["capture_fps"] = str(take.capture_fps)
        video = container.add_stream("libx264", rate=rate.fps)
        video.width, video.height = SIZE
        video.pix_fmt = "yuv420p"
        video.codec_context.thread_count = 1
        video.codec_context.gop_size = device.gop
        video.options = {"preset": "ultrafast", "crf": "30", "bf": "0", "x264-params": "threads=1"}
        if take.label is not None:
            video.metadata["timecode"] = str(take.label)
        if not device.anonymous:
            video.metadata["reel_name"] = device.roll
        audio = None
        if sound.shape[1]:
            layout = "mono" if sound.shape[1] == 1 else "stereo"
            audio = container.add_stream("aac" if take.loses else "pcm_s16le", rate=device.sample_rate, layout=layout)
        pictures = frames(
            count=take.frames, tag=device.tag, slate=take.shot.slate, take=take.shot.take,
            clap_frame=closing_frame(take, events), levels=_levels(sound, take.frames), seed=take.seed,
        )  # fmt: skip
        written = 0
        per_frame = Fraction(device.sample_rate) / rate.fps
        for k, picture in enumerate(pictures):
            frame = av.VideoFrame.from_numpy_buffer(picture, format="rgba")
            frame.pts, frame.time_base = k, 1 / rate.fps
            container.mux(video.encode(frame))
            until = min(sound.shape[0], floor((k + 1) * per_frame)) if k + 1 < take.frames else sound.shape[0]
            if audio is not None:
                written = _mux_sound(container, audio, sound, written, until, take.loses)
        container.mux(video.encode(None))
        if audio is not None:
            _mux_packets(container, audio.encode(None), take.loses)
    if any(take.trims):
        trim(take.path, *take.trims)


def _mux_sound(
    container: av.container.OutputContainer,
    audio: av.AudioStream,
    sound: NDArray[np.float32],
    start: int,
    stop: int,
    loses: Sequence[tuple[float, float]],
) -> int:
    if stop <= start:
        return start
    if loses:
        block = np.ascontiguousarray(np.clip(sound[start:stop], -1, 1).T, np.float32)
        frame = av.AudioFrame.from_ndarray(block, format="fltp", layout=audio.codec_context.layout)
    else:
        whole = np.clip(np.rint(sound[start:stop] * 32767), -32768, 32767).astype(np.int16)
        frame = av.AudioFrame.from_ndarray(whole.reshape(1, -1), format="s16", layout=audio.codec_context.layout)
    frame.sample_rate, frame.pts, frame.time_base = audio.rate, start, Fraction(1, audio.rate)
    _mux_packets(container, audio.encode(frame), loses)
    return stop


def _mux_packets(
    container: av.container.OutputContainer, packets: Sequence[av.Packet], loses: Sequence[tuple[float, float]]
) -> None:
    for packet in packets:
        at = float((packet.pts or 0) * packet.time_base)
        if not any(begin <= at < begin + seconds for begin, seconds in loses):
            container.mux(packet)
