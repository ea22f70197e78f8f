"""`vesk benchmark`, or `vesk bench`: accuracy and speed, measured."""

from __future__ import annotations

import argparse
import sys
from importlib import import_module
from pathlib import Path

from vesk.settings import PROJECT


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    sets = ("all", "walk", "intake", "measuring", "day", "clocks", "handover", "pages", "watching", "faults")
    parser.add_argument("which", nargs="?", choices=sets, default="all", help="what to measure")
    parser.add_argument("--media", type=Path, help="a simulated day to reuse (made when left out)")
    parser.add_argument("--scale", type=float, default=1.0, help="share of the cases to run")


def run(options: argparse.Namespace) -> int:
    """Run the benchmarks and print their figures."""
    sys.path.insert(0, str(PROJECT / "benchmarks"))
    if options.which in {"all", "walk"}:
        import_module("walk").main(options.media)
    if options.which in {"all", "intake"}:
        import_module("intake").main(options.media)
    if options.which in {"all", "measuring"}:
        import_module("measuring").main(options.scale)
    if options.which in {"all", "day"}:
        import_module("day").main(options.scale)
    if options.which in {"all", "clocks"}:
        import_module("clocks").main(options.scale)
    if options.which in {"all", "handover"}:
        import_module("handover").main(options.scale)
    if options.which in {"all", "pages"}:
        import_module("pages").main(options.scale)
    if options.which in {"all", "watching"}:
        import_module("watching").main(options.scale)
    if options.which == "faults":  # it kills and fills disks of its own: only when asked for by name
        import_module("faults").main(options.scale)
    return 0
