"""How figures are written in sentences: one format for one kind of number, everywhere."""

from __future__ import annotations

from fractions import Fraction
from math import floor

MINUS = "\N{MINUS SIGN}"
_HOUR_S = 3600.0 - 0.05  # an hour of labels that skip numbers is 3.6 ms less


def signed(value: float, digits: int) -> str:
    """Write a number with its sign and a true minus; a zero carries none of its own.

    Parameters
    ----------
    value : float
        Any number.
    digits : int
        Decimal places.

    Examples
    --------
    >>> signed(1.319, 2), signed(-0.0004, 2)
    ('+1.32', '+0.00')
    """
    text = f"{abs(value):.{digits}f}"
    negative = value < 0 and float(text) != 0
    return (MINUS if negative else "+") + text


def how_late(seconds: float, fps: Fraction) -> str:
    """Write an error as words: ``1.32 frames late``.

    Parameters
    ----------
    seconds : float
        Positive is late.
    fps : Fraction
        Of the picture, frames a second.

    Examples
    --------
    >>> how_late(-0.04, Fraction(25))
    '1.00 frame early'
    """
    frames = seconds * float(fps)
    size = f"{abs(frames):.2f}"
    if float(size) == 0:
        return "in place"
    unit = "frame" if float(size) <= 1 else "frames"
    return f"{size} {unit} {'late' if frames > 0 else 'early'}"


def duration(seconds: float) -> str:
    """Write a span in the largest two units.

    Parameters
    ----------
    seconds : float
        Not negative.

    Examples
    --------
    >>> duration(3661), duration(75.2)
    ('1 h 1 min', '1 min 15 s')
    """
    whole = round(abs(seconds))
    if whole >= 3600:
        return f"{whole // 3600} h {whole % 3600 // 60} min"
    if whole >= 60:
        return f"{whole // 60} min {whole % 60} s"
    return f"{abs(seconds):.1f} s"


def counted(number: int, word: str) -> str:
    """Write how many there are of something whose plural ends in s.

    Examples
    --------
    >>> counted(1, "movie"), counted(0, "take")
    ('1 movie', '0 takes')
    """
    return f"{number} {word}{'' if number == 1 else 's'}"


def count(number: int) -> str:
    """Write a whole number with its thousands apart.

    Examples
    --------
    >>> count(1601).replace(chr(0x202F), " ")
    '1 601'
    """
    return f"{number:,}".replace(",", "\N{NARROW NO-BREAK SPACE}")


def in_frames(seconds: float, fps: Fraction) -> str:
    """Write a time as ``+1.32 f``, and what is an hour or more as ``+1 h 00 min 00 s 5 f``.

    Parameters
    ----------
    seconds : float
        Real seconds; positive is late.
    fps : Fraction
        Frames a second.
    """
    if abs(seconds) < _HOUR_S:
        return f"{signed(seconds * float(fps), 2)} f"
    whole = floor(abs(seconds) + 1e-6)
    left = round((abs(seconds) - whole) * float(fps))
    if left == round(fps):  # an hour of labels that skip numbers ends within a frame of one
        whole, left = whole + 1, 0
    minutes, second = divmod(whole, 60)
    hour, minute = divmod(minutes, 60)
    return f"{'+' if seconds > 0 else MINUS}{hour} h {minute:02} min {second:02} s {left} f"


def plain_cell(cell: str) -> str:
    """Return a text that no table program takes for a formula.

    Examples
    --------
    >>> plain_cell("=1+1"), plain_cell("31A")
    ("'=1+1", '31A')
    """
    return f"'{cell}" if cell.lstrip(" ").startswith(("=", "+", "-", "@", "\t", "\r", "\n")) else cell
