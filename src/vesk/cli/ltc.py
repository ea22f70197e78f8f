"""`vesk ltc FILE`."""

from __future__ import annotations

import argparse
from pathlib import Path

from vesk.cli import files
from vesk.core.errors import RefusedError
from vesk.dailies import hearing_timecode


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("file", type=Path, help="a camera or recorder file")
    parser.add_argument("--channel", type=int, help="one channel, from 1; all of them without")
    files.json_option(parser)


def run(options: argparse.Namespace) -> int:
    """Decode and print the timecode that channels carry; the exit code is 1 when none does."""
    if options.channel is not None and options.channel < 1:
        raise RefusedError("Channels are counted from 1.")
    found = hearing_timecode.decode_file(options.file, channel=None if options.channel is None else options.channel - 1)
    if options.json:
        files.show(found)
        return 0 if found["channels"] else 1
    for one in found["channels"]:
        drop = " DF" if one["drop"] else ""
        print(
            f"channel {one['channel']}: starts at {one['label']} ({one['fps']:.3f}{drop} fps), "
            f"user bits {one['user_bits']}"
        )
        print(f"  {one['frames']} frames, {one['missing']} missing; its sample clock is {one['ppm']:+.3f} ppm off it")
        for broken in one["breaks"]:
            print(f"  breaks at {broken['at_s']:.3f} s: {broken['found']} where {broken['expected']} was due")
    if not found["channels"]:
        print("no timecode on any channel")
    return 0 if found["channels"] else 1
