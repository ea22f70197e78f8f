"""Pictures that labels alone lay beside the wrong files of a device: sound heard both, and found nothing common."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from vesk.core.kinds import REFUSED
from vesk.core.sound.measurement import Measurement


@dataclass(frozen=True, slots=True)
class Outcome:
    """A pairing that was measured.

    Attributes
    ----------
    picture : str
        Its picture.
    sound_source : str
        The device that made its sound.
    found : Measurement or None
        None before it was measured.
    by_person : bool
        Whether somebody said that the two belong together, corrected or checked it.
    """

    picture: str
    sound_source: str
    found: Measurement | None
    by_person: bool = False


def find_astray(outcomes: Iterable[Outcome]) -> dict[str, set[str]]:
    """Find the pictures whose sound is to be searched for though labels gave them partners.

    A clock that is an hour off lays a camera's takes beside the recorder's of an hour later: where every file of a
    device that labels lay on a picture was heard to share nothing with it, its own may be another of that device.

    Parameters
    ----------
    outcomes : iterable of Outcome
        All pairings that stand.

    Returns
    -------
    dict of str to set of str
        For each such picture, the devices among whose other files its sound may be.
    """
    refused: dict[str, set[str]] = {}
    others: dict[str, set[str]] = {}
    for one in outcomes:
        heard = one.found is not None and one.found.decision == REFUSED and not one.found.unheard
        where = refused if heard and not one.by_person else others
        where.setdefault(one.picture, set()).add(one.sound_source)
    left = {picture: sources - others.get(picture, set()) for picture, sources in refused.items()}
    return {picture: sources for picture, sources in left.items() if sources}
