"""A recipe: what a turnover makes, of which takes, under which names. Kept with the production."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from vesk.core.plain import Plain


class SoundForm(StrEnum):
    """How sound is handed over."""

    NONE = "none"
    PICTURE = "one for each picture file"
    CHANNEL = "one for each channel of it"
    RECORDING = "one for each sound recording"


class Which(StrEnum):
    """Of which takes."""

    CHECKED = "checked"
    CIRCLED = "circled and checked"
    CHANGED = "changed since the last turnover"


class Start(StrEnum):
    """Where the day's timeline begins."""

    FIRST = "at the first recording's timecode"
    ZERO = "at zero"
    TYPED = "at a label"


class Product(StrEnum):
    """What a file of a package is."""

    SOUND = "sound"
    MOVIE = "movie"
    TIMECODE = "copy with its true timecode"
    ORIGINAL = "original"


OF_TAKE = frozenset({Product.SOUND, Product.MOVIE})
"""What follows from a take's corrections."""


@dataclass(frozen=True, slots=True)
class Recipe:
    """What is made.

    Attributes
    ----------
    sound : SoundForm
    pattern : str
        Of the names of sound files, without their ending: see `naming`.
    movies : bool
        Movies with good sound, picture packets as they are.
    scratch : bool
        Whether the camera's own sound stays in them, behind the good.
    timecode : bool
        Copies with their true timecode of recordings whose LTC was decoded.
    timeline, aaf, edl, pdf : bool
        The day as an OTIO, as an AAF; edit lists of every device; the report for paper as a PDF too.
    which : Which
    start : Start
    start_label : str
    channels : tuple of (str, str)
        By tag of a recorder, which of its channels go out: see `channels`; all but timecode where a tag is not there.
    handles : int
        Frames that a recording that is cut keeps on either side.
    originals : bool
        Whether the files of what goes out are copied into the package; else they are referred to where they lie.
    ranges : bool
        Whether of a picture of which only a range is kept that range goes out; else all of it.
    """

    sound: SoundForm = SoundForm.PICTURE
    pattern: str = "{picture}"
    movies: bool = False
    scratch: bool = True
    timecode: bool = False
    timeline: bool = True
    aaf: bool = False
    edl: bool = True
    pdf: bool = False
    which: Which = Which.CHECKED
    start: Start = Start.FIRST
    start_label: str = ""
    channels: tuple[tuple[str, str], ...] = ()
    handles: int = 0
    originals: bool = False
    ranges: bool = True

    def channels_of(self, tag: str) -> str:
        """Return what is said of a recorder's channels; empty where nothing is."""
        return dict(self.channels).get(tag, "")


RECIPE = Plain(Recipe)
