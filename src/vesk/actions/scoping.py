"""One correction for all takes of a camera with a recorder: which takes it touches, what it does, taken and undone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Protocol
from uuid import uuid4

from sqlmodel import Session

from vesk.actions import correct
from vesk.actions.composing import by_device, is_of
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import CHECKED, SET_ASIDE, PairingStatus
from vesk.core.conform.correction import Correction, Errors, errors
from vesk.core.conform.device import DeviceCorrection, DeviceFit, Take, fit_device
from vesk.core.day.clocks import around
from vesk.core.errors import NotFoundError, RefusedError, VeskError
from vesk.core.wording import signed
from vesk.settings import Settings
from vesk.store import changes, days, journal, pairings
from vesk.store.pairings import Undoable
from vesk.store.tables import Day, DeviceCorrectionRow, Source


@dataclass(frozen=True, slots=True)
class Scoped:
    """A correction for a device, before it is taken.

    Attributes
    ----------
    row : DeviceCorrectionRow
        As it would be kept.
    fit : DeviceFit
        What it does, and which takes it leaves.
    touched : tuple of PairingStatus
        All takes in its scope that nobody corrected or checked.
    """

    row: DeviceCorrectionRow
    fit: DeviceFit
    touched: tuple[PairingStatus, ...]

    @property
    def says(self) -> str:
        """What it is, in a few words, in frames of its first take."""
        fps = float(self.touched[0].fps)
        return device_says(self.row, fps)


def device_says(row: DeviceCorrectionRow, fps: float) -> str:
    """Return what a device's correction does, in a few words.

    Parameters
    ----------
    row : DeviceCorrectionRow
    fps : float
        Of its pictures.
    """
    said = f"slip {signed(float(row.slip) * fps, 2)} f"
    if row.drift:
        said += f", growing {signed(float(row.drift) * 3600e-6 * fps, 2)} f an hour"
    return said + (f", rate {signed(float(row.ppm), 2)} ppm" if row.ppm else "")


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
    row = DeviceCorrectionRow(
        day_id=view.day.id, picture_source_id=picture.id, sound_source_id=sound.id, since=since, before=before,
        slip=Fraction(0), drift=Fraction(0), ppm=Fraction(0), anchor=Fraction(0), made_by="",
    )  # fmt: skip
    touched = tuple(one for one in view.statuses if is_of(row, one.picture, one.sound, length) and _is_open(one))
    takes = [take for one in touched if (take := _take(one)) is not None]
    fit = fit_device(takes, length)
    asked = {str(one.pairing.id) for one in about}
    if fit is None or 2 * len(asked & set(fit.left)) >= len(asked):
        return None
    found = fit.correction
    row.slip, row.drift, row.ppm, row.anchor = found.slip, found.drift, found.ppm, found.anchor
    return Scoped(row, fit, touched)


def typed_scope(
    view: Overview,
    picture: Source,
    sound: Source,
    correction: DeviceCorrection,
    *,
    since: Fraction | None = None,
    before: Fraction | None = None,
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

    Raises
    ------
    RefusedError
        If no take lies in it that nobody corrected or checked.
    """
    row = DeviceCorrectionRow(
        day_id=view.day.id, picture_source_id=picture.id, sound_source_id=sound.id, since=since, before=before,
        slip=correction.slip, drift=correction.drift, ppm=correction.ppm, anchor=correction.anchor, made_by="",
    )  # fmt: skip
    length = days.rate_of(view.day).day
    touched = tuple(one for one in view.statuses if is_of(row, one.picture, one.sound, length) and _is_open(one))
    if not touched:
        raise RefusedError(
            f"No take of {picture.tag} with {sound.tag} lies there that nobody corrected or checked: nothing was done."
        )
    return Scoped(row, DeviceFit(correction, ()), touched)


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
            laid = by_device(scoped.row, one.pairing, one.picture, length).on(one.pairing.offset)
            found.append((one, one.errors, errors(laid, line, one.points, late_s=one.late_s)))
    found.sort(key=lambda item: max(map(abs, item[2].all)))
    return found if len(found) < 2 else [found[0], found[-1]]


def take_scope(session: Session, settings: Settings, view: Overview, scoped: Scoped) -> Done:
    """Take a correction that a person typed for a device.

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
    tags = f"{scoped.touched[0].picture_source.tag} with {scoped.touched[0].sound_source.tag}"
    what = f"{tags}: one correction for {len(scoped.touched)} takes, {scoped.says}, as typed"
    note_act(session, settings, view.day, what, act)
    return Done(len(scoped.touched), (), act)


def _label(edge: float | None, length: Fraction) -> Fraction | None:
    return None if edge is None else Fraction(round(edge * 1000), 1000) % length


def _is_shared(view: Overview, source: Source) -> bool:
    return sum(tag == source.tag for tag in view.solution.sources.values()) > 1


def _is_open(one: PairingStatus) -> bool:
    return one.state not in {CHECKED, SET_ASIDE} and one.correction is None and one.contradiction is None


def _take(one: PairingStatus) -> Take | None:
    line = one.judged.line
    if line is None or one.picture.start is None:
        return None
    head, _, tail = one.points
    off = errors(Correction().on(one.pairing.offset), line, one.points, late_s=one.late_s)
    wants = one.proposal is not None and one.proposal.ppm != 0
    return Take(
        str(one.pairing.id), one.pairing.offset, one.picture.start, 1 / float(one.fps), -off.head_s, -off.tail_s,
        tail - head, line.ppm, line.se_ppm, wants,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Done:
    """What was done at once: how many takes, what could not be done, and the name by which all of it is undone."""

    count: int
    problems: tuple[str, ...]
    act: str


def take_for_device(
    session: Session, settings: Settings, view: Overview, about: Sequence[PairingStatus], *, check: bool = False
) -> Done:
    """Put takes of a device right at once: by one correction where there is one, else each as proposed.

    Parameters
    ----------
    session, settings
    view : Overview
    about : sequence of PairingStatus
        What is asked.
    check : bool
        Whether a person states that they hold, too.
    """
    changes.hold(session, view.day.id)
    scoped = scope_of(view, about)
    act = new_act()
    own = list(about)
    if scoped is not None:
        row = scoped.row
        row.act, row.made_by = act, settings.person
        session.add(row)
        session.flush()
        own = [one for one in scoped.touched if str(one.pairing.id) in scoped.fit.left]
    problems = _each(session, settings, own, correct.take_proposal, act)
    touched = scoped.touched if scoped is not None else ()
    for one in touched:  # others look at these too
        changes.count(session, pairings.get(session, one.pairing.id))
    if check:
        session.flush()
        asked = {one.pairing.id for one in about}
        after = [one for one in Overview(session, view.day).statuses if one.pairing.id in asked]
        problems += _each(session, settings, after, correct.check, act)
    if scoped is None:
        what = f"{len(about)} takes corrected as proposed"
    else:
        tags = f"{about[0].picture_source.tag} with {about[0].sound_source.tag}"
        what = f"{tags}: one correction for {len(scoped.touched)} takes, {scoped.says}"
        if own:
            what += f"; {len(own)} of them as each was measured"
    what += f"; {len(about)} checked" if check else ""
    note_act(session, settings, view.day, what, act)
    return Done(len({one.pairing.id for one in (*touched, *about)}), tuple(sorted(set(problems))), act)


class _Act(Protocol):
    def __call__(
        self, session: Session, settings: Settings, pairing_id: int, /, *, version: int, together: bool, act: str,
        now: PairingStatus | None,
    ) -> None: ...  # fmt: skip


def _each(session: Session, settings: Settings, about: Sequence[PairingStatus], do: _Act, act: str) -> list[str]:
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
    session: Session, settings: Settings, day: Day, chosen: Mapping[int, int], do: _Act, said: str
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
    of_device = {one.id for one in standing if isinstance(one, DeviceCorrectionRow)}
    touched = {one.pairing_id for one in standing if not isinstance(one, DeviceCorrectionRow)}
    touched |= {one.pairing.id for one in view.statuses if one.of_device is not None and one.of_device.id in of_device}
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
    """A device's correction that stands: in words, on how many takes, and by what name it is undone."""

    row: DeviceCorrectionRow
    says: str
    takes: int


def standing(view: Overview) -> list[Standing]:
    """Return the corrections of devices that stand on a day.

    Parameters
    ----------
    view : Overview
    """
    tags = {source.id: source.tag for source in view.sources}
    made = []
    for row in view.of_devices:
        own = [one for one in view.statuses if one.of_device is not None and one.of_device.id == row.id]
        fps = float(own[0].fps if own else view.day.fps)
        pair = f"{tags.get(row.picture_source_id, '?')} with {tags.get(row.sound_source_id, '?')}"
        made.append(Standing(row, f"{pair}: {device_says(row, fps)}", len(own)))
    return made
