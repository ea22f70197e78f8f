"""What one way of looking says of a pairing."""

from __future__ import annotations

from dataclasses import dataclass

from vesk.core.kinds import Witness

TIMECODE, SOUND, SYNC_POINT, PERSON = Witness


@dataclass(frozen=True, slots=True)
class Evidence:
    """One kind of evidence.

    Attributes
    ----------
    kind : Witness
    offset_s : float or None
        Picture time of sound sample 0 by this evidence, seconds; None when it says nothing.
    uncertainty_s : float or None
        Half width of its 95 % band, seconds.
    says : str
        Its reasons, for a person.
    apart_sd : float or None
        How far it is from where the whole day says the sound belongs, in its own standard deviations; None where the
        day says nothing.
    otherwise : bool
        Whether that is further than its own error and the tolerance explain.
    """

    kind: Witness
    offset_s: float | None
    uncertainty_s: float | None
    says: str
    apart_sd: float | None = None
    otherwise: bool = False
