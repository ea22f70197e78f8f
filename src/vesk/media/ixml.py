"""iXML: the text that sound recorders put beside their samples (open specification 1.61)."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from fractions import Fraction
from xml.etree import ElementTree

from vesk.core.errors import NumberError
from vesk.core.figures import read_number, read_whole
from vesk.core.timecode import nearest_rate

_MOST_TRACKS, _LONGEST = 512, 4096  # more than any recorder writes
_MOST_POINTS, _WORD = 999, 1 << 32
_FASTEST = 1_000_000  # samples a second


@dataclass(frozen=True, slots=True)
class SyncPoint:
    """An entry of SYNC_POINT_LIST: samples, from the file's start or since midnight, and its comment."""

    sample: int
    comment: str
    since_midnight: bool


@dataclass(frozen=True, slots=True)
class IXml:
    """Scene, take, tape, note, track names by channel, the timecode rate with its drop flag, and the set of files.

    `timestamp` is when it begins, samples since midnight of `timestamp_rate` a second: not always those of its sound.
    `family` names the set that a file is of, `family_index` which of its `family_size` files this is. `sync_points`
    are samples and a comment each; those that tell a time since midnight rather than since the file's start are marked.
    """

    scene: str = ""
    take: str = ""
    tape: str = ""
    note: str = ""
    project: str = ""
    circled: bool = False
    track_names: tuple[str, ...] = ()
    timecode_rate: Fraction | None = None
    drop: bool = False
    timestamp: int | None = None
    timestamp_rate: int | None = None
    family: str = ""
    family_index: str = ""
    family_size: str = ""
    sync_points: tuple[SyncPoint, ...] = ()


def parse(text: str) -> IXml | None:
    """Read iXML; None when it is no XML."""
    if not text.strip() or "<!DOCTYPE" in text or "<!ENTITY" in text:
        return None
    try:
        root = ElementTree.fromstring(text.strip())  # noqa: S314 - entities are refused above
    except ElementTree.ParseError:
        return None

    def get(name: str) -> str:
        return (root.findtext(name) or "").strip()[:_LONGEST]

    size = get("FILE_SET/TOTAL_FILES")
    return IXml(
        get("SCENE"), get("TAKE"), get("TAPE"), get("NOTE"), get("PROJECT"),
        get("CIRCLED").upper() == "TRUE", _tracks(root), _rate(get("SPEED/TIMECODE_RATE")),
        get("SPEED/TIMECODE_FLAG").upper() == "DF", *_timestamp(get), get("FILE_SET/FAMILY_UID"),
        get("FILE_SET/FILE_SET_INDEX"), size if _number(size) is not None else "", tuple(_sync_points(root)),
    )  # fmt: skip


def _tracks(root: ElementTree.Element) -> tuple[str, ...]:
    """Return what the channels are called, in the order in which they lie in the file."""
    named: list[tuple[int | None, int, str]] = []
    for track in list(root.iterfind("TRACK_LIST/TRACK"))[:_MOST_TRACKS]:
        number = _number(track.findtext("CHANNEL_INDEX") or "0")
        if number is not None:
            name = (track.findtext("NAME") or "").strip()[:_LONGEST]
            named.append((_number(track.findtext("INTERLEAVE_INDEX") or ""), number, name))
    places = [place for place, _, _ in named if place is not None]
    # A recorder's tracks 1, 2 and 7 lie first, second and third in its file, or in any order.
    if len(places) < len(named) or len(set(places)) < len(places) or not all(0 < one <= _MOST_TRACKS for one in places):
        return tuple(name for _, _, name in sorted(named, key=lambda one: one[1]))
    by_place = {place: name for place, _, name in named}
    return tuple(by_place.get(place, "") for place in range(1, max(places, default=0) + 1))


def _timestamp(get: Callable[[str], str]) -> tuple[int | None, int | None]:
    """Return when it begins, samples, and how many of them are a second; None of what it does not say."""
    stamp: int | None = None
    rate: int | None = None
    with suppress(NumberError):
        low = read_whole(get("SPEED/TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO"), most=_WORD - 1)
        stamp = low + _WORD * read_whole(get("SPEED/TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI") or "0", most=_WORD - 1)
    with suppress(NumberError):
        rate = read_whole(get("SPEED/TIMESTAMP_SAMPLE_RATE"), most=_FASTEST)
    return stamp, rate or None


def _sync_points(root: ElementTree.Element) -> Iterator[SyncPoint]:
    for point in list(root.iterfind("SYNC_POINT_LIST/SYNC_POINT"))[:_MOST_POINTS]:
        try:
            low = read_whole((point.findtext("SYNC_POINT_LOW") or "").strip(), most=_WORD - 1)
            high = read_whole((point.findtext("SYNC_POINT_HIGH") or "0").strip(), most=_WORD - 1)
        except NumberError:
            continue
        comment = (point.findtext("SYNC_POINT_COMMENT") or "").strip()[:_LONGEST]
        kind = (point.findtext("SYNC_POINT_TYPE") or "").strip().upper()
        yield SyncPoint(low + high * _WORD, comment, kind == "ABSOLUTE")


def _rate(text: str) -> Fraction | None:
    try:
        return nearest_rate(read_number(text))
    except NumberError:
        return None


def _number(text: str) -> int | None:
    """Return a count as a file writes it; None where it is none that can be."""
    try:
        return read_whole(text, most=99_999)
    except NumberError:
        return None


def build(info: IXml, *, sample_rate: int, time_reference: int) -> str:
    """Write iXML."""
    root = ElementTree.Element("BWFXML")

    def put(parent: ElementTree.Element, name: str, value: object) -> None:
        ElementTree.SubElement(parent, name).text = str(value)

    put(root, "IXML_VERSION", "1.61")
    for name, value in (
        ("PROJECT", info.project), ("SCENE", info.scene), ("TAKE", info.take), ("TAPE", info.tape),
        ("CIRCLED", "TRUE" if info.circled else "FALSE"), ("NOTE", info.note),
    ):  # fmt: skip
        put(root, name, value)
    speed = ElementTree.SubElement(root, "SPEED")
    if info.timecode_rate is not None:
        put(speed, "TIMECODE_RATE", f"{info.timecode_rate.numerator}/{info.timecode_rate.denominator}")
        put(speed, "TIMECODE_FLAG", "DF" if info.drop else "NDF")
    put(speed, "FILE_SAMPLE_RATE", sample_rate)
    put(speed, "AUDIO_BIT_DEPTH", 24)
    put(speed, "TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI", time_reference >> 32)
    put(speed, "TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO", time_reference & 0xFFFF_FFFF)
    put(speed, "TIMESTAMP_SAMPLE_RATE", sample_rate)
    if info.family:
        files = ElementTree.SubElement(root, "FILE_SET")
        put(files, "TOTAL_FILES", info.family_size)
        put(files, "FAMILY_UID", info.family)
        put(files, "FILE_SET_INDEX", info.family_index)
    tracks = ElementTree.SubElement(root, "TRACK_LIST")
    put(tracks, "TRACK_COUNT", len(info.track_names))
    for index, name in enumerate(info.track_names, start=1):
        track = ElementTree.SubElement(tracks, "TRACK")
        put(track, "CHANNEL_INDEX", index)
        put(track, "INTERLEAVE_INDEX", index)
        put(track, "NAME", name)
    ElementTree.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(root, encoding="unicode")
