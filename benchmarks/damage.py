"""Damaged files under every reader, and full or closed disks under every writer."""

from __future__ import annotations

import os
import random
import resource
import shutil
import subprocess
import sys
import time
from collections import Counter
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

import soundfile

from vesk.core.errors import MediaError, StorageError, VeskError
from vesk.core.facts import Facts
from vesk.core.handover.elsewhere import read_edit_list
from vesk.core.intake.reports import entries_of, guess_mapping, read_table
from vesk.dailies.located import Located, hear
from vesk.dailies.report_lines import write_report
from vesk.media import cache, checksum, paperwork, probe
from vesk.media.guarded import guarded
from vesk.media.sound import SoundReader
from vesk.media.wave import write_wave

SEED = 20_270_318
HANGS_S = 10.0


def damaged(media: Path, home: Path, count: int) -> None:
    """Mutate real files at random and read them by every reader, each as Vesk does."""
    home.mkdir()
    rng = random.Random(SEED)  # noqa: S311 - repeatable, not secret
    seeds = _samples(media, home)
    told: Counter[str] = Counter()
    slowest, begun = 0.0, time.monotonic()
    for n in range(count):
        source = seeds[n % len(seeds)]
        path = home / f"mutant{source.suffix}"
        path.write_bytes(_mutated(source.read_bytes(), rng))
        for name, work in _readers(path, home / "cache"):
            at = time.monotonic()
            try:
                work()
                told["read"] += 1
            except MediaError as error:
                told["ended its reader" if "ended the process" in error.reason else "told"] += 1
            except VeskError:
                told["told"] += 1
            except Exception as error:  # noqa: BLE001 - what this looks for
                told["FOREIGN"] += 1
                print(f"  foreign: {name} of mutant {n} of {source.name}: {error!r}")
            took = time.monotonic() - at
            slowest = max(slowest, took)
            told["HUNG"] += took > HANGS_S
        shutil.rmtree(home / "cache", ignore_errors=True)
    print(f"\ndamaged files: {count} mutants of {len(seeds)} files, {time.monotonic() - begun:.0f} s")
    print("  " + ", ".join(f"{value} {name}" for name, value in sorted(told.items())))
    print(f"  foreign exceptions {told['FOREIGN']}, hung over {HANGS_S:.0f} s {told['HUNG']}, slowest {slowest:.1f} s")


def folder_of(media: Path, target: Path, count: int) -> None:
    """Fill a folder with mutants of a day's files, as a bad card would."""
    rng = random.Random(SEED)  # noqa: S311 - repeatable, not secret
    target.mkdir(parents=True)
    seeds = _samples(media, target)
    for n in range(count):
        source = seeds[n % len(seeds)]
        (target / f"bad{n:05}{source.suffix}").write_bytes(_mutated(source.read_bytes(), rng))
    for path in seeds[1:]:
        path.unlink()


def _samples(media: Path, home: Path) -> list[Path]:
    movie = min(media.rglob("A006_0*.mov"), key=lambda path: path.stat().st_size)
    wave = min(media.rglob("3*.wav"), key=lambda path: path.stat().st_size)
    with SoundReader(wave) as reader:
        part = reader.read(0, min(reader.frames, 96_000))
    made = [home / "short.wav", home / "short.flac", home / "short.aiff"]
    for path in made[1:]:
        soundfile.write(path, part, 48_000)
    data = wave.read_bytes()
    at = data.index(b"data")
    made[0].write_bytes(data[: at + 8 + 200_000])
    table = home / "report.csv"
    table.write_text("file,scene,take,start tc\n31A_01.wav,31A,1,09:00:00:00\n" * 20, encoding="utf-8")
    return [movie, *made, table]


def _mutated(data: bytes, rng: random.Random) -> bytes:
    out = bytearray(data)
    head = min(len(out), 8192)
    for _ in range(rng.choice((1, 3, 20))):
        kind = rng.randrange(6)
        at = rng.randrange(head if rng.random() < 0.7 else len(out))
        if kind == 0:
            out[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            out[at : at + 4] = rng.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"\0\0\0\1"))
        elif kind == 2:
            out[at : at + 64] = rng.randbytes(64)
        elif kind == 3:
            del out[at : at + rng.randrange(1, 400)]
        elif kind == 4:
            out[at:at] = out[max(0, at - 200) : at]
        else:
            del out[rng.randrange(max(1, len(out) // 4), len(out)) :]
        if len(out) < 2:
            return bytes(out) or b"x"
        head = min(len(out), 8192)
    return bytes(out)


def _readers(path: Path, kept: Path) -> list[tuple[str, Any]]:
    if path.suffix == ".csv":
        return [("table", lambda: read_table(paperwork.read_text(path)))]

    def facts() -> Facts:
        return guarded(path, HANGS_S, probe.read_facts, path)

    def listen() -> None:
        guarded(path, HANGS_S, hear, Located(path, facts(), cache.entry_of(kept, checksum.whole_hash(path))))

    def frames() -> None:
        found = facts()
        if found.frames:
            place = Located(path, found, cache.entry_of(kept, checksum.whole_hash(path)))
            guarded(path, HANGS_S, place.save_frames, [0, found.frames // 2])

    return [("facts", facts), ("sound", listen), *([("frames", frames)] if path.suffix == ".mov" else [])]


# Disks -------------------------------------------------------------------------------------------------------------


def disks(media: Path, home: Path) -> None:
    """Let every writer meet a disk that is full, or closed, in the middle; then give it room, and look again."""
    home.mkdir()
    print("\ndisks, by writer: sentence, nothing half-written that looks whole, whole once there is room")
    tried, wrong = 0, 0
    for name, work in _writers(media).items():
        for kind in ("full", "read-only"):
            disk = home / f"{name.replace(' ', '-')}-{kind}"
            disk.mkdir()
            small = ["mount", "-t", "tmpfs", "-o", "size=64k,mode=755", "tmpfs", str(disk)]
            mounted = subprocess.run(small, capture_output=True, check=False)
            if mounted.returncode:
                print("  not tried: this place lets nobody mount a small disk")
                return
            try:
                said = _on(disk, kind, work)
            finally:
                subprocess.run(["umount", "-l", str(disk)], check=False)
            tried += 1
            wrong += said != "holds"
            if said != "holds":
                print(f"  {name}, {kind}: {said}")
    print(f"  {tried} tried, {tried - wrong} held, {wrong} did not")


def _on(disk: Path, kind: str, work: Any) -> str:
    if kind == "read-only":
        subprocess.run(["mount", "-o", "remount,ro", str(disk)], check=True)
    wrong = _met(disk, work)
    subprocess.run(["mount", "-o", "remount,rw,size=200m", str(disk)], check=True)
    if wrong:
        return wrong
    try:
        work(disk)
    except Exception as error:  # noqa: BLE001 - what this looks for
        return f"does not go on: {error!r}"
    return "holds"


def _met(disk: Path, work: Any) -> str:
    """Let a writer meet the disk; returns what is wrong with what it then says and leaves."""
    try:
        work(disk)
    except StorageError as error:
        left = [path for path in disk.rglob("*") if path.is_file() and str(os.getpid()) in path.name]
        return f"left {left} behind" if left else "" if "free space" in str(error) else f"said {error}"
    except VeskError as error:
        return f"blamed a file: {error}"
    except Exception as error:  # noqa: BLE001 - what this looks for
        return f"foreign: {error!r}"
    return "said nothing"


def _writers(media: Path) -> dict[str, Any]:
    wave = next(media.rglob("31A_01.wav"))
    movie = next(media.rglob("A006_001.mov"))

    def listen(path: Path, disk: Path) -> None:
        facts = probe.read_facts(path)
        cache.listen(path, facts, cache.entry_of(disk / "cache", checksum.whole_hash(path)))

    def frames(disk: Path) -> None:
        entry = cache.entry_of(disk / "cache", checksum.whole_hash(movie))
        cache.save_frames(movie, entry, list(range(40)), height=480)

    def sound(disk: Path) -> None:
        with SoundReader(wave) as reader:
            blocks = cache.blocks_of(reader)
            write_wave(disk / "x.wav", blocks, sample_rate=48_000, channels=reader.channels)

    def report(disk: Path) -> None:
        write_report(disk / "report.csv", [{"scene": "x" * 400, "picture": f"{n}.mov"} for n in range(2000)])

    return {
        "listening to a sound": partial(listen, wave),
        "listening to a movie": partial(listen, movie),
        "frames": frames,
        "a delivered sound": sound,
        "a report": report,
    }


# Posts -------------------------------------------------------------------------------------------------------------


# Headers, many of them -------------------------------------------------------------------------------------------


def headers(samples: list[Path], home: Path, count: int, seed: int) -> Counter[str]:
    """Read mutants of files by what reads their headers, in this very process, with a gigabyte of memory at most.

    Parameters
    ----------
    samples : list of Path
    home : Path
        Where each is written.
    count, seed : int

    Returns
    -------
    Counter of str
        How many were read, told in a sentence, failed otherwise (and how), or took over ten seconds.
    """
    used = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (used + (1 << 30), used + (1 << 30)))
    rng = random.Random(seed)  # noqa: S311 - repeatable, not secret
    known = [(path, path.read_bytes()) for path in samples]
    told: Counter[str] = Counter()
    for n in range(count):
        source, data = known[n % len(known)]
        path = home / f"mutant{source.suffix}"
        path.write_bytes(_mutated(data, rng))
        at = time.monotonic()
        try:
            _header(path)
            told["read"] += 1
        except VeskError:
            told["told"] += 1
        except Exception as error:  # noqa: BLE001 - what this looks for
            told[f"foreign: {source.name}, {n}: {error!r}"] += 1
        told["hung"] += time.monotonic() - at > HANGS_S
    return told


def _header(path: Path) -> None:
    if path.suffix == ".csv":
        table = read_table(paperwork.read_text(path))
        entries_of(table, guess_mapping(table.columns))
    elif path.suffix == ".edl":
        read_edit_list(path.read_bytes().decode("utf-8", "replace"), Fraction(25))
    else:
        probe.read_facts(path)


if __name__ == "__main__":
    folder, many, first = Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
    listed = sorted(path for path in folder.iterdir() if not path.name.startswith("mutant"))
    for said, times in headers(listed, folder, many, first).items():
        print(f"{times} {said}")
