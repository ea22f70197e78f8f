"""What every table is."""

from pydantic import ConfigDict
from sqlmodel import SQLModel


class Row(SQLModel):
    """A row of a table. The database holds its values; nothing that would validate them is built, which takes long."""

    model_config = ConfigDict(defer_build=True, arbitrary_types_allowed=True)  # type: ignore[assignment]
