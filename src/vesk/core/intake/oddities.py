"""What is odd about a day's files, worst first: what it means and what to do, one line each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date

import numpy as np

from vesk.core.intake.copies import Copies, find_copies
from vesk.core.intake.filed import Filed
from vesk.core.intake.naming import missing_numbers
from vesk.core.intake.off_speed import TAKES_OF_ANOTHER_DAY, Conflict, OffSpeed
from vesk.core.intake.reports import Compared, Report
from vesk.core.intake.sets import track_of
from vesk.core.kinds import CARE, LOST, NO_RECORDING, NONE, NOTE, PICTURE, WRONG, Flaw, OddityKind, Unusable, Weight
from vesk.core.sound.levels import CLIPPED_RUNS, HUM_SHARE, SILENT_DB
from vesk.core.timecode import FrameRate, wrap_day
from vesk.core.wording import duration

_FLAWS = {
    Flaw.CUT_SHORT: "it ends before its header says: the copy was cut short, what is there is used",
    Flaw.COUNTED: "the header does not count its frames; they were counted",
}
_PAIRED = "It is paired by sound or slate; or enter where it starts."
# What may hold of all that a device recorded: how grave it is, how it is told of one, of all, and what to do.
_ALIKE = {
    OddityKind.NO_TIMECODE: (
        WRONG,
        "it carries no timecode",
        "none of its {count} recordings carries timecode",
        _PAIRED,
    ),
    OddityKind.STARTS_AT_ZERO: (
        WRONG,
        "its timecode is a counter from zero, not a clock",
        "the timecode of its {count} recordings is a counter from zero, not a clock",
        _PAIRED,
    ),
    OddityKind.FRAME_RATE_DIFFERS: (
        WRONG,
        "its picture runs at {value}",
        "its {count} pictures run at {value}",
        "Ask the camera crew; it is measured at its own rate.",
    ),
    OddityKind.SAMPLE_RATE_DIFFERS: (
        CARE,
        "its sample rate is {value}",
        "the sample rate of its {count} recordings is {value}",
        "Compare its length with the sound report.",
    ),
}
_EACH_TOLD = 8  # overlaps of a source; more are told together
_MOST_HOLES = 5  # told of one recording
_FRAMES = {".dng", ".dpx", ".exr", ".tif", ".tiff", ".cin", ".jp2", ".j2c"}  # a picture each
_MANY_FRAMES, _LARGE, _ENDINGS_TOLD = 25, 200_000_000, 5  # files, bytes, kinds
_HALF_DAY_RATES = {44_100, 47_952, 48_000, 48_048, 96_000}


@dataclass(frozen=True, slots=True)
class Lost:
    """A file that nothing can be done with: its path below the day's folder, what is wrong for a person, why, bytes."""

    path: str
    says: str
    kind: Unusable = Unusable.DAMAGED
    size: int = 0


@dataclass(frozen=True, slots=True)
class Oddity:
    """Something odd.

    Attributes
    ----------
    kind : OddityKind or Unusable
    about : tuple of str
        Keys of the recordings; empty for what lies between them.
    weight : Weight
    says, do : str
        What it is and means; what to do.
    of : str
        The source that it is told of as a whole, and as what; empty where it is told of recordings.
    """

    kind: OddityKind | Unusable
    about: tuple[str, ...]
    weight: Weight
    says: str
    do: str
    of: str = ""

    @property
    def key(self) -> str:
        """Names it from one intake to the next, whatever else of a source came in meanwhile."""
        return f"{self.kind}: {self.of or ' + '.join(self.about) or self.says}"


def find_oddities(
    recordings: Sequence[Filed],
    day: FrameRate,
    *,
    off_speed: dict[str, OffSpeed],
    conflicts: Sequence[Conflict],
    unusable: Sequence[Lost] = (),
    reports: Sequence[tuple[Report, Compared]] = (),
    copies: Copies | None = None,
    other_days: Mapping[str, date] | None = None,
) -> list[Oddity]:
    """Find everything odd about a day's recordings, the worst first.

    Parameters
    ----------
    recordings : sequence of Filed
    day : FrameRate
        The day's.
    off_speed, conflicts
        As found by `off_speed`.
    unusable : sequence of Lost
        Files that nothing can be done with.
    reports : sequence of (Report, Compared)
        Sound and camera reports, as laid beside the recordings.
    copies : Copies, optional
        By default those among all recordings.
    other_days : mapping of str to date, optional
        What was made on another day, and when, by key.
    """
    found = [_lost(one) for one in unusable if one.kind != Unusable.FOREIGN]
    found += _foreign([one for one in unusable if one.kind == Unusable.FOREIGN])
    for one in recordings:
        found += _clock(one, day)
        found += _sound(one)
        found += [
            Oddity(
                OddityKind.CUT_SHORT_OR_INEXACT,
                (one.key,),
                CARE,
                f"{one.path}: {_FLAWS[flaw]}",
                "Copy it again if you can.",
            )
            for flaw in one.flaws
        ]
    found += _alike(recordings, day)
    found += _no_clocks(recordings)
    found += _hours([one for one in recordings if one.key not in off_speed], day)
    found += _doubled(recordings, copies or find_copies(recordings))
    found += _numbers(recordings)
    found += _tracks(recordings)
    names = {one.key: one for one in recordings}
    for report, compared in reports:
        found += _reported(report, compared, names)
    for key, slow in off_speed.items():
        found.append(
            Oddity(
                OddityKind.OFF_SPEED_PICTURE,
                (key,),
                NOTE,
                f"{names[key].path}: {slow.reason}",
                "It is set aside: no sound lies along it. Bring it back if it plays at life's speed.",
            )
        )
    found += _overlaps([one for one in conflicts if one.likely != TAKES_OF_ANOTHER_DAY], names)
    found += _other_days(recordings, other_days or {})
    return sorted(found, key=lambda one: (-one.weight, one.kind, one.says))


def _overlaps(conflicts: Sequence[Conflict], names: Mapping[str, Filed]) -> Iterator[Oddity]:
    """Tell overlaps, a line for each; one for all of a source that has very many."""
    groups: dict[tuple[str, str], list[Conflict]] = {}
    for one in conflicts:
        if not one.copies:  # else told as a doubled file
            groups.setdefault((one.source, one.likely), []).append(one)
    for (source, likely), own in groups.items():
        worst = max(own, key=lambda one: one.shared)
        told = [worst] if len(own) > _EACH_TOLD else own
        for one in told:
            shared = f"overlap by {float(one.shared):.1f} s"
            says = f"{source}: {names[one.first].name} and {names[one.second].name} {shared}"
            about: tuple[str, ...] = (one.first, one.second)
            do = "Move one to its own source."
            if len(own) > len(told):
                says += f", and {len(own) - 1} more of its files overlap others likewise"
                about = tuple(dict.fromkeys(key for each in own for key in (each.first, each.second)))
                do = "Move what is another device's to a source of its own."
            says += f", which one device cannot do; likely {likely}"
            yield Oddity(OddityKind.OVERLAP_WITHIN_A_SOURCE, about, WRONG, says, do)


def _other_days(recordings: Sequence[Filed], other_days: Mapping[str, date]) -> Iterator[Oddity]:
    """Tell what was made on another day, of each device once."""
    groups: dict[tuple[str, date], list[Filed]] = {}
    for one in recordings:
        if one.key in other_days:
            groups.setdefault((one.source, other_days[one.key]), []).append(one)
    for (source, made), own in groups.items():
        of_all = sum(one.source == source for one in recordings)
        which = f"{own[0].name} to {own[-1].name}" if len(own) > 1 else own[0].name
        says = f"{source}: {len(own)} of its {of_all} recordings ({which}) say they were made on {made.isoformat()}"
        says += ", at times of day at which it recorded on this day as well: takes of another day, left on the card"
        about = tuple(one.key for one in own)
        do = "Set them aside, or bring them in with their own day. Until then their sound keeps them apart."
        yield Oddity(OddityKind.ANOTHER_DAY, about, CARE, says, do, of=f"{source} {made.isoformat()}")


def _lost(one: Lost) -> Oddity:
    says = (one.says if one.path in one.says else f"{one.path}: {one.says}").rstrip(". ")
    weight = NOTE if one.kind in NO_RECORDING else LOST
    return Oddity(one.kind, (one.path,), weight, says, "Everything else came in.")


def _foreign(lost: Sequence[Lost]) -> Iterator[Oddity]:
    """Tell what is no recording: a card holds many such files, of all of them once."""
    cards: dict[str, list[Lost]] = {}
    for one in lost:
        folder, _, rest = one.path.partition("/")
        cards.setdefault(folder if rest else "", []).append(one)
    for card, own in cards.items():
        endings = Counter(_ending(one.path) for one in own)
        weight, do = NOTE, "Everything else came in."
        if sum(count for ending, count in endings.items() if ending in _FRAMES) >= _MANY_FRAMES:
            weight, do = CARE, "Pictures kept frame by frame are not read: bring a movie made of them."
        elif sum(one.size for one in own) >= _LARGE:
            weight, do = CARE, "If they are a camera's own format, bring the movies made of them."
        if len(own) == 1:
            yield replace(_lost(own[0]), weight=weight, do=do)
            continue
        kinds = ", ".join(f"{count} {ending}" for ending, count in endings.most_common(_ENDINGS_TOLD))
        more = " and others" if len(endings) > _ENDINGS_TOLD else ""
        what = f"{len(own)} files are neither movies nor sound, and left out ({kinds}{more})"
        says = f"{card or 'beside the folders'}: {what}"
        yield Oddity(Unusable.FOREIGN, (), weight, says, do, of=" ".join([card, *sorted(endings)]))


def _ending(path: str) -> str:
    name = path.rpartition("/")[2]
    stem, dot, ending = name.rpartition(".")
    return f".{ending.lower()}" if dot and stem else "without ending"


def _clock(one: Filed, day: FrameRate) -> Iterator[Oddity]:
    about = (one.key,)
    if one.header is not None and one.ltc is not None:
        apart = wrap_day(one.header - one.ltc, day.day)
        if abs(apart) > 2 / day.fps:
            way = "ahead of" if apart > 0 else "behind"
            says = f"{one.path}: its header is {duration(abs(float(apart)))} {way} the timecode on its sound channel"
            yield Oddity(
                OddityKind.HEADER_AND_LTC_DISAGREE, about, WRONG, says, "Its source says which of them is trusted."
            )
    for at_s, expected, found in one.ltc_breaks:
        says = f"{one.path}: LTC breaks at {at_s:.2f} s, {found} where {expected} was due"
        yield Oddity(
            OddityKind.LTC_BREAKS, about, CARE, says, "Look whether a cable came off or the box was jammed anew."
        )


def _alike(recordings: Sequence[Filed], day: FrameRate) -> Iterator[Oddity]:
    """Tell what holds of recordings by what they are; of a device's, where it holds of all of them, once."""
    made = Counter(one.source for one in recordings)
    groups: dict[tuple[OddityKind, str, str], list[Filed]] = {}
    for one in recordings:
        for kind, value in _told_of(one, day):
            groups.setdefault((kind, one.source, value), []).append(one)
    for (kind, source, value), own in groups.items():
        weight, single, every, do = _ALIKE[kind]
        if len(own) == made[source] > 1:
            says = f"{source}: {every.format(count=len(own), value=value)}"
            yield Oddity(kind, tuple(one.key for one in own), weight, says, do, of=f"{source} {value}".strip())
            continue
        for one in own:
            yield Oddity(kind, (one.key,), weight, f"{one.path}: {single.format(value=value)}", do)


def _told_of(one: Filed, day: FrameRate) -> Iterator[tuple[OddityKind, str]]:
    if one.header is None and one.ltc is None:
        yield OddityKind.NO_TIMECODE, ""
    elif one.header == 0 and one.ltc is None:
        yield OddityKind.STARTS_AT_ZERO, ""
    if one.kind == PICTURE and one.fps is not None and one.fps != day.fps:
        yield OddityKind.FRAME_RATE_DIFFERS, f"{FrameRate(one.fps)} fps, the day at {day}"
    if one.kind == "sound" and one.sample_rate not in {0, 48_000}:
        odd = "" if one.sample_rate in _HALF_DAY_RATES else ", which no recorder uses"
        yield OddityKind.SAMPLE_RATE_DIFFERS, f"{one.sample_rate} Hz{odd}; the others have 48000"


def _no_clocks(recordings: Sequence[Filed]) -> Iterator[Oddity]:
    """Tell of a source whose timecode is trusted by nobody, all of its recordings at once."""
    by_source: dict[str, list[Filed]] = {}
    for one in recordings:
        if one.clock == NONE and (one.header or one.ltc is not None):
            by_source.setdefault(one.source, []).append(one)
    for source, own in sorted(by_source.items()):
        says = f"{source}: the timecode of {own[0].path if len(own) == 1 else f'{len(own)} recordings'} is no clock"
        do = "Paired by sound or slate. Under Sources stands why; trust it there if it is one."
        yield Oddity(OddityKind.TIMECODE_IS_NO_CLOCK, tuple(one.key for one in own), CARE, says, do, of=source)


def _sound(one: Filed) -> Iterator[Oddity]:
    about = (one.key,)
    for at_s, seconds in one.holes[:_MOST_HOLES]:
        what = "stops for" if seconds > 0 else "overlaps itself by"
        says = f"{one.path}: by its own time stamps its sound {what} {abs(seconds):.3f} s at {at_s:.2f} s"
        yield Oddity(
            OddityKind.HOLE_IN_THE_SOUND,
            about,
            CARE,
            says,
            "The scratch is silent there, what follows keeps its time; sync is not harmed.",
        )
    for channel, level in enumerate(one.levels):
        if channel in one.ltc_channels:
            continue
        where = f"{one.path}: channel {channel + 1}"
        if level.peak_db < SILENT_DB:
            yield Oddity(
                OddityKind.SILENT_CHANNEL,
                about,
                CARE,
                f"{where} is silent (its peak is {level.peak_db:.0f} dB)",
                "A cable, a fader, or not in use.",
            )
        elif level.clipped >= CLIPPED_RUNS:
            yield Oddity(
                OddityKind.CLIPPED_CHANNEL,
                about,
                CARE,
                f"{where} clips at {level.clipped} places",
                "Use another channel where you can.",
            )
        if one.hum.get(channel, 0.0) > HUM_SHARE and level.peak_db >= SILENT_DB:
            says = f"{where} hums: {one.hum[channel]:.0%} of what is left in its pauses is mains"
            yield Oddity(
                OddityKind.HUMMING_CHANNEL, about, CARE, says, "Tell the sound department; sync is not harmed."
            )
    for channel, decibels in one.leaks_db.items():
        says = f"{one.path}: timecode leaks into channel {channel + 1}, {decibels:.0f} dB below its own channel"
        yield Oddity(OddityKind.LTC_LEAKS, about, CARE, says, "Keep that channel out of the mix.")


def _hours(recordings: Sequence[Filed], day: FrameRate) -> Iterator[Oddity]:
    """Find sources whose every clock lies whole hours, or half a day, from where the others were rolling."""
    timed = [one for one in recordings if one.start is not None and one.clock != "none"]
    for source in sorted({one.source for one in timed}):
        own = [one for one in timed if one.source == source]
        others = [one for one in timed if one.source != source and one.kind != own[0].kind]
        if len(own) < 2 or len(others) < 3:
            continue
        meeting = _meetings(own, others, day)
        if meeting(0):
            continue
        fits = {hours: meeting(hours) for hours in range(-12, 13) if hours}
        best = max(fits, key=lambda hours: (fits[hours], -abs(hours)))
        if fits[best] >= max(2, round(0.6 * len(own))):
            way = "behind" if best > 0 else "ahead"
            says = (
                f"{source}: its clock looks {abs(best)} h {way}: none of its {len(own)} recordings meets another "
                f"source; moved by that, {fits[best]} do"
            )
            yield Oddity(
                OddityKind.CLOCK_OFF_BY_HOURS,
                tuple(one.key for one in own),
                WRONG,
                says,
                "Measure one take by sound, then mend the whole source.",
            )


def _meetings(own: Sequence[Filed], others: Sequence[Filed], day: FrameRate) -> Callable[[int], int]:
    """Return a function that counts the recordings that would meet one of the others, moved by whole hours."""
    whole = float(day.day)
    starts, theirs = (np.array([float(one.start or 0) for one in some]) for some in (own, others))
    before, after = (np.array([float(one.duration) for one in some]) for some in (others, own))
    apart = theirs[None, :] - starts[:, None]

    def count(hours: int) -> int:
        away = (apart - 3600.0 * hours + whole / 2) % whole - whole / 2
        return int(((away > -before[None, :]) & (away < after[:, None])).any(axis=1).sum())

    return count


def _doubled(recordings: Sequence[Filed], copies: Copies) -> Iterator[Oddity]:
    names = {one.key: one for one in recordings}
    for key, first in copies.same_file.items():
        says = f"{names[key].path} is {first} once more, byte for byte"
        yield Oddity(
            OddityKind.DOUBLED_FILE,
            (key,),
            CARE,
            says,
            "It is set aside; delete it, or find out which file is missing.",
        )
    yield from _by_folder(
        OddityKind.SMALLER_COPY, copies.smaller, names, "is a smaller copy of",
        "name, timecode, length and sound are the same",
        "What was shot counts, copies are set aside. Bring them back if they are another camera's.",
    )  # fmt: skip
    yield from _by_folder(
        OddityKind.SAME_SOUND, copies.same_sound, names, "holds the same sound as",
        "timecode, length to the sample and every channel's level are the same",
        "One of each counts, the other is set aside. Bring it back if it is another recorder's.",
    )  # fmt: skip


def _by_folder(
    kind: OddityKind, copies: Mapping[str, str], names: Mapping[str, Filed], is_of: str, why: str, do: str
) -> Iterator[Oddity]:
    """Tell copies, a line for each folder of them."""
    folders: dict[str, list[str]] = {}
    for key in copies:
        folders.setdefault(names[key].path.rpartition("/")[0], []).append(key)
    for folder, keys in folders.items():
        says = f"{names[keys[0]].path} {is_of} {copies[keys[0]]}"
        if len(keys) > 1:
            says += f", and {len(keys) - 1} more in {folder or 'the same folder'} likewise"
        yield Oddity(kind, tuple(sorted(keys)), NOTE, f"{says}: {why}", do)


def _reported(report: Report, compared: Compared, names: Mapping[str, Filed]) -> Iterator[Oddity]:
    for entry in compared.without_file:
        says = f"{report.name}: {entry}: no file is there"
        yield Oddity(
            OddityKind.ON_THE_REPORT_NO_FILE,
            (f"{report.name} {entry}",),
            LOST,
            says,
            "Look on the card, or ask who wrote the report.",
        )
    for key in compared.without_entry:
        yield Oddity(
            OddityKind.FILE_NOT_ON_THE_REPORT,
            (key,),
            CARE,
            f"{names[key].path}: it does not stand on {report.name}",
            "Ask whether it was meant to be recorded.",
        )
    for key, said in compared.disagree:
        yield Oddity(
            OddityKind.REPORT_AND_FILE_DISAGREE,
            (key,),
            WRONG,
            f"{names[key].path}: {said} ({report.name})",
            "Find out which is right, and put the fact right here.",
        )


def _numbers(recordings: Sequence[Filed]) -> Iterator[Oddity]:
    groups: dict[tuple[str, str], list[Filed]] = {}
    # A camera's own sound beside its picture counts its tracks behind the picture's number.
    for one in (file for whole in recordings for file in whole.files if file.kind == whole.kind):
        if one.tokens.get("clip", "").isdecimal() and one.tokens.get("roll"):
            groups.setdefault((one.source, one.tokens["roll"]), []).append(one)
    for (source, roll), own in sorted(groups.items()):
        missing = missing_numbers([int(one.tokens["clip"]) for one in own])
        if missing:
            width = len(own[0].tokens["clip"])
            names = ", ".join(f"{number:0{width}}" for number in missing[:8])
            names += " and more" if len(missing) > 8 else ""
            many = f"{len(missing)} numbers:" if len(missing) > 1 else "number"
            says = f"{source}: roll {roll} lacks {many} {names}"
            yield Oddity(
                OddityKind.NUMBER_MISSING,
                (f"{source} {roll} {names}",),
                LOST,
                says,
                "Look on the card, before it is wiped.",
            )


def _tracks(recordings: Sequence[Filed]) -> Iterator[Oddity]:
    """Find sets of one-track files that lack a track the other takes have."""
    sets: dict[tuple[str, str], dict[str, Filed]] = {}
    for whole in recordings:
        for one in whole.files:
            tokens, track = one.tokens, track_of(one)
            if one.kind == "sound" and one.channels == 1 and track and (tokens.get("scene") or one.family):
                take = f"{tokens['scene']}_{tokens.get('take', '')}" if tokens.get("scene") else one.family
                sets.setdefault((one.source, take), {})[track] = whole
    for source in {source for source, _ in sets}:
        own = {take: tracks for (of, take), tracks in sets.items() if of == source}
        usual = Counter(track for tracks in own.values() for track in tracks)
        expected = {track for track, count in usual.items() if count > len(own) / 2}
        for take, tracks in sorted(own.items()):
            lacking = sorted(expected - set(tracks))
            size = max(
                (
                    int(one.family_size)
                    for whole in tracks.values()
                    for one in whole.files
                    if one.family_size.isdecimal()
                ),
                default=0,
            )
            if size > len(tracks) and not lacking:
                says = f"{source}: of take {take} {len(tracks)} of {size} tracks are here, says their iXML"
                yield Oddity(
                    OddityKind.MONO_SET_INCOMPLETE, _keys(tracks), LOST, says, "Look for the files on the card."
                )
            if lacking:
                says = f"{source}: take {take} has no track {', '.join(lacking)}, which the other takes have"
                yield Oddity(
                    OddityKind.MONO_SET_INCOMPLETE, _keys(tracks), LOST, says, "Look for the file on the card."
                )


def _keys(tracks: dict[str, Filed]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(one.key for one in tracks.values()))
