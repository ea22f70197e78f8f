"""What is kept of a delivered file: what it is, what it rests on, and what measuring it again gave."""

from __future__ import annotations

from dataclasses import dataclass

from vesk.core.plain import Plain


@dataclass(frozen=True, slots=True)
class Written:
    """A delivered file.

    Attributes
    ----------
    name, content : str
        Of the file; the hash of its bytes.
    samples, sample_rate, channels : int
    time_reference : int
        In its `bext`, samples since label midnight.
    remark : str
        What a reader should know.
    residual_s : tuple of float or None
        Seconds at head, middle and tail that measuring the file again found; positive is late. None: sound cannot tell.
    residual_reason : str
        Why not.
    tolerance_s : float or None
        What was let pass then, seconds.
    rests_on : str
        All that it follows from, as it was then.
    of_take : str
        The same of its take alone, whatever was made of it.
    """

    name: str
    content: str
    samples: int
    sample_rate: int
    channels: int
    time_reference: int
    remark: str = ""
    residual_s: tuple[float, float, float] | None = None
    residual_reason: str = ""
    tolerance_s: float | None = None
    rests_on: str = ""
    of_take: str = ""

    @property
    def holds(self) -> bool:
        """Whether what was measured again is within the tolerance of then."""
        return (
            self.residual_s is not None
            and self.tolerance_s is not None
            and all(abs(one) <= self.tolerance_s for one in self.residual_s)
        )


WRITTEN = Plain(Written)
