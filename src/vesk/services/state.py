"""What runs: written by the process that started it, read by `status` and `stop`."""

from __future__ import annotations

import fcntl
import json
import os
from pathlib import Path
from typing import IO, Any

_held: list[IO[str]] = []


def take(var: Path) -> bool:
    """Take Vesk's folder for this process until it ends; False where another has it: of two starts, one gets it."""
    var.mkdir(parents=True, exist_ok=True)
    lock = (var / "vesk.lock").open("a+", encoding="utf-8")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        lock.close()
        return False
    _held.append(lock)  # let go by the kernel, however this process ends
    return True


def file(var: Path) -> Path:
    """Return where it is written."""
    return var / "run.json"


def write(var: Path, values: dict[str, Any]) -> None:
    """Write what runs."""
    var.mkdir(parents=True, exist_ok=True)
    part = file(var).with_suffix(".part")
    part.write_text(json.dumps(values, indent=1), encoding="utf-8")
    part.replace(file(var))


def read(var: Path) -> dict[str, Any]:
    """Read what runs; empty when nothing was written or it is damaged."""
    try:
        values = json.loads(file(var).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return values if isinstance(values, dict) else {}


def started_at(pid: int) -> str:
    """Return when a process started, in the kernel's own ticks; empty when it does not run.

    Together with its number this names a process for good: numbers are used again.
    """
    try:
        text = Path(f"/proc/{pid}/stat").read_text(encoding="ascii", errors="replace")
    except OSError:
        return ""
    fields = text.rsplit(")", 1)[1].split()
    # Killed but not yet reaped is not running.
    return "" if fields[0] in {"Z", "X"} else fields[19]


def alive(values: dict[str, Any]) -> bool:
    """Say whether the process that wrote this still runs."""
    pid = values.get("pid")
    return isinstance(pid, int) and pid > 0 and started_at(pid) != "" and started_at(pid) == values.get("started")


def clear(var: Path) -> None:
    """Forget what ran."""
    values = read(var)
    if values.get("pid") in {os.getpid(), None} or not alive(values):
        file(var).unlink(missing_ok=True)
