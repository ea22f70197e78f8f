"""Names of the files that are handed over, by a pattern of words in braces."""

from __future__ import annotations

import re
from collections.abc import Mapping

from vesk.core.errors import RefusedError

FIELDS = ("picture", "scene", "take", "camera", "sound", "recorder", "reel", "day", "date", "channel", "track")
_FIELD = re.compile(r"\{([a-z]+)\}")
_UNFIT = re.compile(r'[\x00-\x1f<>:"/\\|?*]+')
_LONGEST = 120
_DEVICES = re.compile(r"(?:con|prn|aux|nul|com\d|lpt\d)(?:\..*)?", re.IGNORECASE)


def check_pattern(pattern: str) -> str:
    """Return a pattern, tidied.

    Raises
    ------
    RefusedError
        If it is empty, too long, or asks for a word that is none.
    """
    tidy = " ".join(pattern.split())
    unknown = [name for name in _FIELD.findall(tidy) if name not in FIELDS]
    if unknown:
        raise RefusedError(f"{{{unknown[0]}}} is no word of a pattern; there are {', '.join(FIELDS)}.")
    if not _FIELD.search(tidy) or len(tidy) > _LONGEST or "{" in _FIELD.sub("", tidy) or "}" in _FIELD.sub("", tidy):
        raise RefusedError("A pattern has at least one word in braces, like {picture} or {scene}-{take}_{track}.")
    return tidy


def named(pattern: str, values: Mapping[str, str]) -> str:
    """Return a file's name without its ending: every word filled, what no file system takes left out.

    Parameters
    ----------
    pattern : str
        Checked.
    values : mapping of str to str
        What the words stand for; a word that nothing is known of falls away with what joins it.

    Examples
    --------
    >>> named("{scene}-{take}_{track}", {"scene": "31A", "take": "2", "track": "boom"})
    '31A-2_boom'
    >>> named("{scene}-{take}_{picture}", {"picture": "A/6"})
    'A_6'
    """
    filled = _FIELD.sub(lambda found: values.get(found[1], "").strip(), pattern)
    tidy = re.sub(r"([-_. ])[-_. ]+", r"\1", _UNFIT.sub("_", filled)).strip("-_. ")
    tidy = tidy[:_LONGEST].rstrip("-_. ")
    if not tidy:
        return values.get("picture") or "take"
    return f"_{tidy}" if _DEVICES.fullmatch(tidy) else tidy
