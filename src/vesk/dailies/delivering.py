"""Deliver one take: a broadcast WAV exactly as long as its picture, then measured again."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from datetime import date
from fractions import Fraction
from itertools import accumulate
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vesk.core.conform.correction import Errors, errors
from vesk.core.conform.render import BLOCK, ReadSound, laid_pieces, picture_samples, render
from vesk.core.errors import MediaError, RefusedError, StoppedError
from vesk.core.facts import Facts
from vesk.core.kinds import MATCHED
from vesk.core.sound.measurement import without_steps
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.timemap import AnyMap, TimeMap
from vesk.dailies.located import Located
from vesk.dailies.measuring import measure_by_sound
from vesk.media import cache, checksum, ixml, wave
from vesk.media.probe import read_facts
from vesk.media.sound import Samples

__all__ = ["BLOCK"]
GoOn = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class Laid:
    """One recorder file laid on a take's picture.

    Attributes
    ----------
    sound : Located
        The recorder's file.
    laid : TimeMap or PiecewiseMap
        Sound seconds to picture seconds, as corrected.
    channels : tuple of int
        Which of its channels go out, from 0, in this order; none named: all.
    """

    sound: Located
    laid: AnyMap
    channels: tuple[int, ...] = ()

    @property
    def names(self) -> tuple[str, ...]:
        """What its channels that go out are called."""
        facts = self.sound.facts
        known = facts.track_names if len(facts.track_names) == facts.channels else ()
        chosen = self.channels or tuple(range(facts.channels))
        return tuple(known[n] if known else f"channel {n + 1}" for n in chosen)

    def of(self, reader: Samples) -> ReadSound:
        """Return what reads the channels that go out."""
        if not self.channels:
            return reader.read
        chosen = list(self.channels)
        return lambda start, count: np.ascontiguousarray(reader.read(start, count)[:, chosen])


@dataclass(frozen=True, slots=True)
class Delivered:
    """What was made.

    Attributes
    ----------
    path : Path
        The file.
    samples, sample_rate, channels : int
        Of the file; samples of each channel, and Hz.
    time_reference : int
        In its `bext`, samples since label midnight.
    remark : str
        What a reader should know, e.g. rounding to a whole sample.
    """

    path: Path
    samples: int
    sample_rate: int
    channels: int
    time_reference: int
    remark: str


def files_of(picture: Located) -> list[tuple[Located, Fraction]]:
    """Return the files of a picture with where each begins on its time, seconds.

    A run is corrected once and handed over file by file, as the editor has its pictures.
    """
    files = picture.in_time
    return list(zip(files, accumulate((one.facts.duration for one in files), initial=Fraction(0)), strict=False))


def deliver(
    picture: Located,
    sounds: list[Laid],
    target: Path,
    *,
    scene: str,
    take: str,
    project: str,
    shot_on: date,
    stretch: Fraction = Fraction(1),
    kept: tuple[int, int] | None = None,
    go_on: GoOn = lambda: True,
) -> Delivered:
    """Write the sound of one take, as long as its picture plays.

    `stretch` is how many seconds the picture plays for one as recorded: 1 unless it is retimed. `kept` is which of its
    frames are handed over, the second not any more; None: all.

    Raises
    ------
    RefusedError
        If its recorder files differ in sample rate, or the picture has no frame rate.
    MediaError
        If a file cannot be read or the disk is full; nothing half-written stays.
    """
    rates = {one.sound.facts.sample_rate for one in sounds}
    if len(rates) != 1:
        raise RefusedError(f"its recorder files have different sample rates ({', '.join(map(str, sorted(rates)))} Hz)")
    sample_rate = rates.pop()
    fps, frames = picture.facts.fps, picture.facts.frames
    if fps is None or frames is None:
        raise RefusedError("its picture has no frame rate")
    first, last = kept or (0, frames)
    begins = Fraction(first) / fps
    own = picture.facts.first_frame(sample_rate)
    # A picture without timecode is laid at zero wherever it is opened: so is its sound.
    reference = (own or 0) + round(begins * sample_rate)
    samples = picture_samples(last - first, fps / stretch, sample_rate)
    exact = Fraction(last - first) / fps * stretch * sample_rate
    remarks = [] if exact == samples else [f"rounded to a whole sample ({float(exact):.2f})"]
    if kept is not None:
        remarks.append(f"frames {first} to {last - 1} of {frames}, the range that is kept")
    if own is None:
        remarks.append("its picture carries no timecode: the time reference is zero")
    if stretch != 1:
        plays = fps / stretch
        remarks.append(f"as recorded: the picture plays at {plays.numerator}/{plays.denominator} frames a second")
    remark = "; ".join(remarks)
    told = sounds[0].sound.facts
    names = max((one.names for one in sounds), key=len)
    channels = len(names)
    info = ixml.IXml(
        scene=scene, take=take, tape=told.tape, note=told.note, project=project, track_names=names,
        timecode_rate=picture.facts.timecode_rate or fps, drop=picture.facts.drop,
    )  # fmt: skip
    bext = wave.Bext(
        description=f"{scene} / {take}", originator="Vesk", originator_reference=picture.path.stem,
        date=shot_on.isoformat(), time="00:00:00", time_reference=reference,
        history=f"A=PCM,F={sample_rate},W=24,T=conformed to {picture.path.name}\r\n",
    )  # fmt: skip
    with ExitStack() as stack:
        readers = [stack.enter_context(one.sound.reader()) for one in sounds]
        for reader, one in zip(readers, sounds, strict=True):
            if reader.frames < one.sound.facts.samples:
                raise MediaError(
                    one.sound.path,
                    f"it holds {reader.frames} samples, and had {one.sound.facts.samples}",
                    "It was cut since it was taken in: copy it again from the card.",
                )
        pieces = [
            piece
            for reader, one in zip(readers, sounds, strict=True)
            for piece in laid_pieces(one.of(reader), reader.frames, one.laid.shifted(-begins * stretch), sample_rate)
        ]
        blocks = render(pieces, frames=samples, channels=channels, sample_rate=sample_rate)
        text = ixml.build(info, sample_rate=sample_rate, time_reference=reference)
        wave.write_wave(target, until(blocks, go_on), sample_rate=sample_rate, channels=channels, bext=bext, ixml=text)
    return Delivered(target, samples, sample_rate, channels, reference, remark)


def track_names(path: Path) -> tuple[str, ...]:
    """Return what the channels of a delivered file are called."""
    told = ixml.parse(wave.read_header(path).ixml)
    return told.track_names if told is not None else ()


def ixml_of_channel(text: str, track: str) -> str:
    """Return the iXML of one channel of a delivered file, from that of the whole."""
    told = ixml.parse(text)
    if told is None:
        return text
    own = replace(told, track_names=(track,))
    return ixml.build(own, sample_rate=told.timestamp_rate or 48_000, time_reference=told.timestamp or 0)


def label_at(seconds: Fraction, facts: Facts) -> str:
    """Return the label of a moment, seconds of the label clock, as a movie's own rate counts; empty without one."""
    if facts.fps is None:
        return ""
    return str(Timecode.at(seconds, FrameRate(facts.timecode_rate or facts.fps, facts.drop)))


def until(blocks: Iterator[NDArray[np.float32]], go_on: GoOn) -> Iterator[NDArray[np.float32]]:
    """Pass blocks on for as long as the work shall go on."""
    for block in blocks:
        if not go_on():
            raise StoppedError("stopped before it was whole")
        yield block


def measure_again(
    delivered: Path,
    picture: Located,
    *,
    late_s: float,
    workplace: Path,
    channels: tuple[int, int] | None = None,
    stretch: Fraction = Fraction(1),
    begins: Fraction = Fraction(0),
    scratch_steps: Sequence[tuple[float, float, float]] = (),
) -> tuple[Errors | None, str]:
    """Measure a delivered file against the camera's scratch, from the file as it lies on disk.

    `channels` are those of picture and sound that it was measured with before; `stretch` is how the picture plays,
    `begins` the second of the picture that the file begins with; `scratch_steps` those that not the sound made.

    Returns
    -------
    residual : Errors or None
        Seconds at head, middle and tail; positive is late. None when sound cannot tell.
    reason : str
        Why not; empty otherwise.
    """
    store = cache.entry_of(workplace, checksum.whole_hash(delivered))
    try:
        made = Located(delivered, read_facts(delivered), store)
        found = measure_by_sound(picture, made, proposal_s=float(begins), channels=channels)
    finally:
        cache.forget(store)
    if found.line is None or found.decision != MATCHED:
        return None, found.reason
    points = (found.head_s, found.middle_s, found.tail_s)
    line, _ = without_steps(found.line, scratch_steps)
    return errors(TimeMap(begins, 1 / stretch), line, points, late_s=late_s), ""
