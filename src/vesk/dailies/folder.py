"""The walk without server or database, for scripts: take in, know, pair, measure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import partial
from pathlib import Path
from statistics import median

from vesk.core.day.across import across_wanted
from vesk.core.day.day import Match
from vesk.core.day.known import DayKnown, know_day
from vesk.core.day.recording import Item, Known
from vesk.core.day.solution import Solution
from vesk.core.errors import MediaError, RefusedError
from vesk.core.heard import Heard
from vesk.core.intake.naming import DEFAULT_PATTERNS
from vesk.core.intake.oddities import Lost
from vesk.core.intake.reports import Report
from vesk.core.kinds import MATCHED, PICTURE, RUN, SET, SOUND, Witness
from vesk.core.pairing.adrift import Sounding, find_adrift
from vesk.core.pairing.astray import Outcome, find_astray
from vesk.core.pairing.by_timecode import Proposal, Unpaired, pair_by_timecode
from vesk.core.sound.measurement import Line
from vesk.core.timecode import FrameRate, unwrapped, wrap_day
from vesk.core.timemap import exact_seconds
from vesk.dailies.judging import Measured, judge, matches_of, measure_pair, with_rivals, with_solution
from vesk.dailies.located import Located, locate, merge
from vesk.dailies.measuring import measure_across
from vesk.dailies.merging import Merged, merged_path, runs_among, sets_among
from vesk.dailies.searching import FoundBySound, Searches, find_partners, why_alone
from vesk.dailies.sources import propose_sources
from vesk.dailies.sync_points import SyncPoints, sync_points_of
from vesk.media import cache, scan
from vesk.media.guarded import bordered

Tell = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class Walked:
    """A folder, paired, measured and solved; `solution` is None where nothing was measured."""

    recordings: dict[str, Located]
    sources: dict[str, str]
    pairings: list[Measured]
    unpaired: list[Unpaired]
    unusable: list[Lost]
    rate: FrameRate
    known: DayKnown
    together: list[Merged]
    solution: Solution | None = None


def walk_folder(
    folder: Path,
    cache_folder: Path,
    *,
    rate: FrameRate | None = None,
    tell: Tell = lambda _: None,
    measure: bool = True,
    reports: Sequence[Report] = (),
    late: Mapping[str, float] | None = None,
) -> Walked:
    """Pair a folder's recordings by timecode and measure every pairing by sound.

    Parameters
    ----------
    folder : Path
        Walked as at intake.
    cache_folder : Path
        Where features are kept between runs.
    rate : FrameRate, optional
        The day's; by default the one most pictures have.
    measure : bool
        Whether to measure the pairings; without, what is known is all that is wanted.
    reports : sequence of Report
        Sound and camera reports to lay beside the recordings.
    late : mapping of str to float, optional
        How late devices hear, seconds, by tag, as a person says.

    Raises
    ------
    RefusedError
        If a device is named that there is not.
    """
    found: dict[str, Located] = {}
    unusable: list[Lost] = []
    root = folder.resolve()
    if not root.is_dir():
        raise MediaError(folder, "there is no such folder", "Look at the spelling.")
    for one in scan.walk(root):
        name = scan.shown(one.path, root)
        try:
            if one.problem:
                raise MediaError(name, one.problem, kind=one.kind)
            found[name] = locate(one.path, cache_folder, root=root)
        except MediaError as error:
            unusable.append(_lost(name, error, one.path))
    rate = rate or _usual_rate(list(found.values()))
    tags = _tags(found)
    searches = Searches()
    items, together = _gather(found, tags, rate, cache_folder, unusable, tell, searches)
    known = know_day(items, rate, unusable=unusable, reports=reports)
    proposals, alone = pair_by_timecode([one.span() for one in known.recordings.values() if not one.aside], rate)
    alone += [Unpaired(name, one.aside) for name, one in known.recordings.items() if one.aside]
    measured: list[Measured] = []
    solution: Solution | None = None
    for proposal in proposals if measure else ():
        tell(f"measuring {proposal.picture} with {proposal.sound}")
        measured.append(measure_pair(found, known.recordings, proposal, rate))
    strange = sorted(set(late or {}) - set(tags.values()))
    if strange:
        raise RefusedError(f"There is no device {strange[0]} here, but {', '.join(sorted(set(tags.values())))}.")
    if measure:
        searched: dict[str, int] = {}
        by_sound = list(_by_sound(found, known, {one.picture for one in proposals}, rate, tell, searched, searches))
        by_sound += list(_astray(found, known, measured, rate, tell))
        by_sound += list(_adrift(found, known, measured + by_sound, rate, tell, searched))
        measured = with_rivals(found, known.recordings, measured + by_sound)
        claps = _claps(found, known, tell)
        measured, solution = with_solution(known.recordings, claps, measured, rate, late or {})
        more = laid = list(_by_solution(found, known, solution, measured, rate, tell))
        measured += more
        links: dict[tuple[str, str], Match | None] = {}
        while _across(found, measured, solution, links, tell) or more:
            more, across = [], [link for link in links.values() if link is not None]
            measured, solution = with_solution(known.recordings, claps, measured, rate, late or {}, across)
        paired = {key for one in (*by_sound, *laid) for key in (one.picture, one.sound)}
        alone = [_told(item, searched) for item in alone if item.key not in paired]
    return Walked(found, tags, measured, alone, unusable, rate, known, together, solution)


def _by_solution(
    found: Mapping[str, Located],
    known: DayKnown,
    solution: Solution,
    measured: Sequence[Measured],
    rate: FrameRate,
    tell: Tell,
) -> Iterator[Measured]:
    """Measure the pairs that the day as a whole knows and no label or sound of theirs alone."""
    present = {(one.picture, one.sound) for one in measured}
    for pair, place in sorted(solution.places.items()):
        if place.by == Witness.SOUND or pair in present:
            continue
        tell(f"measuring {pair[0]} with {pair[1]}")
        starts = [known.recordings[name].start for name in pair]
        offset = exact_seconds(place.offset_s)
        if starts[0] is not None and starts[1] is not None:
            offset = wrap_day(starts[1] - starts[0], rate.day)
        picture, sound = (found[name].facts.duration for name in pair)
        at = exact_seconds(place.offset_s)
        shared = max(Fraction(0), min(picture, at + sound) - max(Fraction(0), at))
        yield measure_pair(found, known.recordings, Proposal(*pair, offset, shared), rate)


def _across(
    found: Mapping[str, Located],
    measured: Sequence[Measured],
    solution: Solution,
    links: dict[tuple[str, str], Match | None],
    tell: Tell,
) -> bool:
    """Measure against each other what a third recording laid together, for loops to close; say whether any was new."""
    wanted = across_wanted([match for match in matches_of(measured) if match.sure], solution)
    news = [one for one in wanted if (one.one, one.other) not in links]
    for one in news:
        tell(f"closing the loop of {one.one} and {one.other}")
        work = partial(measure_across, found[one.one], found[one.other], (one.one, one.other), one.offset_s)
        links[one.one, one.other] = None
        with suppress(MediaError):
            links[one.one, one.other] = bordered(found[one.one].path, work)
    return bool(news)


def _claps(found: Mapping[str, Located], known: DayKnown, tell: Tell) -> dict[str, SyncPoints]:
    """Find the claps of every recording that is not set aside; what cannot be looked at has none."""
    claps = {}
    for name in sorted(key for key, one in known.recordings.items() if not one.aside):
        tell(f"looking for claps in {name}")
        with suppress(MediaError):
            claps[name] = bordered(found[name].path, sync_points_of, found[name])
    return claps


def _gather(
    found: dict[str, Located],
    tags: dict[str, str],
    rate: FrameRate,
    cache_folder: Path,
    unusable: list[Lost],
    tell: Tell,
    searches: Searches,
) -> tuple[list[Item], list[Merged]]:
    """Listen to everything and take together what is one recording, sets first: their tracks are heard as one."""
    items = {
        name: Item(name, name, tags[name], one.facts, None, one.entry.folder.name, one.path.stat().st_size)
        for name, one in found.items()
    }
    together: list[Merged] = []
    listened: set[str] = set()
    for how in (SET, RUN):
        known = know_day(list(items.values()), rate)
        filed = [one.filed for one in known.recordings.values() if not one.aside]
        for group in sets_among(filed) if how == SET else runs_among(filed, found, (), searches):
            together.append(group)
            _take_together(group, found, tags, items, cache_folder)
        for name in sorted(set(items) - listened):
            listened.add(name)
            tell(f"listening to {name}")
            items[name] = replace(items[name], heard=_listened(found[name], unusable, name))
    return list(items.values()), together


def _take_together(
    group: Merged, found: dict[str, Located], tags: dict[str, str], items: dict[str, Item], cache_folder: Path
) -> None:
    """Put one recording in the place of the files it is made of."""
    name = merged_path(group.keys, beside=group.how == SET and found[group.keys[0]].facts.kind == PICTURE)
    tag = tags[group.keys[0]]
    for key in group.keys:
        del tags[key]
    whole = merge([found.pop(key) for key in group.keys], group.how, cache_folder)
    members = tuple(items.pop(key) for key in group.keys)
    found[name], tags[name] = whole, tag
    items[name] = Item(
        name, name, tags[name], whole.facts, None, whole.entry.folder.name, sum(one.size for one in members),
        members=members, merged=group.how,
    )  # fmt: skip


def _by_sound(
    found: Mapping[str, Located],
    known: DayKnown,
    proposed: set[str],
    rate: FrameRate,
    tell: Tell,
    searched: dict[str, int],
    searches: Searches,
) -> Iterator[Measured]:
    """Find partners of recordings without a clock, and of pictures that theirs leads to none, each pair once.

    `searched` takes down who was searched for, and among how many.
    """
    seen: set[tuple[str, str]] = set()
    for name, one in known.recordings.items():
        wanted = one.start is None or (one.item.facts.kind == PICTURE and name not in proposed)
        if not wanted or one.aside or not one.item.facts.channels:
            continue
        tell(f"searching for the sound of {name}")
        others = _others(found, known, one)
        searched[name] = len(others)
        for pair in searches.partners(name, found[name], others, _made_by(known)):
            if (pair.picture, pair.sound) not in seen and pair.found.line is not None:
                seen.add((pair.picture, pair.sound))
                yield _judged(known, pair, pair.found.line, rate)


def _astray(
    found: Mapping[str, Located], known: DayKnown, measured: Sequence[Measured], rate: FrameRate, tell: Tell
) -> Iterator[Measured]:
    """Find partners of pictures by sound where it refused all that labels gave them of a device."""
    outcomes = [Outcome(one.picture, one.judged.sound.tag, one.found) for one in measured]
    present = {(one.picture, one.sound) for one in measured}
    for name, sources in find_astray(outcomes).items():
        one = known.recordings[name]
        tell(f"searching for the sound of {name}")
        others = _others(found, known, one, sources)
        for pair in find_partners(name, found[name], others, made_by=_made_by(known)):
            line = pair.found.line
            if (pair.picture, pair.sound) not in present and line is not None and pair.found.decision == MATCHED:
                yield _judged(known, pair, line, rate)


def _adrift(
    found: Mapping[str, Located],
    known: DayKnown,
    measured: Sequence[Measured],
    rate: FrameRate,
    tell: Tell,
    searched: dict[str, int],
) -> Iterator[Measured]:
    """Find partners of sounds that labels lead to no picture, where no take of their device tells its clock."""
    off: dict[str, list[float]] = {}
    for one in measured:
        line = one.found.line
        matched = one.found.decision == MATCHED and line is not None
        off.setdefault(one.sound, []).extend([float(one.judged.offset) - line.offset_s] if matched and line else [])
    line_of = unwrapped((one.start for one in known.recordings.values() if one.start is not None), rate.day)
    sounds = [
        Sounding(
            name, one.item.source, float(line_of(one.start)), float(one.item.facts.duration),
            median(off[name]) if off.get(name) else None, name not in off,
        )
        for name, one in known.recordings.items()
        if one.start is not None and one.item.facts.kind == SOUND and not one.aside and one.item.facts.channels
    ]  # fmt: skip
    for name in find_adrift(sounds):
        tell(f"searching for the sound of {name}")
        others = _others(found, known, known.recordings[name])
        searched[name] = len(others)
        for pair in find_partners(name, found[name], others, made_by=_made_by(known)):
            if pair.found.line is not None and pair.found.decision == MATCHED:
                yield _judged(known, pair, pair.found.line, rate)


def _others(
    found: Mapping[str, Located], known: DayKnown, one: Known, sources: Collection[str] | None = None
) -> dict[str, Located]:
    return {
        key: found[key]
        for key, other in known.recordings.items()
        if other.item.facts.kind != one.item.facts.kind
        and not other.aside
        and (sources is None or other.item.source in sources)
    }


def _made_by(known: DayKnown) -> dict[str, str]:
    return {key: one.item.source for key, one in known.recordings.items()}


def _judged(known: DayKnown, pair: FoundBySound, line: Line, rate: FrameRate) -> Measured:
    starts = [known.recordings[key].start for key in (pair.picture, pair.sound)]
    offset = exact_seconds(line.offset_s)
    if starts[0] is not None and starts[1] is not None:
        offset = wrap_day(starts[1] - starts[0], rate.day)  # clocks say where it stands, sound how wrong
    overlap = exact_seconds(pair.found.tail_s - pair.found.head_s)
    return judge(known.recordings, Proposal(pair.picture, pair.sound, offset, overlap), pair.found, rate)


def _told(item: Unpaired, searched: Mapping[str, int]) -> Unpaired:
    """Say of a recording without a partner whether it was searched for."""
    return replace(item, reason=why_alone(item.reason, searched.get(item.key)))


def _lost(name: str, error: MediaError, place: Path | None = None) -> Lost:
    size = 0
    with suppress(OSError):
        size = place.stat().st_size if place is not None else 0
    return Lost(name, f"{error.reason}. {error.advice}".strip(), error.kind, size)


def _listened(one: Located, unusable: list[Lost], name: str) -> Heard | None:
    """Return what is heard on a file's channels; where its sound cannot be decoded, say so and go on."""
    if not one.facts.channels:
        return None
    try:
        bordered(one.path, one.ensure_heard)
    except MediaError as error:
        unusable.append(_lost(name, error))
        return None
    return cache.heard(one.entry)


def _usual_rate(recordings: list[Located]) -> FrameRate:
    rates = Counter((one.facts.fps, one.facts.drop) for one in recordings if one.facts.fps)
    if not rates:
        return FrameRate(Fraction(25))
    fps, drop = rates.most_common(1)[0][0]
    return FrameRate(fps or Fraction(25), drop)


def _tags(found: dict[str, Located]) -> dict[str, str]:
    """Return a source's tag for every file, as intake proposes them."""
    given, sources = propose_sources([(name, one.facts) for name, one in found.items()], DEFAULT_PATTERNS)
    return {name: sources[index].tag for name, index in zip(found, given, strict=True)}
