"""Intake measured: facts a file, one pass against a bare decode, timecode as sound, many files, memory.

CPU seconds of this process, not wall time; ratios are within one run.
"""

from __future__ import annotations

import re
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from fractions import Fraction
from multiprocessing import get_context
from pathlib import Path

import av
import numpy as np
import soundfile

from vesk.core.day.known import know_day
from vesk.core.day.recording import Item
from vesk.core.errors import MediaError
from vesk.core.facts import Facts
from vesk.core.kinds import PICTURE, SOUND
from vesk.core.ltc.edges import find_edges
from vesk.core.ltc.frames import read_frames
from vesk.core.ltc.listen import decode
from vesk.core.timecode import FrameRate, Timecode
from vesk.media import cache, checksum, probe, scan
from vesk.media.wave import write_wave
from vesk.simulator import scenario, shoot
from vesk.simulator.ltc import signal

FS = 48_000
PAL = FrameRate(Fraction(25))


def timed(work: Callable[[], object]) -> float:
    begun = time.process_time()
    work()
    return time.process_time() - begun


def files(media: Path) -> None:
    """Facts of every file, hashing, one pass over its sound, and the same sound merely decoded."""
    paths = [found.path for found in scan.walk(media)]
    known = []
    for path in paths:
        try:
            known.append((path, probe.read_facts(path)))
        except MediaError:  # the demo has broken files
            continue
    reading = timed(lambda: [probe.read_facts(path) for path, _ in known])
    hashing = timed(lambda: [checksum.whole_hash(path) for path, _ in known])
    each = 1e3 / len(known)
    print(f"\n{len(known)} files: facts {reading * each:.1f} CPU ms a file, hash {hashing * each:.1f}")
    for kind, words in ((PICTURE, "movies"), (SOUND, "sound files")):
        own = [(path, facts) for path, facts in known if facts.kind == kind and facts.channels]
        seconds = sum(float(facts.duration) for _, facts in own)
        channels = sum(float(facts.duration) * facts.channels for _, facts in own)
        bare = timed(lambda own=own: [sum(1 for _ in cache.sound_blocks(path, facts)) for path, facts in own])
        library = timed(lambda own=own: [decoded(path, coded=facts.coded) for path, facts in own])
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder)
            full = timed(
                lambda own=own, place=place: [
                    cache.listen(path, facts, cache.entry_of(place, f"{n:04}")) for n, (path, facts) in enumerate(own)
                ]
            )
        print(
            f"{len(own)} {words}, {seconds:.0f} s of {channels / seconds:.1f} channels: one pass (peaks, features, "
            f"levels, timecode) {seconds / full:.0f} x real time a CPU s, {full / library:.1f} times what the library "
            f"takes to decode alone ({seconds / library:.0f} x); our own reading alone {seconds / bare:.0f} x"
        )


def decoded(path: Path, *, coded: bool) -> None:
    """Decode a file's sound with nothing but the library that does so."""
    if not coded:
        with soundfile.SoundFile(path) as file:
            while len(file.read(1 << 19, "float32", always_2d=True)):
                pass
        return
    with av.open(str(path)) as container:
        for packet in container.demux(container.streams.audio):
            packet.decode()


def ltc() -> None:
    """Timecode at every rate: speed, frames read, frame starts, rate; and how low it may lie."""
    print("\ntimecode as sound, 60 s            x real time   frames   starts µs (worst)       ppm off")
    rng = np.random.default_rng(7)
    for name in ("23.976", "24", "25", "29.97", "29.97 DF", "30"):
        rate = FrameRate.parse(name)
        first = Timecode.parse("09:59:30;02" if rate.drop else "09:59:30:02", rate).frame + 0.31
        sound = signal(first, 60 * FS, rate, FS * (1 + 23e-6)) * np.float32(0.2)
        found = None
        cpu = timed(lambda sound=sound: decode(sound, FS))
        found = decode(sound, FS)
        frames = read_frames(find_edges(sound, FS), FS)
        label = ((frames.hour * 60 + frames.minute) * 60 + frames.second) * rate.nominal + frames.number
        minutes = frames.hour * 60 + frames.minute
        number = label - rate.skipped * (minutes - minutes // 10)
        off = frames.start - (number - first) * FS * (1 + 23e-6) / float(rate.fps)
        print(f"{name:32}{60 / cpu:12.0f}{found.frames:10}{np.abs(off).max() / FS * 1e6:14.3f}{found.ppm - 23:20.5f}")
    print("\nSNR dB, at -40 dBFS                frames of 1498   wrong")
    first = 10 * 3600 * 25.0
    for snr in (30, 20, 12, 9, 6, 4):
        sound = signal(first, 60 * FS, PAL, FS)
        noisy = ((sound + rng.normal(size=sound.size) * 10 ** (-snr / 20)) * 0.01).astype(np.float32)
        found = decode(noisy, FS)
        runs = found.runs if found else ()
        wrong = sum(abs(float(r.first.frame - first) - r.first_sample / FS * 25) > 0.2 for r in runs)
        print(f"{snr:6}{found.frames if found else 0:40}{wrong:8}")


def many() -> None:
    """Conclude what is known of 400 and of 1 000 recordings."""
    for count in (400, 1000):
        items = [
            Item(
                str(n), f"{n % 6}/A{n % 6:03}_{n:03}.mov", f"{n % 6}",
                Facts(
                    PICTURE if n % 6 < 4 else SOUND, "mov", Fraction(30), fps=Fraction(25), channels=1, sample_rate=FS,
                    timecode=str(Timecode((900_000 + n * 800) % 2_160_000, PAL)),
                ),
                content=str(n),
            )
            for n in range(count)
        ]  # fmt: skip
        print(f"known of {count} recordings: {timed(lambda items=items: know_day(items, PAL)) * 1e3:.0f} CPU ms")


def memory() -> None:
    """Memory of one pass over eight channels: a minute, then half an hour."""
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        for minutes in (1, 30):
            path = place / f"{minutes}.wav"
            block = np.random.default_rng(1).normal(size=(FS, 8)).astype(np.float32) * 0.1
            write_wave(path, (block for _ in range(60 * minutes)), sample_rate=FS, channels=8)
            # A process of its own each: what one needed at most would hide what the next needs.
            with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as pool:
                before, most = pool.submit(_listen_watched, path, place / f"{minutes:04}").result()
            print(f"{minutes} min of eight channels: {before:.0f} MB before, {most:.0f} MB at most of memory its own")


def _listen_watched(path: Path, store: Path) -> tuple[float, float]:
    """Return the process's own memory (not files mapped into it) before and at most, MB."""
    before = most = _own_memory()
    done = threading.Event()

    def watch() -> None:
        nonlocal most
        while not done.wait(0.02):
            most = max(most, _own_memory())

    watcher = threading.Thread(target=watch)
    watcher.start()
    cache.listen(path, probe.read_facts(path), cache.entry_of(store, "memory"))
    done.set()
    watcher.join()
    return before, most


def _own_memory() -> float:
    text = Path("/proc/self/status").read_text(encoding="ascii")
    return int(re.search(r"RssAnon:\s+(\d+)", text)[1]) / 1024  # type: ignore[index]


def main(media: Path | None) -> int:
    """Run all."""
    if media is None:
        with tempfile.TemporaryDirectory() as folder:
            chosen = scenario.load(shoot.SCENARIOS / "lantern_ferry.toml")
            shoot.shoot(chosen, Path(folder))
            files(Path(folder))
    else:
        files(media)
    ltc()
    many()
    memory()
    return 0
