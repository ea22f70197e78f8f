"""Bring the database to the present schema."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config

HERE = Path(__file__).parent / "migrations"


def config(url: str) -> Config:
    """Return the migration settings for a SQLAlchemy address."""
    made = Config()
    made.set_main_option("script_location", str(HERE))
    made.set_main_option("path_separator", "os")
    made.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return made


def to_head(url: str) -> None:
    """Apply what is missing."""
    command.upgrade(config(url), "head")
