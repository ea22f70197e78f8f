"""`vesk simulate SCENARIO OUT [--truth FILE]`."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from vesk.cli import files
from vesk.simulator import scenario, shoot


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("scenario", help="a scenario file (TOML), or the name of one that ships: lantern_ferry")
    parser.add_argument("out", type=Path, metavar="OUT")
    parser.add_argument("--truth", type=Path, metavar="FILE", help="write what is true about the media as JSON")
    parser.add_argument("--processes", type=int, default=len(os.sched_getaffinity(0)))


def run(options: argparse.Namespace) -> int:
    """Make the media."""
    shipped = shoot.SCENARIOS / f"{options.scenario}.toml"
    chosen = scenario.load(shipped if shipped.exists() else Path(options.scenario))
    planned = shoot.shoot(chosen, options.out, processes=options.processes, tell=files.tell)
    if options.truth:
        shoot.write_truth(options.truth, shoot.truth(planned, chosen, options.out))
    print(f"{len(planned)} recordings in {options.out}")
    return 0
