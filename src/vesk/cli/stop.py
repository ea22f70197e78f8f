"""`vesk stop`: end what runs."""

from __future__ import annotations

import argparse
import os
import signal
import time

from vesk.cli.status import places
from vesk.services import cluster, keeping, state


def arguments(parser: argparse.ArgumentParser) -> None:
    """Take no options."""
    del parser


def run(options: argparse.Namespace) -> int:
    """End the supervisor, which ends its children; then a database that was left over."""
    del options
    ended = False
    for var in places():
        values = state.read(var)
        if state.alive(values):
            os.kill(values["pid"], signal.SIGTERM)
            deadline = time.monotonic() + 15
            while state.alive(values) and time.monotonic() < deadline:
                time.sleep(0.1)
            print(f"{values['kind']} ended" if not state.alive(values) else f"{values['kind']} is still ending")
            ended = True
        data = keeping.found_at(var)
        if data is not None and cluster.stop(keeping.Cluster(data)):
            print("database stopped")
            ended = True
    if not ended:
        print("Nothing ran.")
    return 0
