"""`vesk bench`: accuracy and speed, measured."""

from __future__ import annotations

import argparse
import runpy
from pathlib import Path

from vesk.settings import PROJECT


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("--media", type=Path, help="a simulated day to reuse (made when left out)")


def run(options: argparse.Namespace) -> int:
    """Run the benchmark and print its figures."""
    module = runpy.run_path(str(PROJECT / "benchmarks" / "walk.py"))
    return int(module["main"](options.media))
