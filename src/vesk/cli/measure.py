"""`vesk measure --picture FILE --sound FILE`."""

from __future__ import annotations

import argparse
from fractions import Fraction
from pathlib import Path

from vesk.cli import files
from vesk.cli.walked_json import measurement_json
from vesk.core.kinds import MATCHED
from vesk.core.timecode import FrameRate
from vesk.core.verdict.along import either
from vesk.core.wording import signed
from vesk.dailies.judging import judge_two, timecode_offset
from vesk.dailies.located import locate
from vesk.dailies.measuring import measure_by_sound


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("--picture", type=Path, required=True, help="the camera file, with its scratch sound")
    parser.add_argument("--sound", type=Path, required=True, help="the recorder file")
    files.rate_option(parser)
    files.json_option(parser)


def run(options: argparse.Namespace) -> int:
    """Measure and print; exit 0 when matched, 3 when not."""
    picture, sound = locate(options.picture, files.cache()), locate(options.sound, files.cache())
    fps = picture.facts.fps
    rate = options.fps or FrameRate(fps or Fraction(25), picture.facts.drop)
    offset = timecode_offset(picture.facts, sound.facts, rate)
    found = measure_by_sound(picture, sound, proposal_s=None if offset is None else float(offset))
    verdict = judge_two(found, picture, sound, rate).verdict
    if options.json:
        files.show(measurement_json(found, fps, verdict, sample_rate=sound.facts.sample_rate))
    elif found.line is None:
        print(f"{found.decision}: {found.reason}")
    else:
        line = found.line
        print(f"{found.decision}{': ' + found.reason if found.reason else ''}")
        band = line.band_at(found.head_s) * 1e3
        print(f"offset  {signed(line.offset_s, 6)} s ± {band:.3f} ms (picture time of sound sample 0)")
        print(f"rate    {signed(line.ppm, 3)} ± {1.96 * line.se_ppm:.3f} ppm (positive: the recorder's clock is fast)")
        alarm = f"10^{found.log10_false_alarm:.0f}"
        for jump in line.jumps:
            amount = jump.samples(sound.facts.sample_rate)
            whose = ", the scratch's own" if jump.is_scratchs else ""
            where = f"{jump.at_s:.3f} s ({jump.low_s:.3f} to {jump.high_s:.3f})"
            print(f"jump    {signed(amount, 0)} samples at {where}{whose}")
        for step in line.unsure:
            print(f"step    {either(step, 'it', sound.facts.sample_rate)} at {step.low_s:.1f} to {step.high_s:.1f} s")
        if line.moves:
            later = [value for _, value in line.moves]
            print(f"moves   heard up to {(max(later) - min(later)) * 1e3:.1f} ms later than the nearest")
        if line.bends:
            print(f"wanders up to {line.wander_s * 1e3:.3f} ms off a straight line")
        print(f"windows {found.share:.0%} agree; false-alarm probability {alarm}; channel {found.channel + 1}")
    if verdict is not None and not options.json:
        print(verdict.text)
    return 0 if found.decision == MATCHED else 3
