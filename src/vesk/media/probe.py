"""Read a file's facts, whatever kind of file it is."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

from vesk.core.errors import MediaError
from vesk.core.facts import Facts, Marker
from vesk.core.kinds import SOUND, Flaw, Unusable
from vesk.media import ixml, movie, wave

MOVIE_ENDINGS = {".mov", ".mp4", ".m4v", ".mxf", ".mkv", ".avi", ".mts"}
SOUND_ENDINGS = {
    ".wav", ".bwf", ".rf64", ".aif", ".aiff", ".flac", ".caf", ".m4a", ".aac", ".mp3", ".ogg", ".opus",
}  # fmt: skip
BESIDE_ENDINGS = {".txt", ".csv", ".xml", ".pdf", ".toml", ".md", ".json", ".jpg", ".png"}


def read_facts(path: Path) -> Facts:
    """Read what the file at `path` says of itself.

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
    if path.suffix.lower() not in MOVIE_ENDINGS | SOUND_ENDINGS and start[:4] not in {b"RIFF", b"RF64"}:
        raise MediaError(path, "it is neither a movie nor a sound file", "It is left out.", Unusable.FOREIGN)
    if start[:4] in {b"RIFF", b"RF64"} and start[8:12] == b"WAVE":
        return _wave_facts(path)
    return movie.read_facts(path)


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
    return Facts(
        kind=SOUND,
        container="wav",
        sound_codec="pcm_float" if header.floating else f"pcm_{header.bits}",
        duration=Fraction(header.samples, header.sample_rate),
        timecode_rate=info.timecode_rate,
        drop=info.drop,
        time_reference=header.bext.time_reference if header.bext else None,
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
        origins=_origins(header, info),
        remarks=tuple(remarks),
        flaws=tuple(flaws),
        markers=_markers(header, info),
    )


def _markers(header: wave.WaveHeader, info: ixml.IXml) -> tuple[Marker, ...]:
    """Return the markers that lie inside a file, in order; what both chunks say is one."""
    start = header.bext.time_reference if header.bext else 0
    listed = [(one.sample - start if one.since_midnight else one.sample, one.comment) for one in info.sync_points]
    inside = {sample: label for sample, label in (*listed, *header.cues) if 0 <= sample < header.samples}
    labels = {sample: label for sample, label in listed if label} | {s: label for s, label in header.cues if label}
    return tuple(Marker(Fraction(sample, header.sample_rate), labels.get(sample, "")) for sample in sorted(inside))


def _origins(header: wave.WaveHeader, info: ixml.IXml) -> dict[str, str]:
    told = {"duration": "samples"}
    if header.bext is not None:
        told |= {"time_reference": "bext", "originator": "bext", "created": "bext"}
    by_ixml = {
        "scene": info.scene, "take": info.take, "tape": info.tape, "note": info.note, "track_names": info.track_names,
        "timecode_rate": info.timecode_rate, "circled": info.circled,
        "family": info.family,
    }  # fmt: skip
    return told | {name: "iXML" for name, value in by_ixml.items() if value}
