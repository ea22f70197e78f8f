"""The take ledger: one row for each pairing of a camera take, and for each recording that has none."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.actions.intake import told_slate
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import CHECKED, SET_ASIDE, UNPAIRED, PairingStatus
from vesk.actions.placing import Placed
from vesk.core.intake.copies import is_copy
from vesk.core.kinds import NO_RECORDING, PICTURE, Cause, Discord
from vesk.core.timecode import FrameRate, Timecode
from vesk.dailies.searching import why_alone
from vesk.store import days
from vesk.store.tables import Recording
from vesk.web.shared.trace_plot import TracePlot, trace_plot

FILTERS = {
    "all": "all",
    "needs": "needs you",
    "out": "out of tolerance",
    "unpaired": "unpaired",
    "broken": "cannot be read",
    "unchecked": "unchecked",
    "disagrees": "evidence disagrees",
    "pattern": "breaks its device's pattern",
    "ambiguous": "ambiguous",
    "alone": "rests on one kind",
    "joined": "joined by hand",
}
ALWAYS = ("all", "needs", "out", "unpaired", "broken", "unchecked")  # the others only where there are any
UNREADABLE = "unreadable"


@dataclass(frozen=True, slots=True)
class Row:
    """One row of the ledger.

    Attributes
    ----------
    slate : str
        Scene and take; empty when this row goes on with the take above.
    recording : Recording
        The camera's, or the recorder's where there is no picture.
    now : PairingStatus or None
        The pairing, where there is one.
    nowhere : bool
        Whether nobody set its pairings aside, and yet all are: nothing recorded its sound.
    """

    slate: str
    continued: bool
    source: str
    recording: Recording
    label: str
    now: PairingStatus | None
    plot: TracePlot | None
    brief: str
    state: str
    needs: bool
    out: bool
    nowhere: bool = False

    @property
    def kinds(self) -> str:
        """Which kinds of evidence it rests on, and which of them says otherwise than the day as a whole."""
        told = [] if self.now is None else [one for one in self.now.evidence if one.offset_s is not None]
        return " + ".join(f"{one.kind} apart" if one.otherwise else one.kind for one in told)

    @property
    def fps(self) -> Fraction:
        """Of the picture; 1 where there is none."""
        return self.now.fps if self.now else Fraction(1)

    def shown_by(self, chosen: str) -> bool:
        """Say whether a filter shows the row."""
        return {
            "needs": self.needs,
            "out": self.out,
            "unpaired": self.state == UNPAIRED or (self.nowhere and not self.continued),
            "broken": self.state in {UNREADABLE, "vanished"},
            "disagrees": bool(self.now and self.now.contradiction),
            "pattern": bool(self.now and self.now.contradiction and self.now.contradiction.about == Discord.PATTERN),
            "ambiguous": bool(self.now and self.now.verdict and self.now.verdict.cause == Cause.AMBIGUOUS_FIT),
            "alone": bool(self.now and sum(one.offset_s is not None for one in self.now.evidence) == 1),
            "joined": bool(self.now and self.now.is_joined),
            "unchecked": self.state not in {CHECKED, SET_ASIDE, UNREADABLE} and self.now is not None,
        }.get(chosen, True)


def _slate(recording: Recording, now: PairingStatus | None) -> str:
    scene, take = told_slate(now.telling if now else [recording])
    return " / ".join(filter(None, (scene, take))) or "—"


def rows(view: Overview) -> list[Row]:
    """Return the ledger's rows: takes by time, then what lies apart."""
    clock = days.rate_of(view.day)
    tags: dict[int | None, str] = {source.id: source.tag for source in view.sources}
    by_picture: dict[int, list[PairingStatus]] = {}
    for now in view.statuses:
        by_picture.setdefault(now.pairing.picture_id, []).append(now)
    listed, placed = view.recordings, view.placed
    made: list[Row] = []
    apart: list[Row] = []
    for recording in sorted(
        listed, key=lambda r: (r.id not in placed, placed[r.id].start if r.id in placed else 0, r.path)
    ):
        own = by_picture.get(recording.id, [])
        source = tags.get(recording.source_id, "—")
        if recording.unusable in NO_RECORDING:
            continue  # Intake tells it
        if recording.state != "ready":
            word = UNREADABLE if recording.state == "unreadable" else "vanished"
            apart.append(_alone(recording, source, "—", recording.problem.split(": ", 1)[-1], word))
        elif own:
            label = _label(placed.get(recording.id), clock)
            nowhere = all(now.aside and now.is_displaced and not recording.aside for now in own)
            for index, now in enumerate(own):
                made.append(_paired(recording, source, label, now, continued=index > 0, nowhere=nowhere))
        elif recording.unpaired:
            label = _label(placed.get(recording.id), clock)
            why = why_alone(recording.unpaired, recording.searched)
            row = _alone(recording, source, label, why, SET_ASIDE if recording.aside else UNPAIRED)
            (made if recording.kind == PICTURE and not is_copy(recording.aside) else apart).append(row)
    return made + apart


def _label(place: Placed | None, clock: FrameRate) -> str:
    """Write where a recording starts: by the clock that is trusted, with ``~`` where only sound says."""
    return "—" if place is None else f"{'~' if place.by_sound else ''}{Timecode.at(place.start, clock)}"


def _paired(
    recording: Recording, source: str, label: str, now: PairingStatus, *, continued: bool, nowhere: bool
) -> Row:
    verdict = now.verdict
    brief = verdict.brief if verdict else "not measured yet"
    if now.state == SET_ASIDE:
        brief = now.aside
    return Row(
        slate=_slate(recording, now),
        continued=continued,
        source=source,
        recording=recording,
        label=label,
        now=now,
        plot=trace_plot(now.judged, width=150, height=26, left=0, pad=1.5),
        brief=brief,
        state=now.state,
        needs=now.needs_person,
        out=verdict is not None and not verdict.holds and now.state not in {CHECKED, SET_ASIDE},
        nowhere=nowhere,
    )


def _alone(recording: Recording, source: str, label: str, why: str, state: str) -> Row:
    return Row(
        slate=_slate(recording, None) if recording.facts else "—",
        continued=False,
        source=source,
        recording=recording,
        label=label,
        now=None,
        plot=None,
        brief=why,
        state=state,
        needs=False,
        out=False,
    )


def headline(listed: list[Row]) -> str:
    """Say in one sentence how the day stands."""
    takes = {
        row.recording.id
        for row in listed
        if row.recording.kind == PICTURE and (row.nowhere or row.state not in {UNREADABLE, "vanished", SET_ASIDE})
    }
    silent = {row.recording.id for row in listed if row.shown_by("unpaired") and row.recording.kind == PICTURE}
    needing = {row.recording.id for row in listed if row.needs}
    holding = takes - needing - silent
    wild = sum(row.state == UNPAIRED and row.recording.kind != PICTURE for row in listed)
    broken = sum(row.state in {UNREADABLE, "vanished"} for row in listed)
    parts = [f"{len(holding)} {'holds' if len(holding) == 1 else 'hold'}"]
    parts.append(f"{len(needing)} {'needs' if len(needing) == 1 else 'need'} you")
    if silent:
        parts.append(f"{len(silent)} {'has' if len(silent) == 1 else 'have'} no sound")
    tail = []
    aside = sum(row.state == SET_ASIDE for row in listed)
    if aside:
        tail.append(f"{aside} set aside")
    if wild:
        tail.append(f"{wild} sound without picture")
    if broken:
        tail.append(f"{broken} file{'' if broken == 1 else 's'} cannot be read")
    takes_word = "take" if len(takes) == 1 else "takes"
    return f"{len(takes)} camera {takes_word}: {', '.join(parts)}" + (f"; {', '.join(tail)}" if tail else "")
