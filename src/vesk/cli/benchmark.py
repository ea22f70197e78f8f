"""`vesk benchmark`, or `vesk bench`: accuracy and speed, measured."""

from __future__ import annotations

import argparse
import sys
from importlib import import_module
from pathlib import Path

from vesk.settings import PROJECT

_SETS = (
    "walk",
    "intake",
    "measuring",
    "day",
    "clocks",
    "closures",
    "hard_takes",
    "handover",
    "readers",
    "pages",
    "watching",
    "scale",
    "machines",
    "soak",
    "faults",
)
_BY_NAME = ("machines", "soak", "faults")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("which", nargs="?", choices=("all", *_SETS), default="all", help="what to measure")
    parser.add_argument("--media", type=Path, help="a simulated day to reuse (made when left out)")
    parser.add_argument("--scale", type=float, default=1.0, help="share of the cases to run")


def run(options: argparse.Namespace) -> int:
    """Run the benchmarks and print their figures."""
    sys.path.insert(0, str(PROJECT / "benchmarks"))
    given = {"walk": options.media, "intake": options.media}
    worst = 0
    for name in _SETS:
        # What kills and fills disks of its own runs only when asked for by name.
        if options.which == name or (options.which == "all" and name not in _BY_NAME):
            worst = max(worst, import_module(name).main(given.get(name, options.scale)) or 0)
    return worst
