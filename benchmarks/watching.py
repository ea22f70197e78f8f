"""Watching in the real browser: what was painted against what was due, seeking, stepping, memory; light copies.

Six cameras and a recorder, written here: noise and a moving bar at 640 by 360, sound that is noise. The browser is
Debian's Chromium without a screen: nothing is drawn by a graphics card. Its CPU is read from the kernel, all of its
processes together; wall time is the browser's own.
"""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from playwright.sync_api import Page, sync_playwright

from vesk.actions import intake, light_copies, measuring, pairing
from vesk.core.timecode import FrameRate, Timecode
from vesk.dailies import located
from vesk.media import frames, light_copy, wave
from vesk.services import cluster
from vesk.settings import Settings
from vesk.store import migrate, recordings
from vesk.store.session import open_session

PAL = FrameRate(Fraction(25))
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--autoplay-policy=no-user-gesture-required"]
PORT = 8797
_STEP = """async (ways) => {
  const canvas = document.querySelector('.pane.chosen canvas'), spent = [];
  for (const key of ways) {
    const before = canvas.dataset.frame, from = performance.now();
    document.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true }));
    while (canvas.dataset.frame === before && performance.now() - from < 2000)
      await new Promise((then) => setTimeout(then, 0));
    spent.push(performance.now() - from);
  }
  return spent;
}"""
_SEEK = """async (times) => {
  const sound = await import('/static/watching/sound.js'), spent = [];
  const panes = [...document.querySelectorAll('.pane canvas')];
  for (const at of times) {
    const before = panes.map((pane) => pane.dataset.frame);
    sound.stand(at); // and a click on the middle of the waveform goes there, as a click beside it goes elsewhere
    const wave = document.getElementById('wave'), { left, width } = wave.getBoundingClientRect();
    const from = performance.now();
    wave.dispatchEvent(new MouseEvent('click', { clientX: left + width / 2 }));
    while (panes.some((pane, k) => pane.dataset.frame === before[k]) && performance.now() - from < 3000)
      await new Promise((then) => setTimeout(then, 0));
    spent.push(performance.now() - from);
  }
  return spent;
}"""
_PLAY = """async (seconds) => {
  const panes = await import('/static/watching/panes.js'), sound = await import('/static/watching/sound.js');
  const key = () => document.dispatchEvent(new KeyboardEvent('keydown', { key: ' ', bubbles: true }));
  sound.stand(1);
  key();
  while (!sound.playing()) await new Promise(requestAnimationFrame);
  await new Promise((then) => setTimeout(then, 500));
  Object.assign(panes.counted, { due: 0, late: 0 });
  const from = performance.now(), at = sound.position();
  let turns = 0, apart = 0;
  const shown = [...document.querySelectorAll('.pane canvas')];
  while (performance.now() - from < 1000 * seconds) {
    await new Promise(requestAnimationFrame);
    turns += 1;
    const frames = shown.map((one) => Number(one.dataset.frame));
    apart = Math.max(apart, Math.max(...frames) - Math.min(...frames));
  }
  const wall = (performance.now() - from) / 1000;
  const told = { ...panes.counted, turns, apart, wall, played: sound.position() - at };
  key();
  return told;
}"""


def _film(path: Path, seconds: int, label: str, seed: int, size: tuple[int, int] = (640, 360)) -> None:
    rng = np.random.default_rng(seed)
    width, height = size
    base = np.clip(rng.normal(110, 25, (height // 8 + 1, width // 8 + 1, 3)), 0, 255).astype(np.uint8)
    base = base.repeat(8, axis=0).repeat(8, axis=1)[:height, :width]
    grain = [rng.integers(0, 12, (height, width, 1), dtype=np.uint8) for _ in range(8)]
    with av.open(str(path), "w", format="mov") as out:
        stream = out.add_stream("libx264", rate=25, options={"preset": "ultrafast", "crf": "21"})
        stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
        stream.metadata["timecode"] = label
        for k in range(25 * seconds):
            picture = base + grain[k % 8]
            at = k * 4 % (width - 20)
            picture[:, at : at + 20] = 230
            out.mux(stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")))
        out.mux(stream.encode(None))


def _day(folder: Path, seconds: int, cameras: str, start: int = 36_000) -> None:
    for number, tag in enumerate(cameras):
        (folder / tag).mkdir(parents=True, exist_ok=True)
        label = str(Timecode.at(Fraction(start) + Fraction(number, 25), PAL))
        _film(folder / tag / f"{tag}001_{start}.mov", seconds, label, number)
    (folder / "S1").mkdir(exist_ok=True)
    rng = np.random.default_rng(9)
    blocks = (rng.normal(0, 0.05, (48_000, 2)).astype(np.float32) for _ in range(seconds + 4))
    bext = wave.Bext(
        description="", originator="", originator_reference="", date="2027-03-21", time="10:00:00",
        time_reference=(start - 2) * 48_000, history="",
    )  # fmt: skip
    wave.write_wave(folder / "S1" / f"S1_{start}.wav", blocks, sample_rate=48_000, channels=2, bext=bext, ixml="")


def _cpu() -> float:
    used = resource.getrusage(resource.RUSAGE_SELF)
    return used.ru_utime + used.ru_stime


def _light(folder: Path) -> None:
    """Print what a light copy costs beside decoding alone, from a large picture."""
    path = folder / "large.mov"
    _film(path, 12, "10:00:00:00", 1, (1920, 1080))
    begun = _cpu()
    count = sum(1 for _ in frames.numbered_frames(path, lines=light_copy.LINES))
    decoding = _cpu() - begun
    place = located.locate(path, folder / "light")
    begun = _cpu()
    place.write_light_copy()
    making = _cpu() - begun
    size = place.entry.light.stat().st_size * 8 / 12 / 1e3
    print(f"light copy of {count} frames of 1920 x 1080: {making / decoding:.2f} times decoding and scaling"
          f" ({making:.1f} against {decoding:.1f} CPU s), {size:.0f} kbit/s")  # fmt: skip


def _browser_s(root: int) -> float:
    """Return the CPU seconds of a process and all below it."""
    children: dict[int, list[int]] = {}
    spent: dict[int, float] = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                fields = (entry / "stat").read_text().rsplit(")", 1)[1].split()
            except OSError:
                continue
            children.setdefault(int(fields[1]), []).append(int(entry.name))
            spent[int(entry.name)] = (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    todo, total = [root], 0.0
    while todo:
        one = todo.pop()
        total += spent.get(one, 0.0)
        todo += children.get(one, [])
    return total


@contextmanager
def _served(home: Path, folder: Path) -> Iterator[Settings]:
    own, _ = cluster.have(home / "postgres")
    cluster.start(own)
    try:
        cluster.ensure_database(own)
        settings = Settings(own.url(), home, (folder,), person="somebody", light_copies=False)
        migrate.to_head(settings.sqlalchemy_url)
        yield settings
    finally:
        cluster.stop(own)


def _taken_in(settings: Settings, folder: Path, number: int) -> tuple[int, int]:
    with open_session(settings.sqlalchemy_url) as session:
        day = intake.name_day(
            session, settings, production="The Lantern Ferry", number=number, shot_on=date(2027, 3, 21), rate=PAL,
            folder=str(folder),
        )  # fmt: skip
        intake.take_in(session, settings, day)
        pairing.pair_day(session, day)
        for row in recordings.ready_of_day(session, day.id):
            measuring.listen(session, settings, row.id)
        for row in light_copies.wanted(session, settings, day):
            light_copies.make(session, settings, row.id)
        session.commit()
        first = min(row.id for row in recordings.of_day(session, day.id) if row.name.startswith("A"))
        return day.id, first


def _opened(page: Page, day: int, about: int, panes: int) -> float:
    begun = time.perf_counter()
    page.goto(f"http://127.0.0.1:{PORT}/days/{day}/watching/{about}", wait_until="commit")
    page.locator(".pane canvas[data-frame]").first.wait_for(state="attached")
    spent = time.perf_counter() - begun
    page.locator(f'[data-panes="{panes}"]').click()
    page.wait_for_timeout(700)
    return spent


def _says(name: str, values: list[float]) -> None:
    ordered = sorted(values)
    print(f"{name:46} median {statistics.median(ordered):6.1f}   p95 {ordered[int(0.95 * len(ordered))]:6.1f}"
          f"   worst {ordered[-1]:6.1f} ms   {len(ordered)} cases")  # fmt: skip


def main(scale: float) -> int:
    """Run and print."""
    seconds = max(30, round(120 * scale))
    long = max(300, round(7200 * scale))
    with tempfile.TemporaryDirectory() as place:
        home = Path(place)
        _light(home)
        _day(home / "six", seconds, "ABCDEF")
        (home / "long" / "A").mkdir(parents=True)
        _film(home / "long" / "A" / "A001_long.mov", long, "11:00:00:00", 3, (320, 180))
        with _served(home, home) as settings:
            six = _taken_in(settings, home / "six", 1)
            one = _taken_in(settings, home / "long", 2)
            environment = os.environ | settings.environment() | {"PYTHONPATH": str(Path(__file__).parents[1] / "src")}
            server = subprocess.Popen(
                [sys.executable, "-c", f"from vesk.web.server import main; main('127.0.0.1:{PORT}')"], env=environment
            )
            try:
                time.sleep(3)
                with sync_playwright() as play:
                    _measure(play, six, one, scale, seconds, long)
            finally:
                server.terminate()
                server.wait(10)
    return 0


def _measure(play: Any, six: tuple[int, int], one: tuple[int, int], scale: float, seconds: int, long: int) -> None:
    browser = play.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=FLAGS)
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    _opened(page, *six, 4)  # the browser's own first time
    _says("a moment opened, to its first picture", [1e3 * _opened(page, *six, 4) for _ in range(6)])
    rng = np.random.default_rng(1)
    times = [float(at) for at in rng.uniform(1, seconds - 2, 60)]
    _says("a seek, four cameras, all painted", page.evaluate(_SEEK, times))
    _says("a step on, four cameras", page.evaluate(_STEP, ["ArrowRight"] * 60))
    _says("a step back, four cameras", page.evaluate(_STEP, ["ArrowLeft"] * 60))
    root = os.getpid()
    for panes in (4, 6):
        _opened(page, *six, panes)
        before = _browser_s(root)
        told = page.evaluate(_PLAY, min(20.0, seconds - 4.0))
        spent = (_browser_s(root) - before) / told["wall"]
        print(f"{panes} cameras playing: {told['due']} pictures due, {told['late']} not there"
              f" ({100 * told['late'] / max(1, told['due']):.2f} %), {told['turns'] / told['wall']:.0f} paintings/s,"
              f" {told['played'] / told['wall']:.4f} s played a second, {spent:.2f} of a core")  # fmt: skip
    spent = [1e3 * _opened(page, *one, 1) for _ in range(4)]
    _says(f"a take of {long / 60:.0f} min opened, to its first picture", spent)
    times = [float(at) for at in rng.uniform(1, long - 2, 60)]
    _says("a seek in it", page.evaluate(_SEEK, times))
    _opened(page, *six, 4)
    page.evaluate("document.dispatchEvent(new KeyboardEvent('keydown', { key: 'l', bubbles: true }))")
    client = page.context.new_cdp_session(page)
    sizes = []
    minutes = max(1.0, 60 * scale)
    for _ in range(7):
        client.send("HeapProfiler.collectGarbage")
        sizes.append(page.evaluate("performance.memory.usedJSHeapSize") / 1e6)
        page.wait_for_timeout(minutes * 60_000 / 6)
    grown = [f"{size:.1f}" for size in sizes]
    print(f"the page's own memory while it plays {minutes:.0f} minutes round a sync point: {', '.join(grown)} MB")
    browser.close()
