"""`vesk pair DIR`."""

from __future__ import annotations

import argparse
from pathlib import Path

from vesk.cli import files
from vesk.cli.walked_json import walk_json
from vesk.dailies.folder import walk_folder


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("folder", type=Path, metavar="DIR")
    files.rate_option(parser)
    files.late_option(parser)
    files.json_option(parser)


def run(options: argparse.Namespace) -> int:
    """Pair by timecode, measure by sound, print."""
    walked = walk_folder(options.folder, files.cache(), rate=options.fps, late=dict(options.late), tell=files.tell)
    if options.json:
        files.show(walk_json(walked))
        return 0
    for one in walked.pairings:
        print(f"{one.picture} with {one.sound}: {one.verdict.text}")
    for item in walked.unpaired:
        print(f"{item.key}: unpaired, {item.reason}")
    for lost in walked.unusable:
        print(f"{lost.path}: {lost.says}")
    return 0
