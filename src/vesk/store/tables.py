"""The tables. Times are exact: a numerator and a denominator, never a float. A number is given as a row is flushed."""

# No `from __future__ import annotations` here: table models read their annotations.
from datetime import date, datetime
from fractions import Fraction
from typing import Any, Optional
from uuid import uuid4

from sqlalchemy import BigInteger, CheckConstraint, Column, ForeignKey, Index, Integer, event
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field

from vesk.core.conform.written import WRITTEN, Written
from vesk.core.day.day import MATCH, Match
from vesk.core.facts import FACTS, Facts
from vesk.core.handover.recipe import RECIPE, Product, Recipe
from vesk.core.heard import HEARD, Heard
from vesk.core.kinds import (
    Clock,
    Decided,
    Kind,
    Origin,
    PairingState,
    PointOrigin,
    RecordingState,
    ReportKind,
    Scope,
    Sense,
    SyncPointKind,
    Together,
    Unusable,
    Work,
    WorkState,
)
from vesk.core.moment.rough_cut import ROUGH_CUT, RoughCut
from vesk.core.sound.measurement import MEASUREMENT, Measurement
from vesk.core.told import TOLD, Told
from vesk.store.columns import exact, json, moment, now, word
from vesk.store.row import Row

_VERSIONS = {
    name: Column("version", Integer, nullable=False)
    for name in ("Day", "Source", "ReportRow", "SyncPointRow", "Pairing", "RecipeRow")
}


def _counted(name: str) -> dict[str, Any]:
    """Have the library count a row's changes, and refuse one that was made on another version than there is."""
    return {"version_id_col": _VERSIONS[name]}


class Production(Row, table=True):
    """A film or series."""

    id: int = Field(default=None, primary_key=True)
    name: str


class Day(Row, table=True):
    """A shoot day: its folder, its frame rate, its tolerance."""

    __mapper_args__ = _counted("Day")
    id: int = Field(default=None, primary_key=True)
    production_id: int = Field(foreign_key="production.id", index=True)
    number: int
    shot_on: date
    folder: str
    fps: Fraction = Field(sa_column=exact())
    drop: bool = False
    tolerance: Fraction = Field(sa_column=exact())  # frames
    watched: bool = False  # its folder is looked at again and again
    patterns: list[str] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))  # of file names
    version: int = Field(default=1, sa_column=_VERSIONS["Day"])
    created_at: datetime = Field(default_factory=now, sa_column=moment())


class Source(Row, table=True):
    """One device on the day, with its own clock."""

    __mapper_args__ = _counted("Source")
    __table_args__ = (
        CheckConstraint("kind IN ('picture', 'sound')"),
        Index("source_tag_once", "day_id", "tag", unique=True),
    )
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id")
    tag: str
    name: str
    kind: Kind = Field(sa_column=word(Kind))
    folder: str
    distance_mm: int = 0  # of its microphone from what is heard
    delay_us: int = 0  # internal sound delay; positive: its sound is late on its own picture
    ears_by: str = ""  # who said how late it hears; empty: nobody, and no delay is what is usual
    clock: Optional[Clock] = Field(default=None, sa_column=word(Clock, nullable=True))  # as a person chose
    rate: str = ""  # at which its timecode counts, as a person said; empty: as its files say
    position: int = 0  # among the day's lanes
    gone: bool = False  # left without a recording: what refers to it stays
    version: int = Field(default=1, sa_column=_VERSIONS["Source"])


class Recording(Row, table=True):
    """One file of a source, or several taken together. Facts are read and never edited.

    A file that is `member_of` another recording is not one by itself. A recording that was taken apart stays as
    ``apart``: what was decided about it comes back when it is made again. One that was never read and vanished is
    ``gone``: nothing shows it, and what refers to it stays.
    """

    __table_args__ = (
        CheckConstraint("state IN ('ready', 'unreadable', 'vanished', 'apart', 'gone')"),
        Index("recording_path_once", "day_id", "path", unique=True),
    )
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id")
    source_id: Optional[int] = Field(default=None, foreign_key="source.id", index=True)
    path: str  # below the day's folder
    name: str
    size: int = Field(sa_column=Column(BigInteger, nullable=False))
    modified_ns: int = Field(sa_column=Column(BigInteger, nullable=False))
    content: str = ""  # hash of every byte; until all were read, a name for the file as it lies
    kind: Optional[Kind] = Field(default=None, sa_column=word(Kind, nullable=True))  # none: never read
    state: RecordingState = Field(default=RecordingState.READY, sa_column=word(RecordingState))
    problem: str = ""
    unusable: Optional[Unusable] = Field(default=None, sa_column=word(Unusable, nullable=True))
    facts: Optional[Facts] = Field(default=None, sa_column=json(FACTS))  # none: never read
    start: Optional[Fraction] = Field(default=None, sa_column=exact(nullable=True))  # on the day's label clock
    duration: Fraction = Field(default=Fraction(0), sa_column=exact())
    unpaired: str = ""  # why it has no partner
    searched: Optional[int] = None  # among how many its sound was searched for, and found in none
    heard: Optional[Heard] = Field(default=None, sa_column=json(HEARD))  # on its channels; none: not listened to
    clock: Optional[Clock] = Field(default=None, sa_column=word(Clock, nullable=True))  # by which it was placed
    took: Optional[Fraction] = Field(default=None, sa_column=exact(nullable=True))  # off-speed: its real seconds
    distance_mm: Optional[int] = None  # of its microphone, as a person says of it alone; none: as its source's
    delay_us: Optional[int] = None  # how late its sound is on its own picture, likewise
    ears_by: str = ""
    ears_of: Optional[int] = None  # the heard_stretch row it hears by, where that is said of a part of the day
    aside: str = ""  # why it is left out of pairing: off-speed, or as a person said
    off_speed: str = ""  # how its playback is no real time, where that is why
    told: Optional[Told] = Field(default=None, sa_column=json(TOLD))  # what counts of its scene, take and so on
    merged: Optional[Together] = Field(default=None, sa_column=word(Together, nullable=True))  # none: one file
    members: list[int] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))  # recordings, in order
    merged_why: str = ""
    merged_by: str = ""
    member_of: Optional[int] = Field(default=None, foreign_key="recording.id", index=True)
    version: int = 1  # of what persons said of it; what workers find out does not count


class OverrideRow(Row, table=True):
    """A fact that a person put right. The read value stays beside it; the newest that stands counts."""

    __tablename__ = "override"
    id: int = Field(default=None, primary_key=True)
    recording_id: int = Field(foreign_key="recording.id", index=True)
    field: str
    value: str
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class ClockPeriod(Row, table=True):
    """A stretch of the day in which a source is trusted by another clock than else."""

    __tablename__ = "clock_period"
    id: int = Field(default=None, primary_key=True)
    source_id: int = Field(foreign_key="source.id", index=True)
    since: Fraction = Field(sa_column=exact())  # on the day's label clock
    before: Fraction = Field(sa_column=exact())
    clock: Clock = Field(sa_column=word(Clock))
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())


class ReportRow(Row, table=True):
    """A sound or camera report that came with the day, as a table, and which of its columns mean what."""

    __mapper_args__ = _counted("ReportRow")
    __tablename__ = "report"
    __table_args__ = (CheckConstraint("kind IN ('sound', 'camera')"),)
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id", index=True)
    name: str
    kind: ReportKind = Field(sa_column=word(ReportKind))
    columns: list[str] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    lines: list[list[str]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    mapping: dict[str, str] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))  # field: column
    source_id: Optional[int] = Field(default=None, foreign_key="source.id")  # whose it is; none: any of its kind
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    version: int = Field(default=1, sa_column=_VERSIONS["ReportRow"])


class AcceptedRow(Row, table=True):
    """An oddity that is meant so, with a note."""

    __tablename__ = "accepted"
    __table_args__ = (Index("accepted_once", "day_id", "oddity", unique=True),)
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id")
    oddity: str  # its key: kind and what it is about
    note: str
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())


class SyncPointRow(Row, table=True):
    """A sync point on a recording: heard at a moment, or seen on a frame first. Proposed, or put there by a person.

    A clap seen keeps the clap that was heard with it, which tells the camera's internal sound delay. One that a
    person takes away is ``refused``, and comes back when that is undone.
    """

    __mapper_args__ = _counted("SyncPointRow")
    __tablename__ = "sync_point"
    __table_args__ = (
        CheckConstraint("how IN ('heard', 'seen')"),
        CheckConstraint("state IN ('proposed', 'confirmed', 'refused')"),
    )
    id: int = Field(default=None, primary_key=True)
    recording_id: int = Field(foreign_key="recording.id", index=True)
    how: Sense = Field(sa_column=word(Sense))
    kind: SyncPointKind = Field(sa_column=word(SyncPointKind))
    heard_us: Optional[int] = Field(default=None, sa_column=Column(BigInteger, nullable=True))
    proposed_us: Optional[int] = Field(default=None, sa_column=Column(BigInteger, nullable=True))
    frame: Optional[int] = None  # the first that shows it; of a clap, closed
    proposed_frame: Optional[int] = None
    name: str = ""  # by which it is known on several recordings
    origin: PointOrigin = Field(default=PointOrigin.FOUND, sa_column=word(PointOrigin))
    likely: float  # 0 to 1
    state: Decided = Field(default=Decided.PROPOSED, sa_column=word(Decided))
    decided_by: str = ""
    version: int = Field(default=1, sa_column=_VERSIONS["SyncPointRow"])


class SyncPointChange(Row, table=True):
    """A change that a person made to a sync point: what it was before. The newest that stands is undone first."""

    __tablename__ = "sync_point_change"
    id: int = Field(default=None, primary_key=True)
    sync_point_id: int = Field(sa_column=Column(Integer, ForeignKey("sync_point.id", ondelete="CASCADE"), index=True))
    name: str
    kind: SyncPointKind = Field(sa_column=word(SyncPointKind))
    heard_us: Optional[int] = Field(default=None, sa_column=Column(BigInteger, nullable=True))
    frame: Optional[int] = None
    state: Decided = Field(sa_column=word(Decided))
    decided_by: str = ""
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class SeenLabel(Row, table=True):
    """A label that a person read off a display in a frame of the picture."""

    __tablename__ = "seen_label"
    id: int = Field(default=None, primary_key=True)
    recording_id: int = Field(foreign_key="recording.id", index=True)
    display: str  # which one, by name
    frame: int
    label: Fraction = Field(sa_column=exact())  # on the day's label clock, seconds
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class Pairing(Row, table=True):
    """One camera recording and one sound recording that share real time.

    One that clocks no longer propose is ``withdrawn``, and comes back when they do.
    """

    __mapper_args__ = _counted("Pairing")
    __table_args__ = (
        CheckConstraint("state IN ('proposed', 'measured', 'set aside', 'withdrawn')"),
        Index("pairing_once", "picture_id", "sound_id", unique=True),
    )
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id", index=True)
    picture_id: int = Field(foreign_key="recording.id")
    sound_id: int = Field(foreign_key="recording.id", index=True)
    offset: Fraction = Field(sa_column=exact())  # by timecode: picture time of sound sample 0
    state: PairingState = Field(default=PairingState.PROPOSED, sa_column=word(PairingState))
    reason: str = ""
    said_by: str = ""  # who said that the two belong together; empty: nobody, Vesk found them
    measurement: Optional[Measurement] = Field(default=None, sa_column=json(MEASUREMENT))
    measured_of: str = ""  # the contents it was measured on; empty: those there are
    tolerance: Optional[Fraction] = Field(default=None, sa_column=exact(nullable=True))  # frames; None: the day's
    channels: str = ""  # of its sound that go out, as a person said; empty: as the recipe has it
    measured_as: Optional[str] = None  # names this measurement, anew whenever one is kept; None: not measured
    version: int = Field(default=1, sa_column=_VERSIONS["Pairing"])


@event.listens_for(Pairing.measurement, "set")
def _name_measurement(row: Pairing, value: Any, _old: Any, _initiator: Any) -> None:
    """Name a measurement as it is kept, so that what is computed from it is known by its name."""
    row.measured_as = None if value is None else uuid4().hex


@event.listens_for(Pairing, "before_insert")
def _name_first(_mapper: Any, _connection: Any, row: Pairing) -> None:
    """Name a measurement that a pairing is made with: its defaults come after what was given."""
    if row.measurement is not None and row.measured_as is None:
        row.measured_as = uuid4().hex


class ComparedRow(Row, table=True):
    """Two recordings of one kind, compared by their own sound: whether both heard the same moments, how they lie."""

    __tablename__ = "compared"
    __table_args__ = (Index("compared_once", "one_id", "other_id", "of", unique=True),)
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id", index=True)
    one_id: int = Field(foreign_key="recording.id")
    other_id: int = Field(foreign_key="recording.id")
    of: str  # the contents of both, as they were then
    same_moment: bool
    across: Optional[Match] = Field(default=None, sa_column=json(MATCH))  # measured: the first as the picture


class CorrectionRow(Row, table=True):
    """What is done to a pairing. Added and undone, never edited: the newest that stands counts."""

    __tablename__ = "correction"
    id: int = Field(default=None, primary_key=True)
    pairing_id: int = Field(foreign_key="pairing.id", index=True)
    slip: Fraction = Field(sa_column=exact())  # seconds
    ppm: Fraction = Field(sa_column=exact())
    anchor: Fraction = Field(sa_column=exact())  # sound seconds
    # Jump mends: [sound seconds, step of picture seconds] as "num/den" texts.
    jumps: list[list[str]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    origin: Origin = Field(sa_column=word(Origin))
    retimed: Kind = Field(default=Kind.SOUND, sa_column=word(Kind))  # the one that is not the truth
    act: str = Field(default="", index=True)  # what was done at once has one name, and is undone by it
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class ScopedCorrectionRow(Row, table=True):
    """One correction for several takes: of a camera with a recorder, in a part of the day, of a recording.

    Added and undone, never edited. Those of different scopes add up; of one scope, the newest counts.
    """

    __tablename__ = "scoped_correction"
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id", index=True)
    scope: Scope = Field(default=Scope.DEVICE, sa_column=word(Scope))
    picture_source_id: Optional[int] = Field(default=None, foreign_key="source.id")  # none: a recording's
    sound_source_id: Optional[int] = Field(default=None, foreign_key="source.id")
    recording_id: Optional[int] = Field(default=None, foreign_key="recording.id")  # whose takes, of a run
    over: bool = False  # above what single takes had of their own then
    retimed: Kind = Field(default=Kind.SOUND, sa_column=word(Kind))  # what its rate is laid at
    since: Optional[Fraction] = Field(default=None, sa_column=exact(nullable=True))  # on the day's label clock
    before: Optional[Fraction] = Field(default=None, sa_column=exact(nullable=True))
    slip: Fraction = Field(sa_column=exact())  # seconds, at the anchor
    drift: Fraction = Field(sa_column=exact())  # ppm: by how much it grows over the day's label clock
    ppm: Fraction = Field(sa_column=exact())  # rate of the sound inside each take
    anchor: Fraction = Field(sa_column=exact())  # on the day's label clock
    jumps: list[list[str]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))  # of a run: as above
    act: str = Field(default="", index=True)
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class CheckRow(Row, table=True):
    """A statement that head, middle and tail hold as corrected then."""

    __tablename__ = "check_mark"
    id: int = Field(default=None, primary_key=True)
    pairing_id: int = Field(foreign_key="pairing.id", index=True)
    correction_id: Optional[int] = Field(default=None, foreign_key="correction.id")
    scoped: list[int] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))  # that it lay by
    act: str = Field(default="", index=True)
    of: str = ""  # the contents it was made on; empty: those there are
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class WatchNote(Row, table=True):
    """What is wrong at one time of a recording, in a sentence."""

    __tablename__ = "watch_note"
    id: int = Field(default=None, primary_key=True)
    recording_id: int = Field(foreign_key="recording.id", index=True)
    at_us: int = Field(sa_column=Column(BigInteger, nullable=False))
    text: str
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class KeptRange(Row, table=True):
    """The range of a picture that is handed over: its first frame, and the first that is not any more."""

    __tablename__ = "kept_range"
    __table_args__ = (CheckConstraint("first >= 0 AND last > first"),)
    id: int = Field(default=None, primary_key=True)
    recording_id: int = Field(foreign_key="recording.id", index=True)
    first: int
    last: int
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class RoughCutRow(Row, table=True):
    """A rough cut of the moment of a recording, whole, after one act; undone, the one before counts."""

    __tablename__ = "rough_cut"
    id: int = Field(default=None, primary_key=True)
    recording_id: int = Field(foreign_key="recording.id", index=True)
    cut: Optional[RoughCut] = Field(default=None, sa_column=json(ROUGH_CUT))
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: Optional[datetime] = Field(default=None, sa_column=moment(nullable=True))


class JournalRow(Row, table=True):
    """Something done, by whom, when."""

    __tablename__ = "journal"
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id", index=True)
    pairing_id: Optional[int] = Field(default=None, foreign_key="pairing.id")
    act: str = ""
    at: datetime = Field(default_factory=now, sa_column=moment())
    by: str
    what: str
    entry: str = Field(default="", index=True)  # names what it changed
    undoes: str = ""  # the entry that it undid


class RecipeRow(Row, table=True):
    """What a turnover makes, under a name, for a whole production."""

    __mapper_args__ = _counted("RecipeRow")
    __tablename__ = "recipe"
    __table_args__ = (Index("recipe_once", "production_id", "name", unique=True),)
    id: int = Field(default=None, primary_key=True)
    production_id: int = Field(foreign_key="production.id", index=True)
    name: str
    recipe: Optional[Recipe] = Field(default=None, sa_column=json(RECIPE))
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    version: int = Field(default=1, sa_column=_VERSIONS["RecipeRow"])


class Turnover(Row, table=True):
    """What was made and handed over at one time: unfinished, in a folder that says so, until it is done."""

    __table_args__ = (CheckConstraint("state IN ('waiting', 'running', 'done', 'stopped', 'failed')"),)
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id", index=True)
    folder: str
    state: WorkState = Field(default=WorkState.WAITING, sa_column=word(WorkState))
    problem: str = ""
    recipe: Optional[Recipe] = Field(default=None, sa_column=json(RECIPE))  # as it was then; none: sound alone
    named: str = ""  # the recipe's name
    documents: list[str] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))  # beside the takes
    says: str = ""  # of the package as a whole: its first line, and what differs from the one before
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())


class Delivery(Row, table=True):
    """One file for a camera take of a turnover: delivered, or why not. Kept as soon as it stands."""

    __table_args__ = (Index("delivery_once", "turnover_id", "picture_id", "product", "part", unique=True),)
    id: int = Field(default=None, primary_key=True)
    turnover_id: int = Field(foreign_key="turnover.id", index=True)
    picture_id: int = Field(foreign_key="recording.id")  # or of the sound that was cut
    product: Product = Field(default=Product.SOUND, sa_column=word(Product))
    part: int = 0  # which of several: a channel
    name: str = ""  # file name; empty when not delivered
    reason: str = ""
    written: Optional[Written] = Field(default=None, sa_column=json(WRITTEN))  # none: not delivered


class Progress(Row, table=True):
    """A piece of long work: what it is doing, how much is left, whether it was asked to stop."""

    __table_args__ = (
        CheckConstraint("state IN ('waiting', 'running', 'done', 'failed', 'stopped')"),
        Index("progress_open", "day_id", "state"),
        Index("progress_once", "day_id", "kind", "subject_id", unique=True),
    )
    id: int = Field(default=None, primary_key=True)
    day_id: int = Field(foreign_key="day.id")
    kind: Work = Field(sa_column=word(Work))
    subject_id: int  # day, recording, pairing or turnover
    what: str  # for a person: "measuring A006_001 with 31A_01"
    done: int = 0
    total: int = 0
    state: WorkState = Field(default=WorkState.WAITING, sa_column=word(WorkState))
    problem: str = ""
    stop: bool = False
    opened_at: datetime = Field(default_factory=now, sa_column=moment())
    changed_at: datetime = Field(default_factory=now, sa_column=moment())
