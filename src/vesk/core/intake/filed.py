"""A recording as intake's rules see it: plain values, whatever file they came from."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

from vesk.core.kinds import Clock, Flaw, Kind
from vesk.core.sound.levels import SoundLevel


@dataclass(frozen=True, slots=True)
class Filed:
    """One recording of a day.

    Attributes
    ----------
    key : str
        Names it to the caller.
    name, path, source, kind : str
        File name, path below the day's folder, the source's tag, ``picture`` or ``sound``.
    content : str
        Hash of what is in it; empty when not known.
    size : int
        Bytes.
    created : str
        When it was made, as its file says.
    start : Fraction or None
        By the clock that is trusted, real seconds on the day's label clock.
    header, ltc : Fraction or None
        By each clock, on the day's label clock.
    clock : str
        Which of them is trusted.
    duration : Fraction
        Seconds of playback.
    fps : Fraction or None
    pixels : int
        Of one picture; 0 without.
    capture_fps : Fraction or None
        At which it was recorded, where the file says that.
    sample_rate, channels, samples : int
    scene, take, tape : str
        By whatever tells them.
    tokens : dict
        What its name says.
    levels : tuple of SoundLevel
        One a channel, empty before it was listened to.
    hum, leaks_db : dict of int to float
        By channel.
    ltc_channels : tuple of int
    ltc_breaks : tuple of (float, str, str)
        At second, label expected, label found.
    holes : tuple of (float, float)
        Where its sound stops by its own time stamps: at second, for seconds; below 0, it overlaps.
    flaws : tuple of Flaw
        What reading it brought up.
    family, family_index, family_size : str
        By iXML: which set of files it is of, as which of them, and how many there should be.
    members : tuple of Filed
        The files it is made of; empty for one file.
    """

    key: str
    name: str
    path: str
    source: str
    kind: Kind
    content: str = ""
    size: int = 0
    created: str = ""
    start: Fraction | None = None
    header: Fraction | None = None
    ltc: Fraction | None = None
    clock: Clock = Clock.HEADER
    duration: Fraction = Fraction(0)
    fps: Fraction | None = None
    pixels: int = 0
    capture_fps: Fraction | None = None
    sample_rate: int = 0
    channels: int = 0
    samples: int = 0
    scene: str = ""
    take: str = ""
    tape: str = ""
    tokens: dict[str, str] = field(default_factory=dict)
    levels: tuple[SoundLevel, ...] = ()
    hum: dict[int, float] = field(default_factory=dict)
    leaks_db: dict[int, float] = field(default_factory=dict)
    ltc_channels: tuple[int, ...] = ()
    ltc_breaks: tuple[tuple[float, str, str], ...] = ()
    holes: tuple[tuple[float, float], ...] = ()
    flaws: tuple[Flaw, ...] = ()
    family: str = ""
    family_index: str = ""
    family_size: str = ""
    members: tuple[Filed, ...] = ()

    @property
    def files(self) -> tuple[Filed, ...]:
        """Every file it is made of."""
        return tuple(file for one in self.members for file in one.files) if self.members else (self,)

    @property
    def stem(self) -> str:
        """Its name without the ending."""
        return self.name.rsplit(".", 1)[0]
