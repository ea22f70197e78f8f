"""Numbers as people and files write them: one reader for all of Vesk, exact and bounded.

Python reads ``1e200000000`` as a fraction of two hundred million digits, and a text of five thousand digits not at
all. What comes from a form, a tag or a report passes here first.
"""

from __future__ import annotations

import re
from fractions import Fraction

from vesk.core.errors import NumberError

_LONGEST = 40
_DECIMAL = re.compile(r"([+-]?)(\d{0,15})(?:\.(\d{0,15}))?", re.ASCII)
_RATIO = re.compile(r"([+-]?\d{1,15})/(\d{1,15})", re.ASCII)
_WHOLE = re.compile(r"[+-]?\d{1,15}", re.ASCII)
LARGEST_ID = 2**31 - 1


def _plain(text: str) -> str:
    return text.strip().replace("\N{MINUS SIGN}", "-").replace(",", ".") if len(text) <= _LONGEST else ""


def read_number(text: str, *, least: Fraction | int | None = None, most: Fraction | int | None = None) -> Fraction:
    """Read a decimal number or a ratio, exactly.

    Parameters
    ----------
    text : str
        Like ``-1.25``, ``1,25``, ``24000/1001``; no powers of ten, at most 15 digits on either side.
    least, most : Fraction or int, optional
        The number lies between them, both included.

    Raises
    ------
    NumberError
        If it is no such number, or out of bounds.

    Examples
    --------
    >>> read_number("-1,25"), read_number("24000/1001")
    (Fraction(-5, 4), Fraction(24000, 1001))
    """
    plain = _plain(text)
    ratio, decimal = _RATIO.fullmatch(plain), _DECIMAL.fullmatch(plain)
    if ratio is not None and int(ratio[2]):
        value = Fraction(int(ratio[1]), int(ratio[2]))
    elif decimal is not None and (decimal[2] or decimal[3]):
        after = decimal[3] or ""
        value = Fraction(int(decimal[1] + (decimal[2] + after)), 10 ** len(after))
    else:
        raise NumberError(shortened(text), "is not a number; write it like -1.25")
    return _within(value, text, least, most)


def read_whole(text: str, *, least: int = 0, most: int = LARGEST_ID) -> int:
    """Read a whole number between two bounds, both included.

    Parameters
    ----------
    text : str
        As it was typed or sent.
    least : int
        Smallest value let pass.
    most : int
        Largest value let pass.

    Raises
    ------
    NumberError
        If it is no whole number, or out of bounds.

    Examples
    --------
    >>> read_whole(" 17 ")
    17
    """
    plain = _plain(text)
    if _WHOLE.fullmatch(plain) is None:
        raise NumberError(shortened(text), "is not a whole number")
    return int(_within(Fraction(int(plain)), text, least, most))


def _within(value: Fraction, text: str, least: Fraction | int | None, most: Fraction | int | None) -> Fraction:
    if least is not None and value < least:
        raise NumberError(shortened(text), f"is too small: {float(least):.15g} at least")
    if most is not None and value > most:
        raise NumberError(shortened(text), f"is too large: {float(most):.15g} at most")
    return value


def shortened(text: str, most: int = _LONGEST) -> str:
    """Return a text in quotes as a sentence can carry it, however long it is.

    Parameters
    ----------
    text : str
        Of any length.
    most : int
        Characters kept.

    Examples
    --------
    >>> shortened("9" * 5000)[:8], len(shortened("9" * 5000))
    ("'9999999", 42)
    """
    return repr(text if len(text) <= most else text[: most - 1] + "…")
