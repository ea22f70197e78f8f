"""Takes of another day that were left on a card: by the dates in their files, where labels lay them over this day's."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime

from vesk.core.intake.filed import Filed
from vesk.core.kinds import NONE

_DAY_S = 86_400.0
_DATE = re.compile(r"(\d{4})[-:/.](\d\d)[-:/.](\d\d)(?:[T ](\d\d):(\d\d):(\d\d))?")
_AT_MOST = 31  # days: a clock that nobody set is years off


def find_other_days(recordings: Sequence[Filed]) -> dict[str, date]:
    """Find what a device made on another day than the one that is asked for.

    A device's date may be wrong, in UTC, or turn at midnight: none of that counts. What does is that, by its own dates,
    whole days lie between recordings whose labels overlap. Of a device's days the one that most devices have is this
    one, of several the last: what is left on a card is older.

    Parameters
    ----------
    recordings : sequence of Filed
        One day's.

    Returns
    -------
    dict of str to date
        When each of them was made, by key; those of this day are not in it.
    """
    sources: dict[str, list[Filed]] = {}
    for one in recordings:
        if one.start is not None and one.clock != NONE:
            sources.setdefault(one.source, []).append(one)
    made = {source: _dates(own) for source, own in sources.items()}
    votes = Counter(day for days in made.values() for day in set(days.values()))
    found: dict[str, date] = {}
    for source, own in sources.items():
        days = made[source]
        if len(set(days.values())) > 1:
            usual = max(set(days.values()), key=lambda day: (votes[day], day))
            found |= {key: day for day, keys in _elsewhere(own, days, usual) for key in keys}
    return found


def _elsewhere(own: Sequence[Filed], days: Mapping[str, date], usual: date) -> Iterator[tuple[date, list[str]]]:
    """Yield each other day of a device on which it made something over what it made on the usual one."""
    here = [one for one in own if days.get(one.key) == usual]
    for day in sorted(day for day in set(days.values()) - {usual} if abs((day - usual).days) <= _AT_MOST):
        there = [one for one in own if days.get(one.key) == day]
        if any(_overlap(one, other) for one in here for other in there):
            yield day, [one.key for one in there]


def _dates(own: Sequence[Filed]) -> dict[str, date]:
    """Return when each of a device's recordings was made, by how far its date and its label lie apart."""
    read = {one.key: moment for one in own if (moment := _moment(one.created)) is not None}
    if not read:
        return {}
    dates_alone = all(second == 0.0 for _, second in read.values())
    apart = {
        one.key: read[one.key][0] * _DAY_S + (0.0 if dates_alone else read[one.key][1] - float(one.start or 0))
        for one in own
        if one.key in read
    }
    first = min(apart.values())
    base = round(first / _DAY_S)
    return {key: date.fromordinal(base + round((at - first) / _DAY_S)) for key, at in apart.items()}


def _moment(created: str) -> tuple[int, float] | None:
    """Read a date, and the second of its day where it has one; None where it is none."""
    found = _DATE.search(created)
    if found is None:
        return None
    try:
        at = datetime(*(int(part or 0) for part in found.groups()))  # type: ignore[arg-type]  # noqa: DTZ001
    except ValueError:
        return None
    return at.toordinal(), 3600.0 * at.hour + 60.0 * at.minute + at.second


def _overlap(one: Filed, other: Filed) -> bool:
    away = float((other.start or 0) - (one.start or 0)) % _DAY_S
    return away < float(one.duration) or away > _DAY_S - float(other.duration)
