"""`vesk sync-points FILE`."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from pathlib import Path
from typing import Any

from vesk.cli import files
from vesk.dailies.located import locate
from vesk.dailies.sync_points import SyncPoints, sync_points_of


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("file", type=Path, help="a camera or recorder file")
    files.json_option(parser)


def run(options: argparse.Namespace) -> int:
    """Find and print claps heard and seen."""
    found = sync_points_of(locate(options.file, files.cache()))
    if options.json:
        files.show(_json(found))
        return 0
    for one in found.heard:
        likely = min(one.score, 0.99)
        print(f"heard  {one.kind:5} at {one.at_s:10.4f} s   likely {likely:4.0%}   rises {one.rise_db:.0f} dB")
    for seen in found.seen:
        between = f"{seen.low_s:.3f} to {seen.high_s:.3f} s"
        print(f"seen   closed on frame {seen.frame} ({between}), {seen.likely:.0%} likely")
    if found.delay:
        low, high = found.delay.low_s * 1000, found.delay.high_s * 1000
        print(f"its sound is between {low:+.1f} and {high:+.1f} ms late on its picture ({found.delay.agreeing} claps)")
    return 0


def _json(found: SyncPoints) -> dict[str, Any]:
    return {
        "heard": [asdict(one) for one in found.heard],
        "seen": [asdict(one) for one in found.seen],
        "sound_delay": asdict(found.delay) if found.delay else None,
    }
