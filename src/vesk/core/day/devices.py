"""Which recordings one device made: what is filed as one device's cannot have been made at one moment.

Folders, names and what files say of themselves propose (`core.intake.devices`). Two recordings of one device that
sound lays over the same real time prove two devices. Which of its other recordings are whose, the clock says: those of
one device stand alike against the same recorder; where nothing says, one device goes on where it left off.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from vesk.core.day.day import Day

_OVERLAP_S = 0.5
_ALIKE_S = 0.002  # microphones move by half a metre
_HINT_S = 0.05
_OWN = "own time of "
_ANY_S = 1e6


@dataclass(slots=True)
class Laid:
    """Where a recording lies in real time.

    Attributes
    ----------
    lines : dict of str to (float, float)
        From when to when, on the own time of each recording that heard the same, and on that one's device's clock.
        Only what lies on one line can be compared.
    at_s : float
        When it begins, roughly: for the order.
    apart_s : list of float
        How its clock stands against those of all its partners.
    hint : str
        What it tells of its device.
    """

    lines: dict[str, tuple[float, float]]
    hint: str
    at_s: float = 0.0
    apart_s: list[float] = field(default_factory=list)


def tell_apart(day: Day) -> dict[str, str]:
    """Return the device of each recording: the tag it was filed under, or one of several that shared it.

    Parameters
    ----------
    day : Day

    Returns
    -------
    dict of str to str
        By the recording's key; of a tag that several devices share: the tag, then the tag with a number from 2 on.
    """
    given = {one.key: one.device for one in day.recordings}
    laid = _laid(day)
    by_tag: dict[str, list[str]] = {}
    for one in sorted(day.recordings, key=lambda one: one.key):
        by_tag.setdefault(one.device, []).append(one.key)
    for tag, keys in by_tag.items():
        known = [key for key in keys if key in laid]
        if not _any_meet([laid[key] for key in known]):
            continue
        for number, own in enumerate(_chains(known, laid)):
            for key in own:
                given[key] = tag if number == 0 else f"{tag} {number + 1}"
    return given


def _laid(day: Day) -> dict[str, Laid]:
    """Lay recordings of either kind on the clocks of the devices that heard the same."""
    recordings = {one.key: one for one in day.recordings}
    found: dict[str, Laid] = {}

    def keep(key: str, partner: str, begins: float) -> None:
        own, other = recordings[key], recordings[partner]
        laid = found.setdefault(key, Laid({}, own.hint))
        laid.lines[f"{_OWN}{partner}"] = begins, begins + own.duration_s
        laid.at_s = begins
        if other.start is not None:
            begun = float(other.start) + begins
            laid.at_s = begun
            laid.lines[other.device] = begun, begun + own.duration_s
            if own.start is not None:
                laid.apart_s.append(day.wrapped_s(float(own.start - other.start)) - begins)

    for match in sorted(day.matches, key=lambda one: (one.picture, one.sound)):
        if match.sure and match.picture in recordings and match.sound in recordings:
            keep(match.picture, match.sound, -match.at_head_s)
            keep(match.sound, match.picture, match.at_head_s)
    return found


def _meet(one: Laid, other: Laid) -> bool:
    return any(
        min(one.lines[line][1], other.lines[line][1]) - max(one.lines[line][0], other.lines[line][0]) > _OVERLAP_S
        for line in one.lines.keys() & other.lines.keys()
    )


def _any_meet(laid: Sequence[Laid]) -> bool:
    """Say whether any two of many meet: one pass along each line, since a day has hundreds."""
    on_line: dict[str, list[tuple[float, float]]] = {}
    for one in laid:
        for line, span in one.lines.items():
            on_line.setdefault(line, []).append(span)
    for spans in on_line.values():
        ends = -_ANY_S
        for begins, until in sorted(spans):
            if min(ends, until) - begins > _OVERLAP_S:
                return True
            ends = max(ends, until)
    return False


def _chains(keys: Sequence[str], laid: Mapping[str, Laid]) -> list[list[str]]:
    """Give recordings to as few devices as there must be, each to the one whose clock stands like its own."""
    chains: list[list[str]] = []
    for key in sorted(keys, key=lambda key: (laid[key].at_s, key)):
        free = [own for own in chains if not any(_meet(laid[key], laid[other]) for other in own)]
        chosen = min(free, key=lambda own: _unlike(laid[key], laid[own[-1]]), default=None)
        if chosen is None:
            chains.append([key])
        else:
            chosen.append(key)
    return sorted(chains, key=lambda own: (-len(own), own[0]))


def _unlike(one: Laid, other: Laid) -> float:
    """Return how unlike two recordings' clocks stand, seconds: each against its partners, whichever these are."""
    hint = _HINT_S if one.hint != other.hint else 0.0
    if not one.apart_s or not other.apart_s:
        return hint + (_ANY_S if bool(one.apart_s) != bool(other.apart_s) else 0.0)
    away = min(abs(a - b) for a in one.apart_s for b in other.apart_s)  # a partner's own clock may drift
    return hint + (0.0 if away < _ALIKE_S else away)
