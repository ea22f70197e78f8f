"""What one way of looking says of a pairing."""

from __future__ import annotations

from dataclasses import dataclass

TIMECODE, SOUND, STRIKE = "timecode", "sound", "strike"


@dataclass(frozen=True, slots=True)
class Evidence:
    """One kind of evidence.

    Attributes
    ----------
    kind : str
        `TIMECODE`, `SOUND` or `STRIKE`.
    offset_s : float or None
        Picture time of sound sample 0 by this evidence, seconds; None when it says nothing.
    uncertainty_s : float or None
        Half width of its 95 % band, seconds.
    says : str
        Its reasons, for a person.
    """

    kind: str
    offset_s: float | None
    uncertainty_s: float | None
    says: str
