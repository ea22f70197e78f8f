"""Alembic's entry: connect and migrate."""

from __future__ import annotations

from typing import Any

from alembic import context
from sqlalchemy import create_engine
from sqlmodel import SQLModel

from vesk.store import accounts, briefs, machines, presence, tables, trail  # noqa: F401 - fill the metadata


def _ours(_object: Any, name: str | None, *_: Any) -> bool:
    return not (name or "").startswith("procrastinate_")


engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=SQLModel.metadata, include_object=_ours)
    with context.begin_transaction():
        context.run_migrations()
    connection.commit()
engine.dispose()
