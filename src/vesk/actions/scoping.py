"""One correction for several takes: which it touches, what it does to them, taken and undone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Protocol
from uuid import uuid4

from sqlmodel import Session

from vesk.actions import correct
from vesk.actions.composing import by_parts, in_order, is_of
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import CHECKED, SET_ASIDE, PairingStatus
from vesk.actions.remembered import Remembered
from vesk.core.conform.correction import Correction, Errors, errors
from vesk.core.conform.device import DeviceCorrection, DeviceFit, Take, fit_device
from vesk.core.day.clocks import around
from vesk.core.errors import NotFoundError, RefusedError, VeskError
from vesk.core.kinds import Kind, Scope
from vesk.core.timecode import Timecode
from vesk.core.wording import signed
from vesk.settings import Settings
from vesk.store import changes, days, journal, pairings
from vesk.store.pairings import Undoable
from vesk.store.tables import Day, Recording, ScopedCorrectionRow, Source

_FITTED: Remembered[tuple[tuple[Take, ...], Fraction], list[DeviceFit | None]] = Remembered(400)


@dataclass(frozen=True, slots=True)
class Scoped:
    """A correction for several takes, before it is taken.

    Attributes
    ----------
    row : ScopedCorrectionRow
        As it would be kept.
    touched : tuple of PairingStatus
        All takes in its scope that nobody checked, nor corrected alone where it does not stand above that.
    left : tuple of str
        Which of them it does not put right, where it was fitted.
    """

    row: ScopedCorrectionRow
    touched: tuple[PairingStatus, ...]
    left: tuple[str, ...] = ()

    @property
    def says(self) -> str:
        """What it is, in a few words, in frames of its first take."""
        return scoped_says(self.row, float(self.touched[0].fps))


def scoped_says(row: ScopedCorrectionRow, fps: float) -> str:
    """Return what a correction for several takes does, in a few words.

    Parameters
    ----------
    row : ScopedCorrectionRow
    fps : float
        Of its pictures.
    """
    said = f"slip {signed(float(row.slip) * fps, 2)} f"
    if row.drift:
        said += f", growing {signed(float(row.drift) * 3600e-6 * fps, 2)} f an hour"
    if row.ppm:
        said += f", rate {signed(float(row.ppm), 2)} ppm"
        said += ", the picture retimed" if row.retimed == Kind.PICTURE else ""
    if row.jumps:
        said += f", {'a jump' if len(row.jumps) == 1 else f'{len(row.jumps)} jumps'} mended"
    return said


def scope_of(view: Overview, about: Sequence[PairingStatus]) -> Scoped | None:
    """Return the one correction that puts takes of one camera with one recorder right; None where none does.

    Takes of the same stretch of both clocks belong to it whether they are out of tolerance or not. A source that
    several devices share has no clock of its own, and so no correction.

    Parameters
    ----------
    view : Overview
    about : sequence of PairingStatus
    """
    pairs = {(one.picture_source.id, one.sound_source.id) for one in about}
    if len(pairs) != 1 or not all(one.timed for one in about):
        return None
    picture, sound = about[0].picture_source, about[0].sound_source
    length = days.rate_of(view.day).day
    if any(_is_shared(view, source) for source in (picture, sound)):
        return None
    labels = [float(one.picture.start) for one in about if one.picture.start is not None]
    clocks = [clock for tag in (picture.tag, sound.tag) if (clock := view.solution.clocks.get(tag)) is not None]
    since, before = (_label(edge, length) for edge in around(clocks, min(labels), max(labels)))
    row = _new_row(view, picture, sound, DeviceCorrection(Fraction(0)), since, before)
    touched = _touched(view, row)
    takes = tuple(take for one in touched if (take := _take(one, _beneath(one, row, length))) is not None)
    kept = _FITTED.find((takes, length))
    if kept is None:
        kept = [fit_device(takes, length)]
        _FITTED.keep((takes, length), kept)
    fit = kept[0]
    asked = {str(one.pairing.id) for one in about}
    if fit is None or 2 * len(asked & set(fit.left)) >= len(asked):
        return None
    found = fit.correction
    row.slip, row.drift, row.ppm, row.anchor = found.slip, found.drift, found.ppm, found.anchor
    return Scoped(row, touched, fit.left)


def typed_scope(
    view: Overview,
    picture: Source,
    sound: Source,
    correction: DeviceCorrection,
    *,
    since: Fraction | None = None,
    before: Fraction | None = None,
    over: bool = False,
) -> Scoped:
    """Return a correction as a person typed it, with the takes that it touches.

    Parameters
    ----------
    view : Overview
    picture, sound : Source
        A camera and a recorder.
    correction : DeviceCorrection
    since, before : Fraction, optional
        On the day's label clock, seconds; open where None.
    over : bool
        Whether it stands above what single takes have of their own.

    Raises
    ------
    RefusedError
        If no take lies in it that nobody corrected or checked, or a figure is beyond what can be.
    """
    row = _new_row(view, picture, sound, correction, since, before, over=over)
    return _or_refuse(view, row, f"of {picture.tag} with {sound.tag} lies there")


def run_scope(
    view: Overview, of: Recording, like: PairingStatus, *, slip: Fraction, ppm: Fraction, retimed: Kind
) -> Scoped:
    """Return a correction for all takes of one recording that lays one of them as typed.

    A recorder's jumps are mended with it: what one take found of them holds for every other that the file sounds under.

    Parameters
    ----------
    view : Overview
    of : Recording
    like : PairingStatus
        The take that slip (seconds) and rate are typed for: what its device's corrections do is taken off.
    slip, ppm : Fraction
    retimed : Kind
    """
    row = ScopedCorrectionRow(
        day_id=view.day.id, scope=Scope.RUN, recording_id=of.id, slip=Fraction(0), drift=Fraction(0), ppm=Fraction(0),
        anchor=Fraction(0), retimed=retimed, made_by="",
    )  # fmt: skip
    if of.id == like.sound.id:
        known = like.as_corrected.jumps or (like.proposal.jumps if like.proposal is not None else ())
        row.jumps = [[str(at), str(step)] for at, step in known]
    beneath = _beneath(like, row, days.rate_of(view.day).day)
    row.slip, row.ppm = slip - beneath.slip, ppm - beneath.ppm
    return _or_refuse(view, row, f"of {of.name} is there")


def _new_row(
    view: Overview, picture: Source, sound: Source, by: DeviceCorrection, since: Fraction | None,
    before: Fraction | None, *, over: bool = False,
) -> ScopedCorrectionRow:  # fmt: skip
    scope = Scope.DEVICE if since is None and before is None else Scope.STRETCH
    return ScopedCorrectionRow(
        day_id=view.day.id, scope=scope, picture_source_id=picture.id, sound_source_id=sound.id, since=since,
        before=before, slip=by.slip, drift=by.drift, ppm=by.ppm, anchor=by.anchor, retimed=by.retimed, over=over,
        made_by="",
    )  # fmt: skip


def _or_refuse(view: Overview, row: ScopedCorrectionRow, what: str) -> Scoped:
    """Return a correction with its takes, in bounds.

    Raises
    ------
    RefusedError
        If there are none, or a figure is beyond what can be.
    """
    correct.in_bounds(row.slip, row.ppm)
    correct.in_bounds(Fraction(0), row.drift)
    touched = _touched(view, row)
    if not touched:
        raise RefusedError(f"No take {what} that nobody corrected or checked: nothing was done.")
    return Scoped(row, touched)


def _touched(view: Overview, row: ScopedCorrectionRow) -> tuple[PairingStatus, ...]:
    length = days.rate_of(view.day).day
    return tuple(one for one in view.statuses if is_of(row, one.picture, one.sound, length) and _is_open(one, row))


def _is_open(one: PairingStatus, row: ScopedCorrectionRow) -> bool:
    free = one.state not in {CHECKED, SET_ASIDE} and one.contradiction is None
    return free and (one.correction is None or row.over)


def _beneath(one: PairingStatus, row: ScopedCorrectionRow, length: Fraction) -> Correction:
    """Return what the other scopes do to a take: those of its own scope give way."""
    others = tuple(part for part in one.parts if part.scope != row.scope)
    return by_parts(others, one.pairing, one.picture, length)


def before_and_after(scoped: Scoped, length: Fraction) -> list[tuple[PairingStatus, Errors, Errors]]:
    """Return the best and the worst take as they lie and as they would lie, by what is left.

    Parameters
    ----------
    scoped : Scoped
    length : Fraction
        How long the label clock takes to come round, seconds.
    """
    found = []
    for one in scoped.touched:
        line = one.judged.line
        if line is not None and one.errors is not None:
            parts = in_order([*(part for part in one.parts if part.scope != scoped.row.scope), scoped.row])
            laid = by_parts(parts, one.pairing, one.picture, length).on(one.pairing.offset)
            found.append((one, one.errors, errors(laid, line, one.points, late_s=one.late_s)))
    return best_and_worst(found)


def slip_preview(about: Sequence[PairingStatus], by_frames: Fraction) -> list[tuple[PairingStatus, Errors, Errors]]:
    """Return the best and the worst of some takes as they lie and as they would lie, each moved by some frames.

    Parameters
    ----------
    about : sequence of PairingStatus
    by_frames : Fraction
        Positive is later.
    """
    found = []
    for one in about:
        if one.errors is not None:
            by = float(by_frames / one.fps)
            found.append((one, one.errors, Errors(*(error + by for error in one.errors.all))))
    return best_and_worst(found)


def best_and_worst(
    found: list[tuple[PairingStatus, Errors, Errors]],
) -> list[tuple[PairingStatus, Errors, Errors]]:
    """Return, of takes as they lie and as they would lie, the one with least left and the one with most."""
    found.sort(key=lambda item: max(map(abs, item[2].all)))
    return found if len(found) < 2 else [found[0], found[-1]]


def take_scope(session: Session, settings: Settings, view: Overview, scoped: Scoped) -> Done:
    """Take a correction that a person typed for several takes.

    Parameters
    ----------
    session, settings
    view : Overview
    scoped : Scoped
    """
    changes.hold(session, view.day.id)
    act = new_act()
    scoped.row.act, scoped.row.made_by = act, settings.person
    session.add(scoped.row)
    for one in scoped.touched:
        changes.count(session, pairings.get(session, one.pairing.id))
    what = f"{_whose(scoped)}: one correction for {len(scoped.touched)} takes, {scoped.says}, as typed"
    what += ", above their own" if scoped.row.over else ""
    note_act(session, settings, view.day, what, act)
    return Done(len(scoped.touched), (), act)


def _whose(scoped: Scoped) -> str:
    first = scoped.touched[0]
    if scoped.row.scope == Scope.RUN:
        return next(one.name for one in (first.picture, first.sound) if one.id == scoped.row.recording_id)
    return f"{first.picture_source.tag} with {first.sound_source.tag}"


def _label(edge: float | None, length: Fraction) -> Fraction | None:
    return None if edge is None else Fraction(round(edge * 1000), 1000) % length


def _is_shared(view: Overview, source: Source) -> bool:
    return sum(tag == source.tag for tag in view.solution.sources.values()) > 1


def _take(one: PairingStatus, beneath: Correction) -> Take | None:
    line = one.judged.line
    if line is None or one.picture.start is None:
        return None
    head, _, tail = one.points
    off = errors(beneath.on(one.pairing.offset), line, one.points, late_s=one.late_s)
    wants = one.proposal is not None and one.proposal.ppm != 0
    return Take(
        str(one.pairing.id), one.pairing.offset, one.picture.start, 1 / float(one.fps), -off.head_s, -off.tail_s,
        tail - head, line.ppm - float(beneath.ppm), line.se_ppm, wants,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Done:
    """What was done at once: how many takes, what could not be done, and the name by which all of it is undone."""

    count: int
    problems: tuple[str, ...]
    act: str


def take_for_devices(
    session: Session,
    settings: Settings,
    view: Overview,
    groups: Sequence[Sequence[PairingStatus]],
    *,
    check: bool = False,
) -> Done:
    """Put takes of devices right at once: each group by one correction where there is one, else each as proposed.

    Parameters
    ----------
    session, settings
    view : Overview
    groups : sequence of sequence of PairingStatus
        What is asked: takes of a camera with a recorder each.
    check : bool
        Whether a person states that they hold, too.
    """
    changes.hold(session, view.day.id)
    act = new_act()
    about = [one for group in groups for one in group]
    touched: dict[int, PairingStatus] = {}
    problems, said = [], []
    for group, scoped in [(group, scope_of(view, group)) for group in groups]:  # all as they lie now
        own = list(group)
        if scoped is not None:
            row = scoped.row
            row.act, row.made_by = act, settings.person
            session.add(row)
            session.flush()
            own = [one for one in scoped.touched if str(one.pairing.id) in scoped.left]
            touched |= {one.pairing.id: one for one in scoped.touched}
        problems += _each(session, settings, own, correct.take_proposal, act)
        said.append(_said_of(group, scoped, own))
    for number in touched:  # others look at these too
        changes.count(session, pairings.get(session, number))
    if check:
        session.flush()
        asked = {one.pairing.id for one in about}
        after = [one for one in Overview(session, view.day).statuses if one.pairing.id in asked]
        problems += _each(session, settings, after, correct.check, act)
        said.append(f"{len(about)} checked")
    note_act(session, settings, view.day, "; ".join(said), act)
    return Done(len({*touched, *(one.pairing.id for one in about)}), tuple(sorted(set(problems))), act)


def _said_of(group: Sequence[PairingStatus], scoped: Scoped | None, own: Sequence[PairingStatus]) -> str:
    if scoped is None:
        return f"{len(group)} takes corrected as proposed"
    said = f"{_whose(scoped)}: one correction for {len(scoped.touched)} takes, {scoped.says}"
    return f"{said}; {len(own)} of them as each was measured" if own else said


class Act(Protocol):
    """What is done to each of several takes."""

    def __call__(  # noqa: D102 - as the class says
        self, session: Session, settings: Settings, pairing_id: int, /, *, version: int, together: bool, act: str,
        now: PairingStatus | None,
    ) -> object: ...  # fmt: skip


def _each(session: Session, settings: Settings, about: Sequence[PairingStatus], do: Act, act: str) -> list[str]:
    """Do one thing to each pairing as it stands; return what could not be done, and why."""
    problems = []
    for one in about:
        try:
            with session.begin_nested():
                number, version = one.pairing.id, one.pairing.version
                do(session, settings, number, version=version, together=True, act=act, now=one)
        except VeskError as error:
            problems.append(str(error))
    return problems


def do_to_selected(
    session: Session, settings: Settings, day: Day, chosen: Mapping[int, int], do: Act, said: str
) -> Done:
    """Do one thing to every pairing that was selected, by its version as shown; what cannot be done is said.

    Parameters
    ----------
    session, settings
    day : Day
    chosen : mapping of int to int
        Versions by number of the pairing.
    do : callable
        `correct.take_proposal` or `correct.check`.
    said : str
        What it is, for the journal.
    """
    changes.hold(session, day.id)
    act = new_act()
    known = {one.pairing.id: one for one in Overview(session, day).statuses}
    problems, count = [], 0
    for number, version in chosen.items():
        try:
            if pairings.get(session, number).day_id != day.id:
                raise NotFoundError(f"Pairing number {number} is not of this day.")
            with session.begin_nested():
                do(session, settings, number, version=version, together=True, act=act, now=known.get(number))
            count += 1
        except VeskError as error:
            problems.append(str(error))
    if count:
        note_act(session, settings, day, f"{count} selected: {said}", act)
    return Done(count, tuple(sorted(set(problems))), act if count else "")


def undo_act(session: Session, settings: Settings, day: Day, act: str) -> int:
    """Undo all that was done at once; returns of how many takes something was undone.

    What was corrected again since stays as it was corrected then.

    Raises
    ------
    RefusedError
        If nothing of it stands.
    """
    changes.hold(session, day.id)
    standing: list[Undoable] = pairings.of_act(session, day.id, act) if act else []
    if not standing:
        raise RefusedError("That was undone already. Nothing was changed.")
    view = Overview(session, day)
    of_many = {one.id for one in standing if isinstance(one, ScopedCorrectionRow)}
    touched = {one.pairing_id for one in standing if not isinstance(one, ScopedCorrectionRow)}
    touched |= {one.pairing.id for one in view.statuses if of_many & {part.id for part in one.scoped}}
    for one in standing:
        pairings.undo(session, one)
    for number in sorted(touched):
        changes.count(session, pairings.get(session, number))
    takes = f"{len(touched)} {'take' if len(touched) == 1 else 'takes'}"
    journal.note(session, day_id=day.id, by=settings.person, what=f"undone at once: what was done to {takes}")
    return len(touched)


def new_act() -> str:
    """Return a name for what is done at once."""
    return uuid4().hex[:12]


def note_act(session: Session, settings: Settings, day: Day, what: str, act: str) -> None:
    """Write the one line of what was done at once."""
    journal.note(session, day_id=day.id, by=settings.person, what=what, act=act)


@dataclass(frozen=True, slots=True)
class Standing:
    """A correction for several takes that stands: in words, on how many, and by what name it is undone."""

    row: ScopedCorrectionRow
    says: str
    takes: int


def standing(view: Overview) -> list[Standing]:
    """Return the corrections for several takes that stand on a day.

    Parameters
    ----------
    view : Overview
    """
    tags = {source.id: source.tag for source in view.sources}
    names = {row.id: row.name for row in view.recordings}
    rate = days.rate_of(view.day)
    made = []
    for row in view.scoped:
        own = [one for one in view.statuses if row.id in {part.id for part in one.scoped}]
        fps = float(own[0].fps if own else view.day.fps)
        if row.scope == Scope.RUN:
            whose = names.get(row.recording_id or 0, "a recording that is gone")
        else:
            whose = f"{tags.get(row.picture_source_id or 0, '?')} with {tags.get(row.sound_source_id or 0, '?')}"
        since, before = ("" if one is None else str(Timecode.at(one, rate))[:8] for one in (row.since, row.before))
        whose += (f" from {since}" if since else "") + (f" until {before}" if before else "")
        made.append(Standing(row, f"{whose}: {scoped_says(row, fps)}", len(own)))
    return made
