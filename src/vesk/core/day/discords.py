"""Evidence of single takes that cannot be true together: a clap on its picture, a slate by name, against sound.

Each says where a sound belongs as an interval of one line. Intervals that have no point in common hold two that do
not meet (Helly's theorem, 1923): the smallest set that cannot be true together is always a pair. So each witness is
held against what was found, and the two are named; three are needed for loops alone (`loops.py`).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping

from vesk.core.day.day import Match, Recorded
from vesk.core.day.lateness import ClapBound, Lateness
from vesk.core.day.solution import Contradiction
from vesk.core.kinds import Discord

_SURE = 0.95  # a clap that a person confirmed
_CLEAR = 0.8  # one that stands out: two of one take that say the same
_LEAST_AGREEING, _SHARE = 3, 0.75  # two devices whose slates mostly agree write them alike


def clap_against_ears(bounds: Iterable[ClapBound], ears: Lateness, tolerance_s: float) -> tuple[float, int, int] | None:
    """Return by how much the claps of one take lay its sound elsewhere than all claps and clocks of its camera do.

    A file can lose frames, or begin its sound late, where its camera never does. One clap says so where a person
    confirmed it, two where they agree with each other.

    Parameters
    ----------
    bounds : iterable of ClapBound
        What each clap of the take allows of its lateness.
    ears : Lateness
        Of the camera.
    tolerance_s : float

    Returns
    -------
    (float, int, int) or None
        How much later this take's scratch is than the camera's others, seconds, at least; how many claps say so, of
        how many. None where nothing does.
    """
    slack = tolerance_s + (ears.high_s - ears.low_s) / 2
    own = list(bounds)
    away = [max(0.0, one.low_s - ears.best_s - slack) + min(0.0, one.high_s - ears.best_s + slack) for one in own]
    for way in (1, -1):
        saying = [(one, off) for one, off in zip(own, away, strict=True) if off * way > 0 and one.likely >= _CLEAR]
        together = len(saying) > 1 and max(one.low_s for one, _ in saying) <= min(one.high_s for one, _ in saying)
        if together or any(one.likely >= _SURE for one, _ in saying):
            least = min(abs(off) for _, off in saying)
            return way * (least + slack), len(saying), len(own)
    return None


def slates_against_sound(
    recordings: Mapping[str, Recorded], matches: Iterable[Match]
) -> dict[tuple[str, str], Contradiction]:
    """Return pairings that sound decided whose slates say otherwise, of devices whose slates mostly agree.

    A sound that runs on over several takes bears the slate of one of them: it contradicts nothing.

    Parameters
    ----------
    recordings : mapping of str to Recorded
    matches : iterable of Match
        Those that sound decided.
    """
    told = [
        (one, recordings[one.picture], recordings[one.sound])
        for one in matches
        if recordings[one.picture].slate and recordings[one.sound].slate
    ]
    agreeing = Counter((own.device, other.device) for _, own, other in told if own.slate == other.slate)
    all_of = Counter((own.device, other.device) for _, own, other in told)
    borne = {(own.device, match.sound) for match, own, other in told if own.slate == other.slate}
    found = {}
    for match, own, other in told:
        pair = own.device, other.device
        usual = agreeing[pair] >= max(_LEAST_AGREEING, _SHARE * all_of[pair])
        if usual and own.slate != other.slate and (own.device, match.sound) not in borne:
            both = match.picture, match.sound
            name = f"{own.slate} on {own.device}, {other.slate} on {other.device}"
            found[both] = Contradiction(Discord.SLATE, own.device, (both,), 0.0, pattern=agreeing[pair], name=name)
    return found
