"""What a file says of itself: plain values, read and never edited."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any

from vesk.core.errors import RefusedError, TimecodeError
from vesk.core.kinds import PICTURE, SOUND, Flaw, Kind
from vesk.core.pairing.by_timecode import Span
from vesk.core.plain import Plain
from vesk.core.timecode import FrameRate, Timecode, time_reference

PLAIN_SOUND = {"wav", "aiff", "flac", "caf"}  # containers whose samples are read from the file itself


@dataclass(frozen=True, slots=True)
class Marker:
    """A marker in a file: when, seconds from its start, and its label; empty where it has none."""

    at: Fraction
    label: str = ""


@dataclass(frozen=True, slots=True)
class Facts:
    """The facts of one recording.

    Attributes
    ----------
    kind : Kind
    container, codec, sound_codec : str
        As the file names them; empty when there is none.
    duration : Fraction
        Seconds: frames over rate for a picture, samples over rate for sound.
    fps : Fraction or None
        Exact frame rate of a picture.
    frames : int or None
        Picture frames.
    timecode : str
        Start label as written in the file; empty when it has none.
    timecode_rate : Fraction or None
        Rate that label, or the time reference, counts at; None when the file does not say.
    drop : bool
        Whether the labels skip numbers.
    time_reference : int or None
        Samples since label midnight (broadcast WAV).
    sample_rate, channels, bits, samples : int
        Of the sound; 0 when there is none. `bits` is 0 for compressed sound.
    scene, take, tape, note : str
        From iXML or the container; empty when not given.
    track_names : tuple of str
        One a channel where given.
    width, height : int
        Of the picture, pixels.
    capture_fps : Fraction or None
        At which the picture was recorded, where the container says that it differs.
    camera, created : str
        From the container: which camera, and when, as written.
    originator : str
        From `bext`: which recorder.
    circled : bool
    family, family_index, family_size : str
        By iXML: which set of files it is of, as which of them, and how many there should be.
    origins : dict of str to str
        Where each of these comes from: ``bext``, ``iXML``, ``timecode track``, ``container``, ``samples``.
    remarks : tuple of str
        What was inferred or looked odd, a sentence each.
    flaws : tuple of Flaw
        Which of these are faults of the file.
    markers : tuple of Marker
        Put there while it was recorded, or since.
    read_by : int
        Which edition of the readers read them: older ones knew less.
    """

    kind: Kind
    container: str
    duration: Fraction
    codec: str = ""
    sound_codec: str = ""
    fps: Fraction | None = None
    frames: int | None = None
    timecode: str = ""
    timecode_rate: Fraction | None = None
    drop: bool = False
    time_reference: int | None = None
    sample_rate: int = 0
    channels: int = 0
    bits: int = 0
    samples: int = 0
    scene: str = ""
    take: str = ""
    tape: str = ""
    note: str = ""
    track_names: tuple[str, ...] = ()
    width: int = 0
    height: int = 0
    capture_fps: Fraction | None = None
    camera: str = ""
    created: str = ""
    originator: str = ""
    circled: bool = False
    origins: dict[str, str] = field(default_factory=dict)
    remarks: tuple[str, ...] = field(default=())
    flaws: tuple[Flaw, ...] = ()
    family: str = ""
    family_index: str = ""
    family_size: str = ""
    markers: tuple[Marker, ...] = ()
    read_by: int = 0

    def start(self, day: FrameRate) -> tuple[Fraction | None, FrameRate]:
        """Return where the recording starts on its own label clock, and that clock's rate.

        Where the file does not give the rate of its timecode, the day's is used.

        Returns
        -------
        start : Fraction or None
            Real seconds since label midnight; None without timecode.
        rate : FrameRate
            What it was counted at.
        """
        rate = self.clock(day)
        if self.time_reference is not None and self.sample_rate:
            return Fraction(self.time_reference, self.sample_rate), rate
        if not self.timecode:
            return None, rate
        try:
            return Timecode.parse(self.timecode, rate).seconds, rate
        except TimecodeError:
            return None, rate

    @property
    def coded(self) -> bool:
        """Whether its samples are decoded before they can be read by range: a movie's, and any but plain sound."""
        return self.kind == PICTURE or self.container not in PLAIN_SOUND

    def as_sound(self) -> Facts:
        """Return a camera's file as what its sound alone is: a recording that begins with its first frame.

        Raises
        ------
        RefusedError
            If it has no sound.
        """
        if self.kind == SOUND:
            return self
        if not self.channels or not self.sample_rate:
            raise RefusedError("it has no sound: it cannot serve as a recorder's file.")
        samples = self.samples or round(self.duration * self.sample_rate)
        return replace(
            self, kind=SOUND, duration=Fraction(samples, self.sample_rate), samples=samples, codec="", fps=None,
            frames=None, width=0, height=0, capture_fps=None, timecode_rate=self.timecode_rate or self.fps,
            remarks=(*self.remarks, "its picture is left out: its source serves as a recorder"),
        )  # fmt: skip

    def clock(self, day: FrameRate) -> FrameRate:
        """Return the rate the recording's timecode counts at: its own, else its picture's, else the day's."""
        fps = self.timecode_rate or self.fps
        if fps is None:
            return day
        try:
            return FrameRate(fps, self.drop)
        except TimecodeError:
            return FrameRate(fps)

    def label(self, day: FrameRate) -> str:
        """Return the start label, also for a recording that has only a time reference; empty without.

        Parameters
        ----------
        day : FrameRate
            The day's label clock, where the file does not say at which rate it counts.
        """
        if self.timecode:
            return self.timecode
        start, rate = self.start(day)
        return "" if start is None else str(Timecode.at(start, rate))

    def first_frame(self, sample_rate: int) -> int | None:
        """Return the time reference that a sound as long as this picture carries, samples.

        Parameters
        ----------
        sample_rate : int
            Of that sound, Hz.
        """
        if not self.timecode or self.fps is None:
            return None
        rate = FrameRate(self.timecode_rate or self.fps, self.drop)
        return round(time_reference(Timecode.parse(self.timecode, rate), sample_rate))

    def span(self, key: str, name: str, source: str, day: FrameRate) -> Span:
        """Return the recording on the label clock, for pairing.

        Parameters
        ----------
        key : str
            Names it.
        name : str
            For a person.
        source : str
            Its source's tag.
        day : FrameRate
            The day's label clock.
        """
        start, rate = self.start(day)
        return Span(key, name, source, self.kind, start, rate, self.duration)


def _second(values: dict[str, Any]) -> dict[str, Any]:
    """Until the second version a flaw was a remark alone."""
    said = " ".join(values.get("remarks", ()))
    words = {Flaw.CUT_SHORT: "cut short", Flaw.COUNTED: "were counted"}
    return {**values, "flaws": [flaw for flaw, text in words.items() if text in said]}


FACTS = Plain(Facts, 2, since={1: _second})
