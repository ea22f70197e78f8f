"""What is known of a day's recordings together: facts, names, timecode heard, what persons put right; what is odd."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

from vesk.core.clocks.choice import HEADER, LTC, Choice, Clocks, choose_clock
from vesk.core.errors import TimecodeError
from vesk.core.intake.filed import Filed
from vesk.core.intake.naming import DEFAULT_PATTERNS, read_name
from vesk.core.intake.oddities import Oddity, doubles, find_oddities
from vesk.core.intake.off_speed import Conflict, OffSpeed, find_conflicts, find_off_speed
from vesk.core.pairing.by_timecode import Span
from vesk.core.sound.levels import Level
from vesk.core.timecode import FrameRate, Timecode, relabel
from vesk.media.facts import Facts

TIMECODE, CLOCK, ASIDE = "timecode", "clock", "aside"
FIELDS = (TIMECODE, CLOCK, ASIDE, "scene", "take", "tape", "note")
FROM_NAME = {"scene": "scene", "take": "take", "tape": "roll"}


@dataclass(frozen=True, slots=True)
class Item:
    """One recording, before anything is concluded.

    Attributes
    ----------
    key, path, source : str
        Names it; below the day's folder; its source's tag.
    facts : Facts
        As read.
    heard : dict
        As kept by the cache: levels, timecode; empty before it was listened to.
    content, size
        Hash and bytes.
    put_right : dict of str to str
        Overrides that stand, by field.
    put_by : dict of str to str
        Who made each.
    members : tuple of Item
        What it is made of; empty for one file.
    joined : str
        How they are taken together: run or set.
    """

    key: str
    path: str
    source: str
    facts: Facts
    heard: Mapping[str, Any] = field(default_factory=dict)
    content: str = ""
    size: int = 0
    put_right: Mapping[str, str] = field(default_factory=dict)
    put_by: Mapping[str, str] = field(default_factory=dict)
    members: tuple[Item, ...] = ()
    joined: str = ""

    @property
    def files(self) -> tuple[Item, ...]:
        """Every file it is made of."""
        return tuple(one for member in self.members for one in member.files) if self.members else (self,)


@dataclass(frozen=True, slots=True)
class Value:
    """A fact: what counts, where it comes from, and what was read where a person put it right."""

    value: str
    origin: str
    read: str = ""


@dataclass(frozen=True, slots=True)
class Known:
    """What is known of one recording.

    Attributes
    ----------
    item : Item
    values : dict of str to Value
        Scene, take, tape, note and timecode.
    tokens : dict of str to str
        What its name says.
    clock : str
        The clock it is placed by.
    own_start, own_rate
        Where it starts on that clock (real seconds since label midnight; None without), and what it counts at.
    start : Fraction or None
        The same on the day's label clock.
    aside : str
        Why it is left out of pairing; empty when it is not.
    """

    item: Item
    values: dict[str, Value]
    tokens: dict[str, str]
    clock: str
    own_start: Fraction | None
    own_rate: FrameRate
    start: Fraction | None
    filed: Filed
    aside: str = ""

    @property
    def label(self) -> str:
        """The label it starts at by the clock that is trusted; empty without."""
        return "" if self.own_start is None else str(Timecode.at(self.own_start, self.own_rate))

    def span(self) -> Span:
        """Return it on the label clock, for pairing."""
        one = self.item
        return Span(
            one.key, Path(one.path).name, one.source, one.facts.kind, self.own_start, self.own_rate, one.facts.duration
        )


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
    chosen: Mapping[str, str] | None = None,
    patterns: Sequence[str] = DEFAULT_PATTERNS,
    unreadable: Sequence[tuple[str, str]] = (),
) -> DayKnown:
    """Conclude what is known of a day from its recordings together.

    Parameters
    ----------
    items : sequence of Item
    day : FrameRate
    chosen : mapping of str to str, optional
        Clocks that a person chose, by source tag.
    patterns : sequence of str
        Of file names.
    unreadable : sequence of (str, str)
        Paths that cannot be used, and why.
    """
    by_source: dict[str, list[Item]] = {}
    for item in items:
        by_source.setdefault(item.source, []).append(item)
    clocks = {
        tag: Choice(chosen[tag], "chosen by a person")
        if chosen and chosen.get(tag)
        else choose_clock([_clocks(one, day, as_read=True) for one in own], day)
        for tag, own in by_source.items()
    }
    known = {one.key: _know(one, clocks[one.source].clock, day, patterns) for one in items}
    filed = [one.filed for one in known.values()]
    slow = find_off_speed(filed)
    copies = doubles(filed)
    for key, one in known.items():
        said = one.item.put_right.get(ASIDE)
        found = f"off-speed: {slow[key].reason}" if key in slow else ""
        found = f"the same file as {copies[key]}" if key in copies else found
        reason = found if said is None else said
        if reason:
            known[key] = _replaced(one, reason)
        if said == "" and key in slow:
            del slow[key]  # a person brought it back
    conflicts = tuple(find_conflicts([one for one in filed if not _said_aside(known[one.key])], slow))
    oddities = find_oddities(filed, day, off_speed=slow, conflicts=conflicts, unreadable=unreadable)
    return DayKnown(known, clocks, slow, conflicts, tuple(oddities))


def _said_aside(one: Known) -> bool:
    return bool(one.item.put_right.get(ASIDE))


def _replaced(one: Known, aside: str) -> Known:
    return Known(one.item, one.values, one.tokens, one.clock, one.own_start, one.own_rate, one.start, one.filed, aside)


def ltc_of(item: Item) -> dict[str, Any] | None:
    """Return what timecode on the recording's sound says: of the channel with most frames; None without."""
    tracks = item.heard.get("ltc") or {}
    if not tracks:
        return None
    channel = max(tracks, key=lambda name: tracks[name]["frames"])
    return {**tracks[channel], "channel": int(channel)}


def _header(item: Item, day: FrameRate) -> tuple[Fraction | None, FrameRate]:
    typed = item.put_right.get(TIMECODE)
    if typed:
        rate = item.facts.clock(day)
        for candidate in (rate, FrameRate(rate.fps, drop=True) if rate.nominal % 30 == 0 and rate.fps % 1 else rate):
            try:
                return Timecode.parse(typed, candidate).seconds, candidate
            except TimecodeError:
                continue
    return item.facts.start(day)


def _clocks(item: Item, day: FrameRate, *, as_read: bool = False) -> Clocks:
    # A source's clock is judged by what its files say: one start that a person typed tells nothing of the others.
    header, rate = item.facts.start(day) if as_read else _header(item, day)
    coded = ltc_of(item)
    frame = 1 / (item.facts.fps or day.fps)
    if coded is None:
        return Clocks(header, rate, None, None, frame)
    return Clocks(header, rate, Fraction(coded["start"]), FrameRate(Fraction(coded["rate"]), coded["drop"]), frame)


def _know(item: Item, clock: str, day: FrameRate, patterns: Sequence[str]) -> Known:
    facts = item.facts
    typed = bool(item.put_right.get(TIMECODE))
    # A start that a person typed counts whatever clock its source has.
    own = item.put_right.get(CLOCK) or (HEADER if typed else clock)
    clocks = _clocks(item, day)
    start, rate = None, clocks.header_rate
    if own == LTC and clocks.ltc is not None and clocks.ltc_rate is not None:
        start, rate = clocks.ltc, clocks.ltc_rate
    elif own == HEADER:
        start = clocks.header
    tokens = _tokens(item, patterns)
    values = {name: _value(item, name, tokens) for name in ("scene", "take", "tape", "note")}
    values[TIMECODE] = _timecode(item, day)
    on_day = None if start is None else relabel(start, rate, day)
    header = None if clocks.header is None else relabel(clocks.header, clocks.header_rate, day)
    coded = ltc_of(item)
    ltc = None if clocks.ltc is None or clocks.ltc_rate is None else relabel(clocks.ltc, clocks.ltc_rate, day)
    heard = item.heard
    filed = Filed(
        key=item.key, name=Path(item.path).name, path=item.path, source=item.source, kind=facts.kind,
        content=item.content, size=item.size, start=on_day, header=header, ltc=ltc, clock=own,
        duration=facts.duration, fps=facts.fps, capture_fps=facts.capture_fps, sample_rate=facts.sample_rate,
        channels=facts.channels, samples=facts.samples, scene=values["scene"].value, take=values["take"].value,
        tokens=tokens, levels=tuple(Level(**level) for level in heard.get("levels", ())),
        hum={int(n): share for n, share in heard.get("hum", {}).items()},
        leaks_db={int(n): level for n, level in heard.get("leaks_db", {}).items()},
        ltc_channels=tuple(int(n) for n in heard.get("ltc", {})),
        ltc_breaks=tuple((b["at_s"], b["expected"], b["found"]) for b in (coded or {}).get("breaks", ())),
        remarks=facts.remarks, family=facts.family, family_index=facts.family_index, family_size=facts.family_size,
        members=tuple(_file(one, patterns) for one in item.members),
    )  # fmt: skip
    return Known(item, values, tokens, own, start, rate, on_day, filed)


def _tokens(item: Item, patterns: Sequence[str]) -> dict[str, str]:
    """Return what a recording's name says; of several files, what the first one's says of all."""
    tokens = read_name(Path(item.files[0].path).stem, patterns)
    return {name: value for name, value in tokens.items() if not item.members or name not in {"track", "part"}}


def _file(item: Item, patterns: Sequence[str]) -> Filed:
    """Return a part as far as its place among its likes goes."""
    facts = item.facts
    return Filed(
        key=item.key, name=Path(item.path).name, path=item.path, source=item.source, kind=facts.kind,
        content=item.content, size=item.size, channels=facts.channels, samples=facts.samples,
        tokens=_tokens(item, patterns), family=facts.family, family_index=facts.family_index,
        family_size=facts.family_size, members=tuple(_file(one, patterns) for one in item.members),
    )  # fmt: skip


def _value(item: Item, name: str, tokens: Mapping[str, str]) -> Value:
    facts = item.facts
    read = str(getattr(facts, name))
    origin = facts.origins.get(name, "file") if read else ""
    guessed = tokens.get(FROM_NAME.get(name, ""), "")
    if not read and guessed:
        read, origin = guessed, "file name"
    if name in item.put_right:
        return Value(item.put_right[name], f"put right by {item.put_by.get(name, 'somebody')}", read)
    return Value(read, origin)


def _timecode(item: Item, day: FrameRate) -> Value:
    facts = item.facts
    read = facts.label(day)
    origin = facts.origins.get("time_reference") or facts.origins.get(TIMECODE, "") if read else ""
    if read and facts.timecode_rate is None:
        origin += f", counted at the day's {day}"
    if item.put_right.get(TIMECODE):
        return Value(item.put_right[TIMECODE], f"put right by {item.put_by.get(TIMECODE, 'somebody')}", read)
    return Value(read, origin)
