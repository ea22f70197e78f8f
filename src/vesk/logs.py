"""The logs of Vesk's processes: a file each, with time, level, process and job on every line, rotated."""

from __future__ import annotations

import logging
import sys
from contextvars import ContextVar
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType

MOST_BYTES, KEPT = 2_000_000, 5
JOB: ContextVar[str] = ContextVar("job", default="-")  # what this process works on just now
_FORMAT = "%(asctime)s %(levelname)-7s %(process_name)s [%(job)s] %(name)s: %(message)s"


class _Names(logging.Filter):
    """Puts the process's name and its present job on every record."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self._own = name

    def filter(self, record: logging.LogRecord) -> bool:
        record.process_name, record.job = self._own, JOB.get()
        return True


def file_of(var: Path, name: str) -> Path:
    """Return where a process's log lies."""
    return var / "logs" / f"{name}.log"


def keep(var: Path, name: str, *, level: int = logging.INFO) -> None:
    """Keep this process's log from here on, what ends it too; where its file cannot be written, on standard error."""
    handler: logging.Handler
    try:
        file_of(var, name).parent.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(file_of(var, name), maxBytes=MOST_BYTES, backupCount=KEPT, encoding="utf-8")
    except OSError:
        handler = logging.StreamHandler()
    handler.setFormatter(logging.Formatter(_FORMAT))
    handler.addFilter(_Names(name))
    root = logging.getLogger()
    root.handlers[:] = [handler]
    root.setLevel(level)
    for loud in ("procrastinate", "werkzeug", "sqlalchemy", "alembic", "waitress.queue"):
        logging.getLogger(loud).setLevel(logging.WARNING)
    logging.captureWarnings(capture=True)

    def ended(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if not issubclass(kind, KeyboardInterrupt):
            logging.getLogger("vesk").critical("the process ends", exc_info=(kind, error, trace))
        sys.__excepthook__(kind, error, trace)

    sys.excepthook = ended
