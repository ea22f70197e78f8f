"""Recipes of turnovers, by production."""

from __future__ import annotations

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.store import changes
from vesk.store.tables import RecipeRow


def of_production(session: Session, production_id: int) -> list[RecipeRow]:
    """Return a production's recipes by name."""
    query = select(RecipeRow).where(RecipeRow.production_id == production_id)
    return list(session.exec(query.order_by(col(RecipeRow.name))))


def named(session: Session, production_id: int, name: str) -> RecipeRow | None:
    """Return the recipe of a name; None where there is none."""
    query = select(RecipeRow).where(RecipeRow.production_id == production_id, RecipeRow.name == name)
    return session.exec(query).first()


def get_for_change(session: Session, recipe_id: int, version: int) -> RecipeRow:
    """Return a recipe; refuse if somebody changed it since `version` was shown."""
    row = session.get(RecipeRow, recipe_id)
    if row is None:
        raise NotFoundError("That recipe is not here any more. Load the page again.")
    changes.compare(row, version, f"the recipe {row.name}")
    return row
