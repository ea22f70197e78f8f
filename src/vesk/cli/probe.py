"""`vesk probe FILE...`."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from vesk.cli import files
from vesk.core.errors import MediaError
from vesk.core.facts import FACTS
from vesk.media.probe import read_facts


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("file", nargs="+", type=Path)
    files.json_option(parser)


def run(options: argparse.Namespace) -> int:
    """Print each file's facts; exit 1 if one cannot be read."""
    results: list[dict[str, Any]] = []
    for path in options.file:
        try:
            facts = read_facts(path)
            results.append({"path": str(path), "kind": facts.kind, "facts": FACTS.fields(facts)})
        except MediaError as error:
            results.append({"path": str(path), "error": str(error)})
    if options.json:
        files.show(results)
    else:
        for result in results:
            print(result["path"])
            for name, value in (result.get("facts") or {"error": result.get("error")}).items():
                if value not in (None, "", [], 0):
                    print(f"  {name:15} {value}")
    return int(any("error" in result for result in results))
