"""Connections to the database."""

from __future__ import annotations

from functools import lru_cache

from sqlalchemy import Engine, create_engine
from sqlmodel import Session


@lru_cache(maxsize=8)
def engine(url: str) -> Engine:
    """Return the process's engine for a SQLAlchemy address."""
    return create_engine(url, pool_size=8, max_overflow=16, pool_pre_ping=True)


def open_session(url: str) -> Session:
    """Open a session; whoever opens it commits and closes it."""
    return Session(engine(url), expire_on_commit=False)
