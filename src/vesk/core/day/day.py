"""The value of a shoot day: who recorded what, and every piece of evidence of how it lies together.

Times are seconds. Labels (`Recorded.start`) lie on the day's label clock, in real seconds since label midnight; they
are exact. What was measured is a float with its standard error.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.kinds import Clock, Kind, Witness
from vesk.core.plain import Plain


@dataclass(frozen=True, slots=True)
class Device:
    """A camera or recorder.

    Attributes
    ----------
    tag : str
    kind : Kind
    late_s : float
        How late it hears, by its microphone's distance and internal delay as they are entered, seconds.
    said : str
        Who said so; empty where nobody did, and zero is only what is usual.
    """

    tag: str
    kind: Kind
    late_s: float = 0.0
    said: str = ""


@dataclass(frozen=True, slots=True)
class Recorded:
    """A recording of the day.

    Attributes
    ----------
    key : str
        Names it to the caller.
    device : str
        Tag.
    kind : Kind
    start : Fraction or None
        On the day's label clock; None without a clock.
    clock : Clock or None
        By which clock.
    duration_s : float
    frame_s : float
        Of its picture, else of the day.
    hint : str
        What it tells of its device: the shape of its name, how it is coded.
    slate : str
        Scene and take as one word; empty where either is not known.
    ears : bool
        Whether it has sound that is not timecode.
    late_s : float or None
        How late it hears where a person says of it alone, seconds; None: as its device.
    """

    key: str
    device: str
    kind: Kind
    start: Fraction | None
    clock: Clock | None
    duration_s: float
    frame_s: float
    hint: str = ""
    slate: str = ""
    ears: bool = True
    late_s: float | None = None


@dataclass(frozen=True, slots=True)
class Match:
    """A picture and a sound that were measured against each other by sound.

    Attributes
    ----------
    picture, sound : str
        Keys.
    head_s, tail_s : float
        Picture times of what they share.
    at_head_s : float
        Offset heard at the head: picture time minus sound time.
    se_s : float
        Its standard error.
    ppm : float
        Rate error of the sound.
    sure : bool
        Whether sound alone decided: matched, and no rival claims the same moments.
    share : float
        Of the windows in which both sound, those that agree: 0 to 1.
    se_ppm : float
        Standard error of the rate.
    steps, unsure : tuple of (float, float, float)
        Steps of its offset: between which picture times, and by how much, seconds; and those that may be a walk.
    agreeing : tuple of (float, float)
        Picture times between which windows went on agreeing with its line, seconds.
    """

    picture: str
    sound: str
    head_s: float
    tail_s: float
    at_head_s: float
    se_s: float
    ppm: float = 0.0
    sure: bool = True
    share: float = 1.0
    se_ppm: float = 0.0
    steps: tuple[tuple[float, float, float], ...] = ()
    unsure: tuple[tuple[float, float, float], ...] = ()
    agreeing: tuple[tuple[float, float], ...] = ()

    def heard_s(self, picture_s: float) -> float:
        """Return the offset heard at a picture time, seconds.

        Parameters
        ----------
        picture_s : float
            Seconds.
        """
        return self.at_head_s - self.ppm * 1e-6 * (picture_s - self.head_s)


MATCH = Plain(Match)


@dataclass(frozen=True, slots=True)
class SeenClap:
    """A clap seen in a picture.

    Attributes
    ----------
    recording : str
        Key.
    low_s, high_s : float
        Picture times between which contact was.
    likely : float
        That this is where the sticks met, 0 to 1.
    heard_s : float or None
        When the camera itself heard it, seconds of its sound; None where it did not.
    """

    recording: str
    low_s: float
    high_s: float
    likely: float
    heard_s: float | None = None


@dataclass(frozen=True, slots=True)
class HeardClap:
    """A clap heard by a recorder: at which second of its sound, and how likely it is one, 0 to 1."""

    recording: str
    at_s: float
    likely: float = 1.0


@dataclass(frozen=True, slots=True)
class Named:
    """A sync point that has a name: the same name on recordings of other devices is the same event.

    Attributes
    ----------
    recording : str
        Key.
    name : str
    low_s, high_s : float
        Between which of its own times it was, seconds.
    heard : bool
        On its sound; else seen in its picture.
    """

    recording: str
    name: str
    low_s: float
    high_s: float
    heard: bool


@dataclass(frozen=True, slots=True)
class Tie:
    """A picture and a sound that are tied together by the same event on both, or by a person's hand.

    Attributes
    ----------
    picture, sound : str
        Keys.
    at_s : float
        Picture time of the event, seconds.
    offset_s : float
        Picture time of sound sample 0 by it, on picture.
    se_s : float
        Its standard error.
    by : Witness
        A sync point, or a person.
    name : str
        Of the event, or who said so.
    """

    picture: str
    sound: str
    at_s: float
    offset_s: float
    se_s: float
    by: Witness
    name: str


@dataclass(frozen=True, slots=True)
class Day:
    """A shoot day.

    Attributes
    ----------
    devices, recordings, matches
        Every one, in any order; keys and tags are unique.
    across : tuple of Match
        Two pictures, or two sounds, measured against each other: the first in the place of the picture.
    seen, heard
        Claps.
    named : tuple of Named
        Sync points with a name.
    ties : tuple of Tie
        What persons put together.
    tolerance_frames : float
        What error is let pass.
    length : Fraction
        How long the label clock takes to come round, seconds.
    """

    devices: tuple[Device, ...]
    recordings: tuple[Recorded, ...]
    matches: tuple[Match, ...] = ()
    seen: tuple[SeenClap, ...] = ()
    heard: tuple[HeardClap, ...] = ()
    named: tuple[Named, ...] = ()
    ties: tuple[Tie, ...] = ()
    across: tuple[Match, ...] = ()
    tolerance_frames: float = 0.25
    length: Fraction = Fraction(86_400)

    def ears_beyond(self) -> dict[str, float]:
        """Return by how much later than their devices recordings hear of which a person says so alone: seconds."""
        late = {one.tag: one.late_s for one in self.devices}
        return {one.key: one.late_s - late[one.device] for one in self.recordings if one.late_s is not None}

    def wrapped_s(self, seconds: float) -> float:
        """Bring a difference of labels into half a day either way: midnight wraps.

        Parameters
        ----------
        seconds : float
        """
        whole = float(self.length)
        return (seconds + whole / 2) % whole - whole / 2
