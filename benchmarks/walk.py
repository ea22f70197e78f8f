"""The walk on the demo day, measured: accuracy against the simulator's truth, CPU seconds of each step.

Printed beside the naive way (one plain correlation of the whole files) in the same run.
CPU time, not wall time: the machine may be shared.
"""

from __future__ import annotations

import json
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from scipy import fft

from vesk.core.sound.distance import distance_delay_s
from vesk.core.sound.features import WORK_RATE
from vesk.dailies import conforming
from vesk.dailies.folder import Walked, walk_folder
from vesk.dailies.judging import Measured
from vesk.media import cache
from vesk.simulator import scenario, shoot
from vesk.simulator.world import LAV


def timed(work: Callable[[], Any]) -> tuple[Any, float]:
    """Return what `work` returns and the CPU seconds of this process it took."""
    begun = time.process_time()
    result = work()
    return result, time.process_time() - begun


def naive_offset(walked: Walked, one: Measured) -> float:
    """Return the offset by the peak of one plain correlation of both files, seconds."""
    picture, sound = (
        cache.hearing(walked.recordings[name].entry, 0).sound.astype("float32") for name in (one.picture, one.sound)
    )
    size = fft.next_fast_len(picture.size + sound.size, real=True)
    curve = fft.irfft(fft.rfft(picture, size) * np.conj(fft.rfft(sound, size)), size)
    peak = int(np.argmax(curve))
    return (peak if peak < picture.size else peak - size) / WORK_RATE


def main(media: Path | None) -> int:
    """Run and print."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        chosen = scenario.load(shoot.SCENARIOS / "lantern_ferry.toml")
        out = media or folder / "media"
        if media is None:
            _, cpu = timed(lambda: shoot.shoot(chosen, out, processes=1))
            print(f"simulated in {cpu:.1f} CPU s")
        truth = shoot.truth(shoot.takes(chosen, out), chosen, out)
        true = {(pair["picture"], pair["sound"]): pair for pair in truth["pairs"]}
        walked, first = timed(lambda: walk_folder(out, folder / "cache"))
        seconds = sum(float(one.facts.duration) * one.facts.channels for one in walked.recordings.values())
        _, again = timed(lambda: walk_folder(out, folder / "cache"))
        lines, delivered = timed(lambda: conforming.conform(walked, folder / "out", folder / "cache"))
        print(f"\n{'picture':14}{'sound':14}{'true s':>12}{'measured s':>13}{'off by':>10}", end="")
        print(f"{'naive off by':>18}{'ppm true':>10}{'measured':>10}{'±95 %':>8}")
        for one in walked.pairings:
            # A run lies where its first file does; a channel nearer than the first hears earlier.
            files = (walked.known.recordings[name].item.files[0].path for name in (one.picture, one.sound))
            told = true[tuple(files)]
            device = chosen.device(walked.sources[one.sound])
            nearer = distance_delay_s(device.distance_m * (1 - LAV)) if one.found.channel else 0.0
            heard_s = told["heard_offset_s"] + nearer
            line = one.found.line
            if line is None:
                print(f"{Path(one.picture).name:14}{Path(one.sound).name:14} {one.found.decision}: {one.found.reason}")
                continue
            off = (line.offset_s - heard_s) * 1e6
            naive = (naive_offset(walked, one) - heard_s) * 1e6
            print(
                f"{Path(one.picture).name:14}{Path(one.sound).name:14}{heard_s:12.6f}{line.offset_s:13.6f}"
                f"{off:+8.1f} µs{naive:+12.1f} µs{told['ppm']:10.3f}{line.ppm:10.3f}{1.96 * line.se_ppm:8.3f}"
            )
        print("\nresidual after delivery, measured again (ms at head, middle, tail):")
        for row in lines:
            if row["delivered"] == "yes":
                left = [row.get(f"residual_{at}_ms", "") for at in ("head", "middle", "tail")]
                print(f"  {Path(row['picture']).name:14}{'  '.join(left)}")
        print(f"\nwalk, first (facts, listening, measuring): {first:.1f} CPU s for {seconds / 60:.0f} channel minutes")
        print(f"walk, again (features kept):               {again:.1f} CPU s")
        print(f"delivering and measuring again:            {delivered:.1f} CPU s")
        print(
            json.dumps(
                {"first_cpu_s": round(first, 2), "again_cpu_s": round(again, 2), "deliver_cpu_s": round(delivered, 2)}
            )
        )
    return 0
