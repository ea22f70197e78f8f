"""`vesk conform DIR OUT`."""

from __future__ import annotations

import argparse
from pathlib import Path

from vesk.cli import files
from vesk.cli.walked_json import walk_json
from vesk.core.errors import RefusedError
from vesk.dailies.conforming import conform
from vesk.dailies.folder import walk_folder


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("folder", type=Path, metavar="DIR")
    parser.add_argument("out", type=Path, metavar="OUT", help="where the files and report.csv go; not inside DIR")
    files.rate_option(parser)
    files.late_option(parser)
    files.json_option(parser)


def run(options: argparse.Namespace) -> int:
    """Walk the folder and deliver every take that matched."""
    source, out = options.folder.resolve(), options.out.resolve()
    if source == out or source in out.parents:
        raise RefusedError(
            f"{options.out} lies inside the media folder. Choose another: nothing is written among originals."
        )
    walked = walk_folder(options.folder, files.cache(), rate=options.fps, late=dict(options.late), tell=files.tell)
    lines = conform(walked, out, files.cache(), tell=files.tell)
    if options.json:
        files.show({**walk_json(walked), "deliveries": lines})
        return 0
    for line in lines:
        print(
            line["picture"],
            line["file"] if line["delivered"] == "yes" else f"not delivered: {line.get('reason', '')}",
            sep=": ",
        )
    return 0
