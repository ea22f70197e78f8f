"""Read a file's facts, whatever kind of file it is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from vesk.core.errors import MediaError
from vesk.core.facts import Facts, Marker
from vesk.core.kinds import SOUND, Flaw, Unusable
from vesk.media import ixml, movie, wave

MOVIE_ENDINGS = {
    ".mov", ".qt", ".mp4", ".m4v", ".3gp", ".mxf", ".mkv", ".webm", ".avi", ".mts", ".m2ts", ".m2t", ".ts", ".mpg",
    ".mpeg", ".mod", ".tod",
}  # fmt: skip
SOUND_ENDINGS = {
    ".wav", ".bwf", ".rf64", ".w64", ".aif", ".aiff", ".flac", ".caf", ".m4a", ".aac", ".mp3", ".ogg", ".opus",
    ".oga", ".mka", ".mp2", ".wma", ".amr",
}  # fmt: skip
BESIDE_ENDINGS = {".txt", ".csv", ".xml", ".pdf", ".toml", ".md", ".json", ".jpg", ".png"}
EDITION = 2  # of what is read from files: one more wherever facts come out otherwise than before


def read_facts(path: Path) -> Facts:
    """Read what the file at `path` says of itself, by this edition of the readers.

    Raises
    ------
    MediaError
        With one sentence that names the file, what is wrong, and what to do.
    """
    try:
        size = path.stat().st_size
        if size:
            with path.open("rb") as file:
                start = file.read(12)
    except FileNotFoundError as error:
        raise MediaError(path, "it is not there any more", "Connect the disk, or take the folder in again.") from error
    except OSError as error:
        raise MediaError(
            path, f"it cannot be opened ({error.strerror or error})", "Look at its permissions."
        ) from error
    if not size:
        raise MediaError(path, "it is empty (0 bytes)", "Copy it again from the card.", Unusable.EMPTY)
    if path.suffix.lower() not in MOVIE_ENDINGS | SOUND_ENDINGS and start[:4] not in wave.FORMS:
        raise MediaError(path, "it is neither a movie nor a sound file", "It is left out.", Unusable.FOREIGN)
    try:
        is_wave = start[:4] in wave.FORMS and start[8:12] == b"WAVE"
        facts = _wave_facts(path) if is_wave else movie.read_facts(path)
    except wave.CodedError:  # as small recorders write it: decoded first, like a movie's sound
        facts = replace(movie.read_facts(path), container="coded wav")
    return replace(facts, read_by=EDITION)


def _wave_facts(path: Path) -> Facts:
    header = wave.read_header(path)
    info = ixml.parse(header.ixml) or ixml.IXml()
    remarks: list[str] = []
    flaws: list[Flaw] = []
    if header.truncated:
        remarks.append("it ends before its header says: the copy was cut short, the sound up to there is used")
        flaws.append(Flaw.CUT_SHORT)
    if header.assumed:
        remarks.append(header.assumed)
    if header.ixml and ixml.parse(header.ixml) is None:
        remarks.append("its iXML cannot be read")
    if not header.samples:
        raise MediaError(path, "it holds no sound samples", "Copy it again from the card.")
    if header.bext is not None and info.timecode_rate is None:
        remarks.append("no timecode rate in its iXML: the day's rate is used")
    begins = _begins(header, info)
    remarks += [begins.remark] if begins.remark else []
    return Facts(
        kind=SOUND,
        container="wav",
        sound_codec="pcm_float" if header.floating else f"pcm_{header.bits}",
        duration=Fraction(header.samples, header.sample_rate),
        timecode_rate=info.timecode_rate,
        drop=info.drop,
        time_reference=begins.samples(header.sample_rate),
        sample_rate=header.sample_rate,
        channels=header.channels,
        bits=header.bits,
        samples=header.samples,
        scene=info.scene,
        take=info.take,
        tape=info.tape,
        note=info.note,
        track_names=info.track_names,
        originator=header.bext.originator if header.bext else "",
        created=f"{header.bext.date} {header.bext.time}".strip() if header.bext else "",
        circled=info.circled,
        family=info.family,
        family_index=info.family_index,
        family_size=info.family_size,
        origins=_origins(header, info, begins),
        remarks=tuple(remarks),
        flaws=tuple(flaws),
        markers=_markers(header, info, begins),
    )


@dataclass(frozen=True, slots=True)
class _Begins:
    """When a file begins: as it counts, how much of that is a second, which chunk says so, and what is odd about it."""

    count: int | None
    rate: int
    told_by: str
    remark: str = ""

    def samples(self, sample_rate: int) -> int | None:
        """Return it in samples of the sound since midnight."""
        return None if self.count is None else round(Fraction(self.count * sample_rate, self.rate))


def _begins(header: wave.WaveHeader, info: ixml.IXml) -> _Begins:
    """Weigh what both chunks say of when a file begins: `bext` counts, unless it says nothing and iXML does."""
    by_bext = header.bext.time_reference if header.bext else None
    rate = info.timestamp_rate or header.sample_rate
    if header.bext is None and not info.timestamp:
        return _Begins(None, rate, "")
    if info.timestamp is None or (by_bext and info.timestamp != by_bext):
        known = _Begins(by_bext, header.sample_rate, "bext")
        stamp = _Begins(info.timestamp, rate, "iXML").samples(header.sample_rate)
        if stamp is None or by_bext is None or abs(stamp - by_bext) <= 1:
            return known
        apart = float(Fraction(stamp - by_bext, header.sample_rate))
        return replace(known, remark=f"its iXML has it begin {apart:+.3f} s from what its header says, which counts")
    remark = ""
    if by_bext == 0 and info.timestamp:
        remark = "its header says that it begins at zero; what its iXML says counts"
    if rate != header.sample_rate:
        own = f"its timecode is counted in samples of {rate} Hz, its sound in such of {header.sample_rate}"
        remark = f"{remark}; {own}" if remark else own
    return _Begins(info.timestamp, rate, "bext" if by_bext == info.timestamp else "iXML", remark)


def _markers(header: wave.WaveHeader, info: ixml.IXml, begins: _Begins) -> tuple[Marker, ...]:
    """Return the markers that lie inside a file, in order; what both chunks say is one."""
    own, start = Fraction(header.sample_rate, begins.rate), begins.count or 0
    listed = [
        (round((one.sample - start) * own) if one.since_midnight else one.sample, one.comment)
        for one in info.sync_points
    ]
    inside = {sample: label for sample, label in (*listed, *header.cues) if 0 <= sample < header.samples}
    labels = {sample: label for sample, label in listed if label} | {s: label for s, label in header.cues if label}
    return tuple(Marker(Fraction(sample, header.sample_rate), labels.get(sample, "")) for sample in sorted(inside))


def _origins(header: wave.WaveHeader, info: ixml.IXml, begins: _Begins) -> dict[str, str]:
    told = {"duration": "samples"}
    if header.bext is not None:
        told |= {"originator": "bext", "created": "bext"}
    if begins.count is not None:
        told["time_reference"] = begins.told_by
    by_ixml = {
        "scene": info.scene, "take": info.take, "tape": info.tape, "note": info.note, "track_names": info.track_names,
        "timecode_rate": info.timecode_rate, "circled": info.circled,
        "family": info.family,
    }  # fmt: skip
    return told | {name: "iXML" for name, value in by_ixml.items() if value}
