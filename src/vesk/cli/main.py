"""`vesk COMMAND`: finds the command's module and runs it."""

from __future__ import annotations

import argparse
import sys
from importlib import import_module

from vesk.core.errors import VeskError

COMMANDS = {
    "demo": "build the demo day and serve it",
    "serve": "serve an empty Vesk that may read a folder of yours",
    "account": "make and end accounts, for people on other machines",
    "work": "run workers, here or on another machine",
    "status": "say what runs",
    "stop": "end what runs",
    "backup": "write database and settings into one file, while everything runs",
    "restore": "bring a backup into a Vesk that holds nothing yet",
    "adopt": "make a database that was moved, copied or lost its secret this Vesk's own",
    "simulate": "make the media of a scenario",
    "probe": "print what files say of themselves",
    "measure": "measure one sound file against one picture file",
    "ltc": "decode the timecode on a file's sound channels",
    "intake": "say what is in a folder: facts, clocks, what is odd",
    "sync-points": "find the claps of a file, heard and seen",
    "pair": "pair and measure a folder",
    "conform": "pair, measure, correct and deliver a folder",
    "benchmark": "measure accuracy and speed against the simulator's truth",
}
SHORT = {"benchmark": "bench"}


def _sentence(words: str) -> str:
    return f"{words[0].upper()}{words[1:]}."


def main(arguments: list[str] | None = None) -> int:
    """Run a command; returns its exit code."""
    parser = argparse.ArgumentParser(prog="vesk", description="Conform dailies.")
    chosen = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for name, words in COMMANDS.items():
        short = SHORT.get(name, name)
        own = chosen.add_parser(name, aliases=[short] * (short != name), help=words, description=_sentence(words))
        # Only the asked command's module is loaded: `status` needs no SciPy.
        if (arguments or sys.argv[1:])[:1] in ([name], [short]):
            module = import_module("vesk.cli." + name.replace("-", "_"))
            module.arguments(own)
            own.set_defaults(run=module.run)
    options = parser.parse_args(arguments)
    try:
        return int(options.run(options) or 0)
    except VeskError as error:
        print(f"vesk: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        return 1
