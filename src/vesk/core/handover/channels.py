"""Which channels of a recorder go out, and in which order."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

from vesk.core.errors import RefusedError

ALL, MIX = "all", "mix"
_LIST = re.compile(r"\d{1,3}(?:\s*,\s*\d{1,3})*")
_MIXED = re.compile(r"\bmix|\bmono\b|\bstereo\b|^l$|^r$", re.IGNORECASE)


def chosen_channels(said: str, names: Sequence[str], coded: Collection[int]) -> tuple[int, ...]:
    """Return which channels go out, from 0.

    Parameters
    ----------
    said : str
        ``all`` (but timecode), ``mix`` (those named so, else the first), numbers from 1 in the order wanted, or
        nothing: all. A number may stand twice: one side to both.
    names : sequence of str
        Of the channels.
    coded : collection of int
        Channels that carry timecode, from 0: they never go out as sound.

    Raises
    ------
    RefusedError
        If a channel is not there, or only timecode would be left.

    Examples
    --------
    >>> chosen_channels("", ("mix", "boom", "LTC"), {2})
    (0, 1)
    >>> chosen_channels("mix", ("mix L", "mix R", "boom"), ())
    (0, 1)
    >>> chosen_channels("2,2", ("mix", "boom"), ())
    (1, 1)
    """
    word = said.strip().lower()
    heard = [n for n in range(len(names)) if n not in coded]
    if word in {"", ALL}:
        chosen = heard
    elif word == MIX:
        chosen = [n for n in heard if _MIXED.search(names[n].strip())] or heard[:1]
    elif _LIST.fullmatch(word):
        chosen = [int(number) - 1 for number in word.split(",")]
        away = [n + 1 for n in chosen if not 0 <= n < len(names)]
        if away:
            raise RefusedError(f"channel {away[0]} is not there: it has {len(names)}")
        chosen = [n for n in chosen if n not in coded]
    else:
        raise RefusedError(f"{said!r} names no channels: write all, mix, or numbers as 1,3")
    if not chosen:
        raise RefusedError("none of its channels would go out: they carry timecode, or it has none")
    return tuple(chosen)
