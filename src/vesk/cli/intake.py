"""`vesk intake DIR`."""

from __future__ import annotations

import argparse
from pathlib import Path

from vesk.actions.reports import from_file
from vesk.cli import files
from vesk.cli.known_json import known_json
from vesk.core.kinds import ReportKind
from vesk.dailies.folder import walk_folder


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("folder", type=Path, metavar="DIR")
    for kind in ReportKind:
        parser.add_argument(f"--{kind}-report", type=Path, action="append", default=[], metavar="CSV",
                            help=f"a {kind} report to lay beside the files")  # fmt: skip
    files.rate_option(parser)
    files.json_option(parser)


def run(options: argparse.Namespace) -> int:
    """Read every file, listen to it, and print what is known and what is odd."""
    reports = [from_file(path, kind) for kind in ReportKind for path in getattr(options, f"{kind}_report")]
    walked = walk_folder(
        options.folder, files.cache(), rate=options.fps, tell=files.tell, measure=False, reports=reports
    )
    if options.json:
        files.show(known_json(walked))
        return 0
    for tag, choice in sorted(walked.known.clocks.items()):
        count = sum(one.item.source == tag for one in walked.known.recordings.values())
        print(f"{tag}: {count} recordings; clock: {choice.clock} ({choice.reason})")
    for one in walked.known.oddities:
        print(f"{one.kind}: {one.says}. {one.do}")
    return 0
