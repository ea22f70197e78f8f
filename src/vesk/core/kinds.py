"""The kinds of things, and the states they are in: enumerations, whose values are what rows and JSON hold.

A sentence is made of them at the edge; nothing is ever read back from a sentence.
"""

from __future__ import annotations

from enum import IntEnum, StrEnum


class Kind(StrEnum):
    """What a recording is of."""

    PICTURE = "picture"
    SOUND = "sound"


class ReportKind(StrEnum):
    """Whose report a table is."""

    SOUND = "sound"
    CAMERA = "camera"

    @property
    def lists(self) -> Kind:
        """What its lines are about."""
        return Kind.SOUND if self == ReportKind.SOUND else Kind.PICTURE


class Together(StrEnum):
    """How files merged into one recording lie: one after the other, or side by side as channels."""

    RUN = "run"
    SET = "set"


class Clock(StrEnum):
    """What a recording's start is read from."""

    HEADER = "header"
    LTC = "LTC"
    NONE = "none"


class RecordingState(StrEnum):
    """Whether a recording can be used.

    One taken ``APART`` rests, with what was decided about it; one ``GONE`` was never read and vanished.
    """

    READY = "ready"
    UNREADABLE = "unreadable"
    VANISHED = "vanished"
    APART = "apart"
    GONE = "gone"


class PairingState(StrEnum):
    """What is kept of a pairing's state; whether it is corrected or checked follows from other rows."""

    PROPOSED = "proposed"
    MEASURED = "measured"
    SET_ASIDE = "set aside"
    WITHDRAWN = "withdrawn"


class Status(StrEnum):
    """How a pairing stands, as pages say it."""

    PROPOSED = "proposed"
    MEASURED = "measured"
    CORRECTED = "corrected"
    CHECKED = "checked"
    SET_ASIDE = "set aside"
    UNPAIRED = "unpaired"


class Decision(StrEnum):
    """What measuring by sound decided."""

    MATCHED = "matched"
    AMBIGUOUS = "ambiguous"
    REFUSED = "refused"


class Gained(StrEnum):
    """What a recording holds where it gained samples."""

    TWICE = "twice"
    SILENCE = "silence"


class Cause(StrEnum):
    """What is wrong with a pairing, or that nothing is."""

    WITHIN = "within tolerance"
    WHOLE_FRAME = "whole-frame offset"
    SLIP = "sub-frame slip"
    OFFSET = "offset"
    CLOCK = "clock set wrong"
    DROP = "drop/non-drop confusion"
    RATE_LABEL = "rate-label confusion"
    DRIFT = "free-running drift"
    PULL = "pull-down or pull-up"
    SPEED = "24 run as 25"
    SAMPLE_RATE = "sample rate mislabelled"
    JUMP = "jump"
    DELAY = "camera's internal sound delay"
    DISTANCE = "microphone distance"
    OFF_SPEED = "off-speed picture"
    WRONG_PARTNER = "wrong partner"
    AMBIGUOUS_FIT = "ambiguous"
    NO_SOUND = "no common sound"
    DISAGREES = "evidence disagrees"


class Witness(StrEnum):
    """What evidence comes from."""

    TIMECODE = "timecode"
    SOUND = "sound"
    SYNC_POINT = "sync point"
    PERSON = "person"


class Discord(StrEnum):
    """What evidence that cannot be true together is about."""

    LATENESS = "scratch against picture"
    PATTERN = "sound against clock"
    POINT = "sound against sync point"
    CLAP = "one take's claps against its camera's"
    SLATE = "sound against slate"


class Asked(StrEnum):
    """What a person is asked to say of a day."""

    LATENESS = "how late a camera hears"
    CLOCK = "one correction for a device"
    PATTERN = "breaks its device's pattern"
    POINT = "sound or the sync point"
    CLAP = "whether one take of a camera is off"
    SLATE = "which slate is right"
    LOOK = "what nothing tells"
    AMBIGUOUS = "which of two it is"


class SyncPointKind(StrEnum):
    """What marks a sync point."""

    CLAP = "clap"
    TONE = "tone"
    WORD = "word"
    LIGHT = "light"
    MARKER = "marker"
    OTHER = "other"


class PointOrigin(StrEnum):
    """Where a sync point comes from: found by Vesk, a marker of the file, or put there by a person."""

    FOUND = "found"
    MARKER = "marker"
    PERSON = "person"


class Sense(StrEnum):
    """How a sync point was found."""

    HEARD = "heard"
    SEEN = "seen"


class Decided(StrEnum):
    """What a person said of what Vesk proposed."""

    PROPOSED = "proposed"
    CONFIRMED = "confirmed"
    REFUSED = "refused"


class Origin(StrEnum):
    """Where a correction comes from: Vesk's proposal, a person's own figures, or the same event put on both."""

    PROPOSAL = "proposal"
    OWN = "own"
    JOINED = "joined"


class Scope(StrEnum):
    """What one correction is for, in the order in which they add up; a take's own stands above their sum."""

    DEVICE = "device"
    STRETCH = "stretch"
    RUN = "run"


class Work(StrEnum):
    """The kinds of long work that pages show."""

    INTAKE = "intake"
    LISTEN = "listen"
    MERGE = "merge"
    SYNC_POINTS = "sync points"
    PAIR = "pair"
    SEARCH = "search"
    MEASURE = "measure"
    COMPARE = "compare"
    DELIVER = "deliver"
    LIGHT = "light copy"


class WorkState(StrEnum):
    """How far a piece of long work is."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    STOPPED = "stopped"


class Unusable(StrEnum):
    """Why nothing can be done with a file."""

    DAMAGED = "cannot be read"
    EMPTY = "empty file"
    FOREIGN = "not a recording"
    HANDED_OVER = "handed over"
    VANISHED = "vanished"


NO_RECORDING = (Unusable.FOREIGN, Unusable.HANDED_OVER)  # nothing of the day is missing for them


class OddityKind(StrEnum):
    """What may be odd about a day's recordings, beside files that cannot be used."""

    ANOTHER_DAY = "another day"
    LTC_BREAKS = "LTC breaks"
    LTC_LEAKS = "LTC leaks"
    CLIPPED_CHANNEL = "clipped channel"
    CLOCK_OFF_BY_HOURS = "clock off by hours"
    CUT_SHORT_OR_INEXACT = "cut short or inexact"
    DOUBLED_FILE = "doubled file"
    FILE_NOT_ON_THE_REPORT = "file, not on the report"
    FRAME_RATE_DIFFERS = "frame rate differs"
    HEADER_AND_LTC_DISAGREE = "header and LTC disagree"
    HOLE_IN_THE_SOUND = "hole in the sound"
    HUMMING_CHANNEL = "humming channel"
    MONO_SET_INCOMPLETE = "mono set incomplete"
    NO_TIMECODE = "no timecode"
    NUMBER_MISSING = "number missing"
    OFF_SPEED_PICTURE = "off-speed picture"
    ON_THE_REPORT_NO_FILE = "on the report, no file"
    OVERLAP_WITHIN_A_SOURCE = "overlap within a source"
    REPORT_AND_FILE_DISAGREE = "report and file disagree"
    SAME_SOUND = "same sound"
    SAMPLE_RATE_DIFFERS = "sample rate differs"
    SILENT_CHANNEL = "silent channel"
    SMALLER_COPY = "smaller copy"
    STARTS_AT_ZERO = "starts at zero"
    TIMECODE_IS_NO_CLOCK = "timecode is no clock"


class Weight(IntEnum):
    """How much an oddity matters: material is lost; something will go wrong; look at it; good to know."""

    LOST = 4
    WRONG = 3
    CARE = 2
    NOTE = 1


class Flaw(StrEnum):
    """What reading a file found wrong with it, beside the remark that says it."""

    CUT_SHORT = "cut short"
    COUNTED = "counted"


PICTURE, SOUND = Kind.PICTURE, Kind.SOUND
RUN, SET = Together.RUN, Together.SET
HEADER, LTC, NONE = Clock.HEADER, Clock.LTC, Clock.NONE
MATCHED, AMBIGUOUS, REFUSED = Decision.MATCHED, Decision.AMBIGUOUS, Decision.REFUSED
CLAP, TONE, MARKER = SyncPointKind.CLAP, SyncPointKind.TONE, SyncPointKind.MARKER
LOST, WRONG, CARE, NOTE = Weight


class Role(StrEnum):
    """What somebody with an account may do."""

    LOOK = "may look"
    CHANGE = "may change"
