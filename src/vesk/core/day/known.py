"""What is known of a day's recordings together: facts, names, timecode heard, what persons put right; what is odd."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from vesk.core.clocks.choice import Choice, Said, choose_clock
from vesk.core.day.recording import ASIDE, Item, Known, clocks_of, know, with_report
from vesk.core.intake.copies import SAME_FILE, SAME_SOUND, SMALLER, find_copies
from vesk.core.intake.naming import DEFAULT_PATTERNS
from vesk.core.intake.oddities import Lost, Oddity, find_oddities
from vesk.core.intake.off_speed import Conflict, OffSpeed, find_conflicts, find_off_speed
from vesk.core.intake.other_days import find_other_days
from vesk.core.intake.reports import Report, compare
from vesk.core.timecode import FrameRate


@dataclass(frozen=True, slots=True)
class DayKnown:
    """What is known of a day: its recordings, each source's clock, what is set aside by itself, what is odd."""

    recordings: dict[str, Known]
    clocks: dict[str, Choice]
    off_speed: dict[str, OffSpeed]
    conflicts: tuple[Conflict, ...]
    oddities: tuple[Oddity, ...]


def know_day(
    items: Sequence[Item],
    day: FrameRate,
    *,
    said: Mapping[str, Said] | None = None,
    patterns: Sequence[str] = DEFAULT_PATTERNS,
    unusable: Sequence[Lost] = (),
    reports: Sequence[Report] = (),
    decided: Collection[str] = (),
) -> DayKnown:
    """Conclude what is known of a day from its recordings together.

    Parameters
    ----------
    items : sequence of Item
    day : FrameRate
    said : mapping of str to Said, optional
        What persons said of sources' clocks, by tag.
    patterns : sequence of str
        Of file names.
    unusable : sequence of Lost
        Files that nothing can be done with.
    reports : sequence of Report
        Sound and camera reports of the day.
    decided : collection of str
        Keys of recordings of which a person corrected or checked a take: whatever they copy, they stay.
    """
    by_source: dict[str, list[Item]] = {}
    for item in items:
        by_source.setdefault(item.source, []).append(item)
    told = {tag: (said or {}).get(tag, Said()) for tag in by_source}
    clocks = {
        tag: Choice(chosen, "chosen by a person")
        if (chosen := told[tag].clock)
        else choose_clock([clocks_of(one, day, told[tag].rate, as_read=True) for one in own], day)
        for tag, own in by_source.items()
    }
    known = {one.key: know(one, clocks[one.source].clock, told[one.source], day, patterns) for one in items}
    filed = [one.filed for one in known.values()]
    # What a person set aside stands for nothing.
    standing = [one for one in filed if not _said_aside(known[one.key])]
    other_days = find_other_days(standing)
    for key, made in other_days.items():
        known[key] = replace(known[key], other_day=made.isoformat())
    slow = {
        key: found
        for made in {None, *other_days.values()}  # a device makes one file at a time, each day
        for key, found in find_off_speed([one for one in filed if other_days.get(one.key) == made]).items()
    }
    copies = find_copies(standing, decided)
    doubled = {*copies.same_file, *copies.same_sound, *copies.smaller}
    for key, one in known.items():
        put = one.item.put_right.get(ASIDE)
        found = f"off-speed: {slow[key].reason}" if key in slow else ""
        found = f"{SMALLER} {copies.smaller[key]}" if key in copies.smaller else found
        found = f"{SAME_SOUND} {copies.same_sound[key]}" if key in copies.same_sound else found
        found = f"{SAME_FILE} {copies.same_file[key]}" if key in copies.same_file else found
        reason = found if put is None else put
        if reason:
            slowed = slow[key].reason if key in slow else ""
            known[key] = replace(one, aside=reason, off_speed=slowed)
        if put == "" and key in slow:
            del slow[key]  # a person brought it back
    compared = [(one, compare(one, [item for item in filed if item.key not in doubled], day)) for one in reports]
    for report, beside in compared:
        for key, entry in beside.matched.items():
            known[key] = with_report(known[key], report, entry)
    there = [
        one for one in filed if not _said_aside(known[one.key]) and one.key not in {*copies.same_sound, *copies.smaller}
    ]
    conflicts = tuple(find_conflicts(there, slow, other_days))
    oddities = find_oddities(
        filed, day, off_speed=slow, conflicts=conflicts, unusable=unusable, reports=compared,
        copies=copies, other_days=other_days,
    )  # fmt: skip
    return DayKnown(known, clocks, slow, conflicts, tuple(oddities))


def _said_aside(one: Known) -> bool:
    return bool(one.item.put_right.get(ASIDE))
