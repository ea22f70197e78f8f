"""Every error Vesk raises on purpose.

Each reads as a sentence for the person at the screen: what happened, to what,
and what to do. The data behind the sentence travels with it.
"""

from __future__ import annotations

from vesk.core.kinds import Unusable


class VeskError(Exception):
    """Base of all errors that carry a sentence for a person."""


class StoppedError(VeskError):
    """A person asked for it to stop; what was done of it is let go."""


class TimecodeError(VeskError):
    """A label, frame or rate that does not exist."""


class NumberError(VeskError):
    """A text that is not the number it should be, or one out of bounds.

    Attributes
    ----------
    why : str
        What is wrong with it, to follow the text itself.
    """

    def __init__(self, text: str, why: str) -> None:
        self.text, self.why = text, why
        super().__init__(f"{text} {why}")

    def __reduce__(self) -> tuple[type[NumberError], tuple[str, str]]:
        """Carry it between processes whole."""
        return type(self), (self.text, self.why)


class TimeMapError(VeskError):
    """A map between two recordings that cannot be built or asked."""


class NamingError(VeskError):
    """A pattern for file names that cannot be used."""


class SignalError(VeskError):
    """An array of sound that a computation cannot use."""


class MediaError(VeskError):
    """A file that cannot be read or written, and what to do about it.

    Attributes
    ----------
    path : str
        The file it happened to.
    reason : str
        What is wrong, as a clause without its closing dot.
    advice : str
        What to do, a sentence.
    kind : Unusable
    """

    def __init__(self, path: object, reason: str, advice: str = "", kind: Unusable = Unusable.DAMAGED) -> None:
        self.path = str(path)
        self.kind = kind
        self.reason = reason
        self.advice = advice
        tail = f" {advice}" if advice else ""
        super().__init__(f"{self.path}: {reason}.{tail}")

    def __reduce__(self) -> tuple[type[MediaError], tuple[str, str, str, Unusable]]:
        """Carry it between processes whole: an error that cannot be rebuilt would end the process that waits."""
        return type(self), (self.path, self.reason, self.advice, self.kind)


class StorageError(VeskError):
    """Vesk's own folder cannot be written: the disk is full, or closed to it. No recording is at fault.

    Attributes
    ----------
    path : str
        What could not be written.
    """

    def __init__(self, path: object, reason: str) -> None:
        self.path, self.reason = str(path), reason
        super().__init__(
            f"{self.path}: Vesk could not write there ({reason}). No recording is harmed and nothing decided is lost: "
            "free space on that disk, or open the folder, and ask again."
        )

    def __reduce__(self) -> tuple[type[StorageError], tuple[str, str]]:
        """Carry it between processes whole."""
        return type(self), (self.path, self.reason)


class KeptError(VeskError):
    """A value in a row or a file of Vesk's own that this version cannot read."""

    def __init__(self, what: str, why: str) -> None:
        self.what, self.why = what, why
        super().__init__(
            f"What Vesk kept as {what} cannot be read: {why}. No recording is harmed and nothing was changed: "
            "take the day's folder in again; if that does not help, keep the database as it is and report this."
        )

    def __reduce__(self) -> tuple[type[KeptError], tuple[str, str]]:
        """Carry it between processes whole."""
        return type(self), (self.what, self.why)


class BusyError(VeskError):
    """Somebody else's work holds what is asked for; it will be free in a moment."""


class SilentError(BusyError):
    """A disk that does not answer: nothing is known of the files on it until it does."""


class ScenarioError(VeskError):
    """A scenario file that the simulator cannot shoot."""


class ReportError(VeskError):
    """A sound or camera report that cannot be read as a table."""


class NotFoundError(VeskError):
    """Something asked for by number that is not there."""


class StaleError(VeskError):
    """A change made on data that somebody else has changed since.

    Attributes
    ----------
    about : tuple of str and int, or None
        The row that was changed: its table and number.
    """

    def __init__(self, sentence: str, about: tuple[str, int] | None = None) -> None:
        self.about = about
        super().__init__(sentence)


class RefusedError(VeskError):
    """An action whose conditions are not met, with the reason."""


class SlowedError(VeskError):
    """Something tried too often of late; it will be heard again after a while."""


class NotAllowedError(VeskError):
    """Something that this account may not do."""
