"""How columns are declared, once for all tables."""

from __future__ import annotations

from datetime import UTC, datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import Column, DateTime

from vesk.core.plain import Plain
from vesk.store.typed import ExactTime, Json, Word


def now() -> datetime:
    """Return the present moment."""
    return datetime.now(UTC)


def exact(*, nullable: bool = False) -> Any:
    """Return a column that holds an exact time."""
    return Column(ExactTime, nullable=nullable)


def word(words: type[StrEnum], *, nullable: bool = False) -> Any:
    """Return a column that holds a word of an enumeration."""
    return Column(Word(words), nullable=nullable)


def json(plain: Plain[Any]) -> Any:
    """Return a column that holds a value as JSON, or NULL."""
    return Column(Json(plain), nullable=True)


def moment(*, nullable: bool = False) -> Any:
    """Return a column that holds when something was."""
    return Column(DateTime(timezone=True), nullable=nullable)
