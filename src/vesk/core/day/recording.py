"""What is known of one recording: facts as read, as its name says, as a person put them right, and its clock."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction

from vesk.core.clocks.choice import Clocks, Said
from vesk.core.day.evidence import has_ears
from vesk.core.errors import TimecodeError
from vesk.core.facts import Facts
from vesk.core.heard import Heard
from vesk.core.intake.filed import Filed
from vesk.core.intake.naming import read_name
from vesk.core.intake.reports import Entry, Report, is_circled
from vesk.core.kinds import HEADER, LTC, Clock, Together
from vesk.core.pairing.by_timecode import Span
from vesk.core.timecode import FrameRate, Timecode, relabel

FILE_NAME = "file name"
TIMECODE, CLOCK, ASIDE = "timecode", "clock", "aside"
COUNTS_AT = "counts at"  # the rate its header timecode counts at, drop-frame or not
FIELDS = (TIMECODE, COUNTS_AT, CLOCK, ASIDE, "scene", "take", "tape", "note")
FROM_NAME = {"scene": "scene", "take": "take", "tape": "roll"}


def name_of(path: str) -> str:
    """Return a file's name of its path below the day's folder."""
    return path.rpartition("/")[2]


def stem_of(path: str) -> str:
    """Return a file's name without its ending.

    Examples
    --------
    >>> stem_of("S1/31A_01.wav"), stem_of("A/clip")
    ('31A_01', 'clip')
    """
    name = name_of(path)
    return name.rpartition(".")[0] or name


@dataclass(frozen=True, slots=True)
class Item:
    """One recording, before anything is concluded.

    Attributes
    ----------
    key, path, source : str
        Names it; below the day's folder; its source's tag.
    facts : Facts
        As read.
    heard : Heard or None
        On its channels; None before it was listened to.
    content, size
        Hash and bytes.
    put_right : dict of str to str
        Overrides that stand, by field.
    put_by : dict of str to str
        Who made each.
    members : tuple of Item
        What it is made of; empty for one file.
    merged : Together or None
        How they are taken together: run or set.
    """

    key: str
    path: str
    source: str
    facts: Facts
    heard: Heard | None = None
    content: str = ""
    size: int = 0
    put_right: Mapping[str, str] = field(default_factory=dict)
    put_by: Mapping[str, str] = field(default_factory=dict)
    members: tuple[Item, ...] = ()
    merged: Together | None = None

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
        Scene, take, tape, note, circled and timecode.
    tokens : dict of str to str
        What its name says.
    clock : Clock
        The clock it is placed by.
    own_start, own_rate
        Where it starts on that clock (real seconds since label midnight; None without), and what it counts at.
    start : Fraction or None
        The same on the day's label clock.
    aside : str
        Why it is left out of pairing; empty when it is not.
    off_speed : str
        How its playback is no real time, where that is why; empty else.
    other_day : str
        When it was made, where that is another day than this; empty else.
    """

    item: Item
    values: dict[str, Value]
    tokens: dict[str, str]
    clock: Clock
    own_start: Fraction | None
    own_rate: FrameRate
    start: Fraction | None
    filed: Filed
    aside: str = ""
    off_speed: str = ""
    other_day: str = ""

    @property
    def label(self) -> str:
        """The label it starts at by the clock that is trusted; empty without."""
        return "" if self.own_start is None else str(Timecode.at(self.own_start, self.own_rate))

    def span(self) -> Span:
        """Return it on the label clock, for pairing."""
        one = self.item
        return Span(
            one.key, name_of(one.path), one.source, one.facts.kind, self.own_start, self.own_rate, one.facts.duration,
            mute=not has_ears(one.facts, one.heard), other_day=self.other_day,
        )  # fmt: skip


def _header(item: Item, day: FrameRate, facts: Facts) -> tuple[Fraction | None, FrameRate]:
    typed = item.put_right.get(TIMECODE)
    if typed:
        rate = facts.clock(day)
        for candidate in (rate, FrameRate(rate.fps, drop=True) if rate.nominal % 30 == 0 and rate.fps % 1 else rate):
            try:
                return Timecode.parse(typed, candidate).seconds, candidate
            except TimecodeError:
                continue
    return facts.start(day)


def clocks_of(item: Item, day: FrameRate, counts_at: FrameRate | None = None, *, as_read: bool = False) -> Clocks:
    """Return what a recording's clocks say.

    `counts_at` is the rate its source's header timecode counts at, where a person said so; `as_read` leaves out
    a start that a person typed.
    """
    facts = item.facts
    counts_at = _counts_at(item, counts_at)
    if counts_at is not None:
        facts = replace(facts, timecode_rate=counts_at.fps, drop=counts_at.drop)
    # A source's clock is judged by what its files say: one start that a person typed tells nothing of the others.
    header, rate = facts.start(day) if as_read else _header(item, day, facts)
    coded = item.heard.best_ltc() if item.heard else None
    frame = 1 / (item.facts.fps or day.fps)
    if coded is None:
        return Clocks(header, rate, None, None, frame, facts.duration, item.size, stem_of(item.path))
    _, says = coded
    counts = FrameRate(says.rate, says.drop)
    return Clocks(header, rate, says.start, counts, frame, facts.duration, item.size, stem_of(item.path))


def _counts_at(item: Item, of_source: FrameRate | None) -> FrameRate | None:
    """Return the rate a recording's header timecode counts at: as a person said of it, else of its source."""
    put = item.put_right.get(COUNTS_AT)
    return FrameRate.parse(put) if put else of_source


def know(item: Item, clock: Clock, said: Said, day: FrameRate, patterns: Sequence[str]) -> Known:
    """Conclude what is known of a recording.

    Parameters
    ----------
    item : Item
    clock : Clock
        By which its source is trusted.
    said : Said
        What a person said of its source's clock.
    day : FrameRate
    patterns : sequence of str
        Of file names.
    """
    facts = item.facts
    typed = bool(item.put_right.get(TIMECODE))
    # A start that a person typed counts whatever clock its source has.
    clocks = clocks_of(item, day, said.rate)
    header = None if clocks.header is None else relabel(clocks.header, clocks.header_rate, day)
    ltc = None if clocks.ltc is None or clocks.ltc_rate is None else relabel(clocks.ltc, clocks.ltc_rate, day)
    if said.periods and not typed:
        # Which period it is of is told by the clock it has else, or by the one it carries.
        first = header if clock == HEADER else ltc if clock == LTC else None
        at = next((one for one in (first, ltc, header) if one is not None), None)
        clock = next((period.clock for period in said.periods if period.holds(at)), clock)
    put = item.put_right.get(CLOCK)
    own = Clock(put) if put else HEADER if typed else clock
    start, rate = None, clocks.header_rate
    if own == LTC and clocks.ltc is not None and clocks.ltc_rate is not None:
        start, rate = clocks.ltc, clocks.ltc_rate
    elif own == HEADER:
        start = clocks.header
    tokens = _tokens(item, patterns)
    values = {name: _value(item, name, tokens) for name in ("scene", "take", "tape", "note")}
    values[TIMECODE] = _timecode(item, day, _counts_at(item, said.rate))
    values["circled"] = Value("yes" if facts.circled else "", "iXML" if facts.circled else "")
    on_day = None if start is None else relabel(start, rate, day)
    heard = item.heard or Heard()
    coded = heard.best_ltc()
    filed = Filed(
        key=item.key, name=name_of(item.path), path=item.path, source=item.source, kind=facts.kind,
        content=item.content, size=item.size, created=facts.created, start=on_day, header=header, ltc=ltc, clock=own,
        duration=facts.duration, fps=facts.fps, pixels=facts.width * facts.height, capture_fps=facts.capture_fps,
        sample_rate=facts.sample_rate, channels=facts.channels, samples=facts.samples,
        scene=values["scene"].value, take=values["take"].value, tape=values["tape"].value,
        tokens=tokens, levels=heard.levels, hum=heard.hum, leaks_db=heard.leaks_db, ltc_channels=tuple(heard.ltc),
        ltc_breaks=tuple((one.at_s, one.expected, one.found) for one in (coded[1].breaks if coded else ())),
        holes=tuple((one.at_s, one.seconds) for one in heard.holes),
        flaws=facts.flaws, family=facts.family, family_index=facts.family_index, family_size=facts.family_size,
        members=tuple(_file(one, patterns) for one in item.members),
    )  # fmt: skip
    return Known(item, values, tokens, own, start, rate, on_day, filed)


def _tokens(item: Item, patterns: Sequence[str]) -> dict[str, str]:
    """Return what a recording's name says; of several files, what the first one's says of all."""
    tokens = read_name(stem_of(item.files[0].path), patterns)
    return {name: value for name, value in tokens.items() if not item.members or name not in {"track", "part"}}


def _file(item: Item, patterns: Sequence[str]) -> Filed:
    """Return a member as far as its place among its likes goes."""
    facts = item.facts
    return Filed(
        key=item.key, name=name_of(item.path), path=item.path, source=item.source, kind=facts.kind,
        content=item.content, size=item.size, duration=facts.duration, fps=facts.fps,
        sample_rate=facts.sample_rate, channels=facts.channels, samples=facts.samples,
        tokens=_tokens(item, patterns), family=facts.family, family_index=facts.family_index,
        family_size=facts.family_size, members=tuple(_file(one, patterns) for one in item.members),
    )  # fmt: skip


def _value(item: Item, name: str, tokens: Mapping[str, str]) -> Value:
    facts = item.facts
    read = str(getattr(facts, name))
    origin = facts.origins.get(name, "file") if read else ""
    guessed = tokens.get(FROM_NAME.get(name, ""), "")
    if not read and guessed:
        read, origin = guessed, FILE_NAME
    if name in item.put_right:
        return Value(item.put_right[name], f"put right by {item.put_by.get(name, 'somebody')}", read)
    return Value(read, origin)


def _timecode(item: Item, day: FrameRate, counts_at: FrameRate | None) -> Value:
    facts = item.facts
    read = facts.label(day)
    origin = facts.origins.get("time_reference") or facts.origins.get(TIMECODE, "") if read else ""
    if read and counts_at is not None:
        origin += f", counted at {counts_at}, as a person said"
    elif read and facts.timecode_rate is None:
        origin += f", counted at the day's {day}"
    if item.put_right.get(TIMECODE):
        return Value(item.put_right[TIMECODE], f"put right by {item.put_by.get(TIMECODE, 'somebody')}", read)
    return Value(read, origin)


def with_report(one: Known, report: Report, entry: Entry) -> Known:
    """Return a recording with what a report says where its file says nothing itself."""
    values = dict(one.values)
    for name, field_name in (("scene", "scene"), ("take", "take"), ("tape", "roll"), ("note", "note")):
        says = entry.says.get(field_name, "")
        if says and (not values[name].value or values[name].origin == FILE_NAME):
            values[name] = Value(says, f"{report.kind} report {report.name}, line {entry.number}")
    if is_circled(entry) and not values["circled"].value:
        values["circled"] = Value("yes", f"{report.kind} report {report.name}, line {entry.number}")
    return replace(one, values=values)
