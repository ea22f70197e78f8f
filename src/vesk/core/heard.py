"""What was heard on the channels of a recording: levels, hum, timecode, and what of it leaked."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

from vesk.core.ltc.track import LtcTrack
from vesk.core.plain import Plain
from vesk.core.sound.levels import SoundLevel


@dataclass(frozen=True, slots=True)
class HeardRun:
    """A stretch of timecode that counts on: its first sample, its labels, its frames and those missing."""

    first_sample: float
    first: str
    last: str
    frames: int
    missing: int


@dataclass(frozen=True, slots=True)
class HeardBreak:
    """Where timecode stops counting on: seconds into the recording, the label due there, the one found."""

    at_s: float
    expected: str
    found: str


@dataclass(frozen=True, slots=True)
class HeardHole:
    """Where a movie's sound stops by its own time stamps: at which second, and for how long; below 0, it overlaps."""

    at_s: float
    seconds: float


@dataclass(frozen=True, slots=True)
class LtcHeard:
    """What timecode on one channel says.

    Attributes
    ----------
    rate : Fraction
        Frames a second that it counts at.
    drop : bool
        Whether it skips numbers.
    start : Fraction
        Seconds since label midnight of the recording's first sample.
    label : str
        The same as a label, with the part of a frame.
    first_sample, first_label
        Of its longest run.
    standard_error_s : float
        Of `start`, seconds.
    ppm, standard_error_ppm : float
        Rate of the recording's sample clock against it.
    frames, missing : int
        Read, and not read between those.
    user_bits : str
        Of its first frame, eight hexadecimal digits.
    """

    rate: Fraction
    drop: bool
    start: Fraction
    label: str
    first_sample: float
    first_label: str
    standard_error_s: float
    ppm: float
    standard_error_ppm: float
    frames: int
    missing: int
    user_bits: str
    runs: tuple[HeardRun, ...] = ()
    breaks: tuple[HeardBreak, ...] = ()


@dataclass(frozen=True, slots=True)
class Heard:
    """What was heard on every channel; channels are counted from 0.

    Attributes
    ----------
    levels : tuple of SoundLevel
        One a channel.
    ltc : dict of int to LtcHeard
        Of the channels that carry timecode.
    leaks_db : dict of int to float
        How loud timecode is on other channels, dB against the channel that carries it.
    hum : dict of int to float
        Share of each channel's energy that is mains hum, 0 to 1.
    holes : tuple of HeardHole
        Where its sound does not go on by its own time stamps; what lies after keeps the time it is stamped with.
    """

    levels: tuple[SoundLevel, ...] = ()
    ltc: dict[int, LtcHeard] = field(default_factory=dict)
    leaks_db: dict[int, float] = field(default_factory=dict)
    hum: dict[int, float] = field(default_factory=dict)
    holes: tuple[HeardHole, ...] = ()

    def best_ltc(self) -> tuple[int, LtcHeard] | None:
        """Return the channel with most frames of timecode, and what it says; None without."""
        return max(self.ltc.items(), key=lambda item: item[1].frames, default=None)


HEARD = Plain(Heard)
LTC_HEARD = Plain(LtcHeard)


def ltc_heard(track: LtcTrack) -> LtcHeard:
    """Return what a channel's timecode says, as plain values.

    Parameters
    ----------
    track : LtcTrack
        As it was decoded.
    """
    run = track.longest
    return LtcHeard(
        track.rate.fps, track.rate.drop, track.start, track.label, run.first_sample, str(run.first),
        run.se_sample / track.sample_rate, track.ppm, track.se_ppm, track.frames,
        sum(one.missing for one in track.runs), track.user_bits,
        tuple(HeardRun(one.first_sample, str(one.first), str(one.last), one.frames, one.missing) for one in track.runs),
        tuple(
            HeardBreak(one.at_sample / track.sample_rate, str(one.expected), str(one.found)) for one in track.breaks
        ),
    )  # fmt: skip
