"""Evidence that cannot be true together, and places that rest on no sound: in words."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.day.solution import Contradiction, Place
from vesk.core.kinds import Discord, Witness
from vesk.core.sound.distance import SPEED_OF_SOUND
from vesk.core.wording import how_late

_FAR_S = 0.1
_BRIEF = {
    Discord.PATTERN: "sound and clock disagree",
    Discord.POINT: "sound and sync point disagree",
    Discord.CLAP: "this take's clap says otherwise",
    Discord.SLATE: "slates disagree",
}


@dataclass(frozen=True, slots=True)
class Disagreement:
    """A contradiction, and what it means for one pairing as it is laid now.

    Attributes
    ----------
    found : Contradiction
    by_scratch_s : float or None
        Error against the scratch, seconds; positive is late.
    by_picture_s : float or None
        Error against the picture, as the rest of the evidence has it.
    """

    found: Contradiction
    by_scratch_s: float | None
    by_picture_s: float | None

    def says(self, picture: str, sound: str, fps: Fraction) -> str:
        """Return what disagrees with what, by how much, and what either reading means.

        Parameters
        ----------
        picture, sound : str
            Tags.
        fps : Fraction
            Of the picture, frames a second.
        """
        one = self.found
        if one.about == Discord.LATENESS:
            text = (
                f"Evidence disagrees: {picture}'s scratch is {how_late(one.apart_s, fps)} "
                f"({abs(one.apart_s) * 1000:.1f} ms) against its own picture, say {witnesses(one)}{_not_all(one)}."
            )
        elif one.about == Discord.CLAP:
            text = (
                f"Evidence disagrees: in this take {picture}'s scratch is at least {how_late(one.apart_s, fps)} "
                f"({abs(one.apart_s) * 1000:.1f} ms) against its picture beside {picture}'s other takes, "
                f"{'says' if one.agreeing == 1 else 'say'} {witnesses(one)} of it."
            )
        elif one.about == Discord.SLATE:
            takes = "take has" if one.pattern == 1 else "takes have"
            text = f"Evidence disagrees: by sound these belong together, by their slates not: {one.name}. "
            text += f"{one.pattern} other {takes} one slate on both."
        else:
            away = abs(one.apart_s)
            size = f"{away:.2f} s" if away >= 1 else how_late(away, fps).rpartition(" ")[0]
            text = f"Evidence disagrees: sound lays {sound} {size} {'later' if one.apart_s > 0 else 'earlier'} than "
            text += (
                f"the same event on both does ({one.name})."
                if one.about == Discord.POINT
                else f"the clocks of both, to which {one.pattern} other {'take' if one.pattern == 1 else 'takes'} of "
                f"{picture} {'keeps' if one.pattern == 1 else 'keep'}."
            )
        if self.by_scratch_s is not None and self.by_picture_s is not None:
            text += (
                f" Along the scratch the sound is {how_late(self.by_scratch_s, fps)} as it lies, "
                f"along the picture {how_late(self.by_picture_s, fps)}."
            )
        return text

    def settled_by(self, picture: str) -> str:
        """Return what would settle it.

        Parameters
        ----------
        picture : str
            Tag of the camera.
        """
        one = self.found
        if one.about == Discord.LATENESS:
            look = "a look at a clap settles it" if one.claps else "a clap that is both seen and heard would settle it"
            return f"unless {witnesses(one)} err alike: {look}; then say once for {picture} how late it hears"
        if one.about == Discord.POINT:
            return "unless that event was put on the wrong moment of one of the two: look at it, or move it"
        if one.about == Discord.CLAP:
            return "unless that clap is none, or was put on the wrong frame: look at it, confirm it or refuse it"
        if one.about == Discord.SLATE:
            return "one of the two was written wrong, or both share a sound: listen, then put the wrong slate right"
        if 0 < one.apart_s < _FAR_S:
            metres = one.apart_s * SPEED_OF_SOUND
            return (
                f"unless its microphone stood {metres:.0f} m further off here: the picture then wants the clock's place"
            )
        return (
            "unless two takes share this sound (a playback, a ring tone), or this file's label is wrong: listen to it"
        )

    def brief(self, picture: str, fps: Fraction) -> str:
        """Return a few words for a ledger.

        Parameters
        ----------
        picture : str
            Tag of the camera.
        fps : Fraction
            Of the picture.
        """
        if self.found.about == Discord.LATENESS:
            return f"{picture} hears {how_late(self.found.apart_s, fps)}"
        return _BRIEF[self.found.about]


def witnesses(one: Contradiction) -> str:
    """Return who says that a scratch is early or late: ``its LTC and 2 of 2 claps``.

    Parameters
    ----------
    one : Contradiction
        About lateness.
    """
    clock = "" if one.clock is None else f"its {one.clock}"
    claps = f"{one.agreeing} of {one.claps} {'clap' if one.claps == 1 else 'claps'}" if one.agreeing else ""
    return " and ".join(part for part in (clock, claps) if part) or "the rest of the day"


def _not_all(one: Contradiction) -> str:
    """Return how many claps say otherwise; nothing where all agree, or none was seen and heard."""
    other = one.claps - one.agreeing
    return f"; {other} {'clap says' if other == 1 else 'claps say'} otherwise" if other else ""


def placed_says(place: Place, picture: str, reason: str) -> str:
    """Return what a place rests on where sound gives none.

    Parameters
    ----------
    place : Place
    picture : str
        Tag of the camera.
    reason : str
        Why sound gives none; may be empty.
    """
    band = f"\N{PLUS-MINUS SIGN}{1.96 * place.se_s * 1000:.1f} ms"
    why = f"No sound places it ({reason})" if reason else "No sound places it"
    if place.tie is not None and place.tied:
        if place.by == Witness.PERSON:
            return f"{why}; {place.tie.name} joined it by hand ({band})."
        return f"{why}; the same event on both does: {place.tie.name} ({band})."
    if place.by == Witness.SYNC_POINT:
        return f"{why}; the clap that it saw does ({band})."
    return f"{why}; {picture}'s clock does, known from its other takes ({band})."
