"""What the commands for scripts share: JSON out, progress to standard error, one cache."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from vesk.core.errors import NumberError, TimecodeError
from vesk.core.figures import read_number
from vesk.core.timecode import FrameRate
from vesk.settings import from_environment

_MOST_MS = 500


def json_option(parser: argparse.ArgumentParser) -> None:
    """Add ``--json``."""
    parser.add_argument("--json", action="store_true", help="print JSON (fields in docs/formats.md)")


def rate_option(parser: argparse.ArgumentParser) -> None:
    """Add ``--fps``."""
    parser.add_argument("--fps", type=_rate, metavar="R", help="the day's frame rate: 25, 23.976, 29.97 DF")


def late_option(parser: argparse.ArgumentParser) -> None:
    """Add ``--late``: a person's word of how late devices hear."""
    parser.add_argument(
        "--late", type=_late, metavar="TAG=MS", action="append", default=[],
        help="how late a device hears on its own picture, milliseconds; stands above what the day's evidence says",
    )  # fmt: skip


def _late(text: str) -> tuple[str, float]:
    tag, _, figure = text.partition("=")
    try:
        value = read_number(figure.strip(), least=-_MOST_MS, most=_MOST_MS)
    except NumberError:
        raise argparse.ArgumentTypeError(f"{text} is not of the form C=-40, milliseconds within ±500") from None
    return tag.strip(), float(value) / 1000


def _rate(text: str) -> FrameRate:
    try:
        return FrameRate.parse(text)
    except TimecodeError as error:
        raise argparse.ArgumentTypeError(str(error)) from None


def tell(text: str) -> None:
    """Say what is being done, apart from the result."""
    print(text, file=sys.stderr, flush=True)


def show(values: Any) -> None:
    """Print JSON."""
    json.dump(values, sys.stdout, indent=1, ensure_ascii=True)
    print()


def cache() -> Path:
    """Return where features are kept between runs."""
    return from_environment().cache
