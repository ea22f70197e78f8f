"""What is left for a person to decide on a day: one decision for one cause, whatever the number of its takes."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, replace

from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.actions.scoping import Scoped, scope_of
from vesk.core.day.lateness import Lateness
from vesk.core.day.solution import Contradiction
from vesk.core.errors import StaleError
from vesk.core.kinds import Asked, Cause
from vesk.core.verdict.disagreement import witnesses
from vesk.core.wording import how_late, in_frames, signed
from vesk.store.tables import Source

_ONE = 0.05  # of a frame: what takes differ by less is one figure


@dataclass(frozen=True, slots=True)
class Decision:
    """One thing that a person has to say.

    Attributes
    ----------
    asked : Asked
    source : Source
        The camera that it is about; or what several have in common, where it is off by the same against all.
    says : str
        What was found, in a sentence.
    groups : tuple of tuple of PairingStatus
        The pairings it is about that still need somebody; apart where one correction each answers it.
    contradiction : Contradiction or None
    lateness : Lateness or None
        How late the camera hears, where that is asked.
    scopes : tuple of Scoped
        The correction of each group that answers it, where there is one.
    """

    asked: Asked
    source: Source
    says: str
    groups: tuple[tuple[PairingStatus, ...], ...]
    contradiction: Contradiction | None = None
    lateness: Lateness | None = None
    scopes: tuple[Scoped, ...] = ()

    @property
    def open(self) -> tuple[PairingStatus, ...]:
        """All pairings it is about."""
        return tuple(one for group in self.groups for one in group)

    @property
    def scoped(self) -> Scoped | None:
        """The one correction that answers all of it, where there is one."""
        return self.scopes[0] if len(self.scopes) == len(self.groups) == 1 else None

    @property
    def touched(self) -> int:
        """How many takes an answer touches: also those that lie by the same clocks and are in tolerance."""
        return len(
            {now.pairing.id for one in self.scopes for now in one.touched} | {now.pairing.id for now in self.open}
        )

    @property
    def stamp(self) -> str:
        """What it is about, as it is now: another once any of its pairings was changed."""
        told = [self.asked, str(self.source.id), *(f"{now.pairing.id}:{now.pairing.version}" for now in self.open)]
        return hashlib.blake2b(" ".join(told).encode(), digest_size=9).hexdigest()

    @property
    def takes(self) -> int:
        """How many takes it is about."""
        return len(self.open)


def decisions(view: Overview) -> list[Decision]:
    """Return what is left to decide on a day, the widest first.

    Parameters
    ----------
    view : Overview
    """
    solution = view.solution
    by_pair = {(str(now.picture.id), str(now.sound.id)): now for now in view.statuses}
    sources = {one.tag: one for one in view.sources}
    contradictions = {pair: one for one in solution.contradictions for pair in one.pairings}
    made = []
    for question in solution.questions:
        groups = []
        for pairs in question.groups:
            own = [now for pair in pairs if (now := by_pair.get(pair)) is not None and now.needs_person]
            if question.asked == Asked.CLOCK:
                own = [now for now in own if now.correction is None]  # what a person set on one take stands by itself
            groups += [tuple(own)] if own else []
        source = sources.get(solution.sources[question.device])
        if not groups or source is None:
            continue
        found = contradictions.get(question.pairings[0])
        ears = solution.lateness.get(question.device) if question.asked == Asked.LATENESS else None
        of_clock = question.asked == Asked.CLOCK
        scopes = tuple(one for own in groups if of_clock and (one := scope_of(view, own)) is not None)
        asks = Decision(question.asked, source, "", tuple(groups), found, ears, scopes)
        made.append(replace(asks, says=_says(asks.asked, source.tag, asks.open, found, asks.scoped)))
    made += _untold(view, {now.pairing.id for one in made for now in one.open})
    first = {Asked.LATENESS: 0, Asked.LOOK: 2}
    return sorted(made, key=lambda one: (first.get(one.asked, 1), -len(one.open), one.source.tag))


def _untold(view: Overview, asked: set[int]) -> list[Decision]:
    """Return what needs somebody though the day's solution asks nothing of it, by camera and by what was found."""
    left: dict[tuple[int, Cause], list[PairingStatus]] = {}
    for now in view.statuses:
        if now.verdict is not None and now.needs_person and now.pairing.id not in asked:
            left.setdefault((now.picture_source.id, now.verdict.cause), []).append(now)
    made = []
    for own in left.values():
        source = own[0].picture_source
        made.append(Decision(Asked.LOOK, source, _says(Asked.LOOK, source.tag, own, None), (tuple(own),)))
    return made


def decision_by(view: Overview, stamp: str) -> Decision:
    """Return the decision that a page showed.

    Raises
    ------
    StaleError
        If it is not as it was shown any more.
    """
    found = next((one for one in decisions(view) if one.stamp == stamp), None)
    if found is None:
        raise StaleError("What is left to decide changed meanwhile. Nothing was done: look at it as it is now.")
    return found


def _says(
    asked: Asked, tag: str, own: Sequence[PairingStatus], found: Contradiction | None, scoped: Scoped | None = None
) -> str:
    takes = f"{len(own)} {'take' if len(own) == 1 else 'takes'}"
    if asked == Asked.LATENESS and found is not None:
        return (
            f"{tag} hears {how_late(found.apart_s, own[0].fps)} ({signed(found.apart_s * 1000, 1)} ms) against its own "
            f"picture, say {witnesses(found)}: {takes}"
        )
    if asked == Asked.CLOCK:
        alike = "" if len(own) == 1 else ": one answer for all"
        if scoped is not None:
            alike = f": one correction for {tag}, {scoped.says}"
            alike += f", and {len(scoped.left)} as measured" if scoped.left else ""
        return f"{tag} with {_others(tag, own)}: {takes}, {_figures(own)}{alike}"
    if len(own) > 1:
        return f"{tag}: {takes}, {own[0].verdict.cause if own[0].verdict else 'not measured yet'}"
    names = f"{tag} · {own[0].picture.name} with {own[0].sound_source.tag} · {own[0].sound.name}"
    verdict = own[0].verdict
    return f"{names}: {verdict.brief if verdict else 'not measured yet'}"


def _others(tag: str, own: Sequence[PairingStatus]) -> str:
    """Return the devices beside one, in words."""
    tags = {one.tag for now in own for one in (now.picture_source, now.sound_source)} - {tag}
    *more, last = sorted(tags)
    return f"{', '.join(more)} and {last}" if more else last


def _figures(own: Sequence[PairingStatus]) -> str:
    """Return how far off takes are: one figure where they agree, else from which to which, in frames; drift beside."""
    off = [now.errors.middle_s for now in own if now.errors is not None]
    if not off:
        return "not measured"
    low, high = min(off), max(off)
    fps = own[0].fps
    one = f"{'all ' if len(off) > 1 else ''}{in_frames(off[0], fps)}"
    ends = in_frames(low, fps), in_frames(high, fps)
    alike = (high - low) * float(fps) < _ONE or ends[0] == ends[1]  # hours are told to a frame
    said = one if alike else f"{ends[0]} to {ends[1]}"
    drift = [
        abs(now.errors.tail_s - now.errors.head_s) > float(now.tolerance.seconds(now.fps))
        for now in own
        if now.errors is not None
    ]
    if not any(drift):
        return said
    return f"{said}, drifting" if all(drift) else f"{said}, {sum(drift)} of them drifting"
