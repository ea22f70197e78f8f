"""The solution of a day: the one consistent account of it that all evidence together gives. Values only."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from vesk.core.day.clocks import DeviceClock
from vesk.core.day.day import Tie
from vesk.core.day.lateness import Lateness
from vesk.core.day.loops import Loop
from vesk.core.kinds import Asked, Clock, Discord, Witness

_LOOP_SD, _LOOP_S = 4.0, 0.001


@dataclass(frozen=True, slots=True)
class Agreement:
    """What one kind of evidence says of a place.

    Attributes
    ----------
    witness : Witness
    offset_s : float
        Picture time of sound sample 0 by it alone.
    sd_s : float
        Its standard deviation.
    apart_sd : float
        How far that is from the place that was found, in its own standard deviations.
    """

    witness: Witness
    offset_s: float
    sd_s: float
    apart_sd: float


@dataclass(frozen=True, slots=True)
class Contradiction:
    """Evidence that cannot be true together.

    Attributes
    ----------
    about : Discord
    device : str
        Tag of the camera.
    pairings : tuple of (str, str)
        Pictures and sounds that it is about.
    apart_s : float
        `LATENESS`: how late the scratch is on its picture beyond what is known. `PATTERN`: how much later sound lays
        the recorder than its devices' clocks do; `POINT`: than the sync point on both does. `CLAP`: how much later
        this take's scratch is than its camera's others, at least. `SLATE`: nothing.
    clock : Clock or None
        Which clock says so; None where only claps do.
    agreeing, claps : int
        Claps that say so, of how many.
    pattern : int
        `PATTERN`: how many other pairings keep to the clocks; `SLATE`: how many have one slate on both.
    name : str
        `POINT`: of the sync point, or who joined them. `SLATE`: which is on which device.
    """

    about: Discord
    device: str
    pairings: tuple[tuple[str, str], ...]
    apart_s: float
    clock: Clock | None = None
    agreeing: int = 0
    claps: int = 0
    pattern: int = 0
    name: str = ""


@dataclass(frozen=True, slots=True)
class Place:
    """Where a sound belongs on a picture.

    Attributes
    ----------
    picture, sound : str
    at_s : float
        Picture time for which `offset_s` holds.
    offset_s : float
        Picture time minus sound time there, on picture: what is known of ears is taken out.
    se_s : float
    ppm : float
        Rate error of the sound.
    by : Witness
        What gave the fine figure.
    late_s : float
        How much later the camera hears than the recorder: taken out.
    agreements : tuple of Agreement
    confirmed : bool
        Whether sound left it open and the clocks settled it.
    contradiction : Contradiction or None
    tie : Tie or None
        The event, or the hand, that ties the two together.
    jumped : bool
        Whether another camera heard the same steps at the same moments of the sound: then nobody walked.
    scratch_steps : tuple of (float, float, float)
        Steps that the sound did not make, between which picture times and by how much, seconds: another camera heard
        none there, or another recorder the same. Its own scratch did, or somebody moved: the picture wants none.
    steady_ppm : float or None
        The rate that all other takes of its devices share, where its own cannot be a clock's: somebody walked.
    """

    picture: str
    sound: str
    at_s: float
    offset_s: float
    se_s: float
    ppm: float
    by: Witness
    late_s: float
    agreements: tuple[Agreement, ...] = ()
    confirmed: bool = False
    contradiction: Contradiction | None = None
    tie: Tie | None = None
    steady_ppm: float | None = None
    jumped: bool = False
    scratch_steps: tuple[tuple[float, float, float], ...] = ()

    @property
    def tied(self) -> bool:
        """Whether it is where a name on both, a slate's clap or a person puts it."""
        return self.tie is not None and self.by == self.tie.by


@dataclass(frozen=True, slots=True)
class Question:
    """What is left for a person: one answer for all pairings it is about.

    Attributes
    ----------
    asked : Asked
    device : str
        Whose: a camera's, or the recorder's where that is off by the same against several.
    groups : tuple of tuple of (str, str)
        Pairings, by picture and sound; apart where each group has a camera, a recorder, a stretch of clocks of its own.
    """

    asked: Asked
    device: str
    groups: tuple[tuple[tuple[str, str], ...], ...]

    @property
    def pairings(self) -> tuple[tuple[str, str], ...]:
        """All of them."""
        return tuple(pair for group in self.groups for pair in group)


@dataclass(frozen=True, slots=True)
class Solution:
    """The account of a day.

    Attributes
    ----------
    clocks : dict of str to DeviceClock
        By tag, as heard; devices that nothing links to others are not there.
    lateness : dict of str to Lateness
        Of cameras that hear or see claps, by tag.
    places : dict of (str, str) to Place
        By picture and sound.
    loops : tuple of Loop
        The worst first.
    contradictions : tuple of Contradiction
    questions : tuple of Question
    devices : dict of str to str
        Which device made each recording, by key: the tag it was filed under, or one of several that share it.
    sources : dict of str to str
        The tag that each device was filed under.
    apart : frozenset of (str, str)
        Pictures and sounds without common sound that labels lay together, and clocks, by takes around them, apart.
    """

    clocks: Mapping[str, DeviceClock]
    lateness: Mapping[str, Lateness]
    places: Mapping[tuple[str, str], Place]
    loops: tuple[Loop, ...]
    contradictions: tuple[Contradiction, ...]
    questions: tuple[Question, ...]
    devices: Mapping[str, str]
    sources: Mapping[str, str]
    apart: frozenset[tuple[str, str]] = frozenset()

    @property
    def open_loops(self) -> tuple[Loop, ...]:
        """Loops that do not close within a millisecond and four standard errors."""
        return tuple(loop for loop in self.loops if abs(loop.misclosure_s) > max(_LOOP_S, _LOOP_SD * loop.se_s))


NOTHING = Solution({}, {}, {}, (), (), (), {}, {})
"""Of a day without evidence, and of two files alone."""
