"""Two recordings put together by a person: the same event named on both, and what follows, in words."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

from vesk.core.errors import NumberError, RefusedError
from vesk.core.figures import read_number
from vesk.core.timecode import FrameRate, Timecode, wrap_day
from vesk.core.wording import duration, how_late

_FRAME = re.compile(r"(?:frame|f|#)\s*(\d{1,9})", re.ASCII | re.IGNORECASE)
_MOST_S = 100 * 3600


@dataclass(frozen=True, slots=True)
class ByHand:
    """The same event on a picture and on a sound.

    Attributes
    ----------
    picture_s, sound_s : Fraction
        When it is on each, seconds from its start.
    """

    picture_s: Fraction
    sound_s: Fraction

    @property
    def place(self) -> Fraction:
        """Picture time at which sound sample 0 belongs, seconds."""
        return self.picture_s - self.sound_s

    def says(self, picture: str, sound: str, *, laid_s: float | None, fps: Fraction) -> str:
        """Return the difference and its direction.

        Parameters
        ----------
        picture, sound : str
            Names of the two.
        laid_s : float or None
            Picture time at which sample 0 lies now, seconds; None where the two are not paired.
        fps : Fraction
            Of the picture, frames a second.
        """
        away = abs(float(self.place))
        if away == 0:
            text = f"{sound} and {picture} begin together"
        else:
            text = f"{sound} begins {_span(away)} {'after' if self.place > 0 else 'before'} {picture}"
        if laid_s is None:
            return f"{text}."
        late = laid_s - float(self.place)
        if abs(late) < 5e-7:
            return f"{text}. It lies there already."
        way = "earlier" if late > 0 else "later"
        return f"{text}. Its sound is {how_late(late, fps)} now: it moves {_span(abs(late))} {way}."


def _span(seconds: float) -> str:
    if seconds < 0.1:
        return f"{seconds * 1000:.1f} ms"
    return f"{seconds:.3f} s" if seconds < 60 else duration(seconds)


def read_moment(text: str, *, start: Fraction | None, clock: FrameRate, fps: Fraction | None) -> Fraction:
    """Read when something is on a recording: seconds, a frame, or a timecode label.

    Parameters
    ----------
    text : str
        Like ``6.20``, ``6.20 s``, ``frame 53``, ``09:12:08:05``.
    start : Fraction or None
        Where the recording starts on the label clock, seconds; None without timecode.
    clock : FrameRate
        The day's label clock.
    fps : Fraction or None
        Of its picture; None for a sound.

    Returns
    -------
    Fraction
        Seconds from its start. A frame is the moment at which it begins.

    Raises
    ------
    RefusedError
        If it is nothing of the kind, or a label on a recording without timecode.
    TimecodeError
        If there is no such label.

    Examples
    --------
    >>> read_moment("frame 53", start=None, clock=FrameRate(Fraction(25)), fps=Fraction(25))
    Fraction(53, 25)
    """
    plain = text.strip()
    frame = _FRAME.fullmatch(plain)
    if frame is not None:
        if fps is None:
            raise RefusedError("A sound has no frames: say when in seconds, or by timecode.")
        return int(frame[1]) / fps
    if plain.count(":") + plain.count(";") == 3:
        if start is None:
            raise RefusedError("It carries no timecode: say when in seconds from its start.")
        return wrap_day(Timecode.parse(plain, clock).seconds - start, clock.day)
    try:
        return read_number(plain.removesuffix("s").strip(), least=-_MOST_S, most=_MOST_S)
    except NumberError:
        raise RefusedError(f"{text!r} is no moment: write 6.20, frame 53 or 09:12:08:05.") from None
