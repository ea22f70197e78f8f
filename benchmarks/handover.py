"""What handing over costs: movies against copying the file, sound against its own length, documents of a large day."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Callable
from datetime import date
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import soundfile

from vesk.core.handover.edl import edit_lists
from vesk.core.handover.timeline import Joined, Media, build, lay_day
from vesk.core.kinds import Kind
from vesk.core.timemap import TimeMap
from vesk.dailies import delivering
from vesk.dailies.located import locate
from vesk.media import hash_list, paper
from vesk.media.aaf_file import write_aaf
from vesk.media.movie_copy import LaidTrack, copy_movie
from vesk.media.otio_file import write_otio

PAL = Fraction(25)


def _cpu(work: Callable[[], object], times: int = 3) -> tuple[float, float]:
    """Return CPU and wall seconds of one run, the least of several."""
    found = []
    for _ in range(times):
        begun, clock = time.process_time(), time.monotonic()
        work()
        found.append((time.process_time() - begun, time.monotonic() - clock))
    return min(one for one, _ in found), min(one for _, one in found)


def _movie(path: Path, seconds: int) -> None:
    """Make a movie of a camera's data rate: noise that does not shrink."""
    rng = np.random.default_rng(1)
    with av.open(str(path), "w") as out:
        video = out.add_stream("libx264", rate=PAL)
        video.width, video.height, video.pix_fmt = 960, 540, "yuv420p"
        video.options = {"preset": "ultrafast", "crf": "18"}
        video.metadata["timecode"] = "10:00:00:00"
        frames = [rng.integers(0, 255, (540, 960, 3), dtype=np.uint8) for _ in range(5)]
        for n in range(25 * seconds):
            frame = av.VideoFrame.from_ndarray(frames[n % 5], format="rgb24").reformat(format="yuv420p")
            frame.pts, frame.time_base = n, 1 / PAL
            out.mux(video.encode(frame))
        out.mux(video.encode(None))


def _day(count: int) -> tuple[list[Media], list[Joined]]:
    media, joined = [], []
    for n in range(count // 2):
        at = Fraction(9 * 3600 + 80 * n)
        more = {"label_rate": PAL, "reel": f"A{n:03}", "scene": str(n), "take": "1"}
        name = f"A{n:03}"
        media.append(Media(f"p{n}", f"{name}.mov", f"A/{name}.mov", "A", Kind.PICTURE, at, Fraction(60), PAL, **more))
        media.append(
            Media(f"s{n}", f"S{n}.wav", f"S1/S{n}.wav", "S1", Kind.SOUND, at - 2, Fraction(66), Fraction(48_000),
                  channels=2, **more)
        )  # fmt: skip
        joined.append(Joined(f"p{n}", f"s{n}", TimeMap.with_ppm(Fraction(-2), Fraction(12)), checked=True))
    return media, joined


def main(scale: float) -> int:
    """Run and print."""
    seconds = max(20, round(120 * scale))
    with tempfile.TemporaryDirectory() as place:
        home = Path(place)
        _movie(home / "A001.mov", seconds)
        noise = np.random.default_rng(2).standard_normal((48_000 * (seconds + 10), 2)) * 0.1
        soundfile.write(home / "S1.wav", noise, 48_000, subtype="PCM_24")
        size = (home / "A001.mov").stat().st_size
        _, copied = _cpu(lambda: _copied(home / "A001.mov", home / "copy.mov"))
        picture, sound = (locate(home / name, home / "cache") for name in ("A001.mov", "S1.wav"))
        for words, laid in (("as recorded", TimeMap(Fraction(-5))),
                            ("slipped by a part of a sample", TimeMap(Fraction(-5) + Fraction(1, 133_333))),
                            ("with a rate", TimeMap.with_ppm(Fraction(-5), Fraction(40)))):  # fmt: skip
            cpu, _ = _cpu(lambda laid=laid: delivering.deliver(
                picture, [delivering.Laid(sound, laid)], home / "laid.wav", scene="1", take="1", project="x",
                shot_on=date(2027, 3, 18),
            ))  # fmt: skip
            print(f"two channels of sound, {words}: {seconds / cpu:.0f} times real time a core")
        track = LaidTrack(home / "laid.wav", (0, 1), "mix")
        cpu, wall = _cpu(lambda: _synced(home, track))
        print(
            f"a movie of {size / 1e6:.0f} MB, sound laid: {wall / copied:.1f} times copying the file ({cpu:.2f} CPU s)"
        )
        cpu, _ = _cpu(lambda: hash_list.hash_file(home / "A001.mov", home))
        print(f"hashing: {size / cpu / 1e9:.1f} GB a CPU second")
        _documents(home)
    return 0


def _copied(source: Path, target: Path) -> None:
    shutil.copyfile(source, target)
    _sync(target)


def _synced(home: Path, track: LaidTrack) -> None:
    copy_movie(home / "A001.mov", home / "made.mov", tracks=[track])
    _sync(home / "made.mov")


def _sync(path: Path) -> None:
    with path.open("rb") as file:
        os.fsync(file.fileno())


def _documents(home: Path) -> None:
    count = 400
    media, joined = _day(count)
    at = lay_day(media, joined, {one.key: one.start for one in media if one.start is not None})
    start = Fraction(int(min(at.values())))
    timeline = build("day", media, joined, at, fps=PAL, drop=False, start=start)
    clips = sum(len(track.clips) for track in timeline.tracks)
    for words, work in (
        ("laying the day", lambda: build("day", media, joined, at, fps=PAL, drop=False, start=start)),
        ("OTIO", lambda: write_otio(timeline, home / "day.otio", originals="../media")),
        ("edit lists", lambda: [edit_lists(timeline, track) for track in timeline.tracks]),
        ("AAF", lambda: write_aaf(timeline, home / "day.aaf", originals=home)),
    ):
        print(f"{count} recordings, {clips} clips, {words}: {_cpu(work, 1)[0]:.2f} CPU s")
    take = paper.PaperTake(
        "31A / 1", "A006 main camera/A006_001.mov", "09:12:06:00", "S1 sound roll 6/31A_01.wav", "sub-frame slip",
        "slip -0.307 f", "+0.04, +0.04, +0.03 ms", "somebody", "sound/A006_001.wav", "", "",
    )  # fmt: skip
    report = paper.PaperReport("Day", "Every file holds", (), (take,) * count, (), ())
    print(f"the report of {count} takes: {_cpu(lambda: paper.page_of(report))[0]:.2f} CPU s")
    print(
        f"the same as PDF, the first time: {_cpu(lambda: paper.write_pdf(report, home / 'report.pdf'), 1)[0]:.2f} CPU s"
    )
