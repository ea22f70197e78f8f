"""What file names say: patterns that people can read and edit."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache
from itertools import pairwise

from vesk.core.errors import NamingError

# What each word in braces stands for; everything outside braces is taken as it is written.
TOKENS = {
    "roll": r"[A-Z]{1,3}\d{1,4}",
    "clip": r"\d{3,6}",
    "scene": r"\d{1,4}[A-Z]*|WT\d*|[A-Z]+\d+",  # six digits and eight are a date
    "slate": r"\d{1,4}[A-Z]*",
    "take": r"\d{1,3}",
    "part": r"[a-z]",
    "track": r"[A-Za-z][A-Za-z0-9 ]*|\d{1,2}",
    "any": r".*?",
}
DEFAULT_PATTERNS = (
    "{roll}_{clip}", "{roll}_C{clip}", "{roll}_C{clip}_{any}", "{roll}C{clip}_{any}",
    "{scene}_{take}{part}", "{scene}_{take}_{track}", "{scene}_{take}-{any}", "{scene}_{take}",
)  # fmt: skip


@lru_cache(maxsize=256)
def compiled(pattern: str) -> re.Pattern[str]:
    """Turn a pattern into a regular expression.

    Raises
    ------
    NamingError
        If it names a token that does not exist, names one twice, or has none.
    """
    pieces, seen, at = [], set(), 0
    for found in re.finditer(r"\{(\w*)\}", pattern):
        name = found[1]
        if name not in TOKENS:
            known = ", ".join(f"{{{token}}}" for token in TOKENS)
            raise NamingError(f"{{{name}}} is nothing that a file name holds. There are {known}.")
        if name in seen:
            raise NamingError(f"{{{name}}} stands twice in {pattern!r}: it can have one value only.")
        seen.add(name)
        pieces += [re.escape(pattern[at : found.start()]), f"(?P<{name}>{TOKENS[name]})"]
        at = found.end()
    if not seen - {"any"}:
        raise NamingError(f"{pattern!r} catches nothing: put a word in braces, like {{scene}}_{{take}}.")
    return re.compile("".join(pieces) + re.escape(pattern[at:]))


def read_name(stem: str, patterns: Sequence[str] = DEFAULT_PATTERNS) -> dict[str, str]:
    """Return what the first pattern that fits a whole file name (without its ending) catches; empty when none does.

    Parameters
    ----------
    stem : str
        File name without its ending.
    patterns : sequence of str
        Tried in order; the first that fits all of the name counts.

    Examples
    --------
    >>> read_name("A006_003"), read_name("31A_02"), read_name("270319_004")
    ({'roll': 'A006', 'clip': '003'}, {'scene': '31A', 'take': '02'}, {})
    """
    for pattern in patterns:
        found = compiled(pattern).fullmatch(stem)
        if found:
            return {name: value for name, value in found.groupdict().items() if value and name != "any"}
    return {}


def missing_numbers(numbers: Sequence[int], *, most: int = 50) -> list[int]:
    """Return the numbers that lack in a sequence; a gap longer than `most` is another sequence, not a loss.

    Examples
    --------
    >>> missing_numbers([1, 2, 5, 300])
    [3, 4]
    """
    present = sorted(set(numbers))
    return [n for a, b in pairwise(present) if b - a <= most for n in range(a + 1, b)]
