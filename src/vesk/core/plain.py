"""Values as plain JSON and back: validated as they are read, with the version that wrote them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property
from typing import Any, Generic, TypeVar

from pydantic import TypeAdapter, ValidationError

from vesk.core.errors import KeptError

T = TypeVar("T")
_VERSION = "version"


def _same(values: dict[str, Any]) -> dict[str, Any]:
    return values


class Plain(Generic[T]):
    """How one kind of value lies in JSON: its fields by name, fractions as ``"num/den"``.

    Parameters
    ----------
    kind : type
        A frozen dataclass.
    version : int
        Of what is written; what an older version wrote is read by `since`.
    pack, unpack : callable
        From the fields to a closer form and back, where fields by name would be long.
    since : mapping of int to callable
        What brings the values of each older version to the next one.
    """

    def __init__(
        self,
        kind: type[T],
        version: int = 1,
        *,
        pack: Callable[[dict[str, Any]], dict[str, Any]] = _same,
        unpack: Callable[[dict[str, Any]], dict[str, Any]] = _same,
        since: Mapping[int, Callable[[dict[str, Any]], dict[str, Any]]] | None = None,
    ) -> None:
        self.kind, self.version = kind, version
        self._pack, self._unpack, self._since = pack, unpack, since or {}

    @cached_property
    def _adapter(self) -> TypeAdapter[T]:
        return TypeAdapter(self.kind)

    def fields(self, value: T) -> dict[str, Any]:
        """Return a value as plain JSON, to be shown."""
        return self._pack(self._adapter.dump_python(value, mode="json"))

    def dump(self, value: T) -> dict[str, Any]:
        """Return a value as plain JSON, to be kept: with the version."""
        return {_VERSION: self.version, **self.fields(value)}

    def load(self, values: Mapping[str, Any]) -> T:
        """Return the value that was kept; one without a version is of the first.

        Parameters
        ----------
        values : dict of str to Any
            As `dump` wrote them, in this version or one before.

        Raises
        ------
        KeptError
            If it is not what this version, or one before it, writes.
        """
        own = dict(values)
        written = own.pop(_VERSION, 1)
        if not isinstance(written, int) or written > self.version:
            raise KeptError(self.kind.__name__, f"a later version of Vesk wrote it ({written})")
        for older in range(written, self.version):
            own = self._since[older](own)
        try:
            return self._adapter.validate_python(self._unpack(own))
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(map(str, first["loc"])) or "all of it"
            raise KeptError(self.kind.__name__, f"{where}: {first['msg']}") from error
