"""Columns with a type of their own: exact times, words of an enumeration, values kept as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from fractions import Fraction
from typing import Any, Generic, TypeVar

from sqlalchemy import String, TypeDecorator
from sqlalchemy.dialects.postgresql import JSONB

from vesk.core.plain import Plain

T = TypeVar("T")
W = TypeVar("W", bound=StrEnum)


class ExactTime(TypeDecorator[Fraction]):
    """A fraction in one text column, ``num/den``: exact, and readable in the database."""

    impl = String
    cache_ok = True

    def process_bind_param(self, value: Fraction | None, dialect: object) -> str | None:  # noqa: ARG002
        """Write ``num/den``."""
        return None if value is None else f"{value.numerator}/{value.denominator}"

    def process_result_value(self, value: str | None, dialect: object) -> Fraction | None:  # noqa: ARG002
        """Read ``num/den``."""
        return None if value is None else Fraction(value)


class Word(TypeDecorator[W], Generic[W]):
    """A word of an enumeration, as text; empty where none applies."""

    impl = String
    cache_ok = True

    def __init__(self, words: type[W]) -> None:
        self.words = words
        super().__init__()

    def process_bind_param(self, value: W | str | None, dialect: object) -> str | None:  # noqa: ARG002
        """Write the word; one that the enumeration lacks is refused."""
        return None if value is None else str(self.words(value)) if value else ""

    def process_result_value(self, value: str | None, dialect: object) -> Any:  # noqa: ARG002
        """Read the word."""
        return self.words(value) if value else value


class Json(TypeDecorator[T], Generic[T]):
    """A value kept as JSON with its version, validated when it is read."""

    impl = JSONB(none_as_null=True)
    cache_ok = True

    def __init__(self, plain: Plain[T]) -> None:
        self.plain = plain
        super().__init__()

    def process_bind_param(self, value: T | None, dialect: object) -> dict[str, Any] | None:  # noqa: ARG002
        """Write its fields and the version."""
        return None if value is None else self.plain.dump(value)

    def process_result_value(self, value: Mapping[str, Any] | None, dialect: object) -> T | None:  # noqa: ARG002
        """Read and validate them."""
        return None if value is None else self.plain.load(value)
