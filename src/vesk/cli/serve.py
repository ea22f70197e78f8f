"""`vesk serve --media FOLDER`: an empty Vesk that may read that folder."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from vesk.core.errors import MediaError
from vesk.services import supervisor
from vesk.settings import Settings, from_environment


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument(
        "--media", type=Path, action="append", required=True, help="a folder that may be read (repeatable)"
    )
    parser.add_argument("--workers", type=int, default=supervisor.cores())


def run(options: argparse.Namespace) -> int:
    """Serve until Ctrl-C."""
    for folder in options.media:
        if not folder.is_dir():
            raise MediaError(folder, "there is no such folder", "Name the folder that holds the day's media.")
    roots = tuple(folder.resolve() for folder in options.media)
    settings = replace(from_environment(), media_roots=roots)
    return serve(settings, options.workers, "serve")


def serve(
    settings: Settings,
    workers: int,
    kind: str,
    prepare: Callable[[Settings, supervisor.Steps], object] = lambda _settings, _steps: None,
) -> int:
    """Start everything, let `prepare` fill it, and stay until asked to end."""
    supervisor.take_folder(settings)
    supervisor.stop_on_signals()
    steps = supervisor.Steps()
    running = supervisor.Running(settings, kind)
    try:
        running.settings, running.own = supervisor.database(settings, steps)
        running.start_web()
        running.start_workers(workers)
        running.note()
        prepare(running.settings, steps)
        steps("waiting for the web server", running.wait_for_web)
        print(
            f"\nVesk is at http://127.0.0.1:{running.port}/   ({steps.elapsed:.1f} s; Ctrl-C ends it)\n",
            flush=True,
        )
        running.watch()
    except KeyboardInterrupt:
        print("\nending web server, workers and database … ", end="", flush=True)
        running.end()
        print("done", flush=True)
        return 0
    except BaseException:
        running.end()
        raise
    return 0
