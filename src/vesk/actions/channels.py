"""Which channels of a take's sound go out, where a person wants others than its recorder's."""

from __future__ import annotations

from sqlmodel import Session

from vesk.actions.pairing_status import PairingStatus
from vesk.core.errors import RefusedError
from vesk.core.handover.channels import chosen_channels
from vesk.core.handover.recipe import Recipe
from vesk.settings import Settings
from vesk.store import changes, journal, pairings


def channels_of(recipe: Recipe, now: PairingStatus) -> tuple[int, ...]:
    """Return which channels of a pairing's sound go out, from 0: the take's own word, else the recipe's.

    Raises
    ------
    RefusedError
        If one is not there, or none would be left, naming the file.
    """
    said = now.pairing.channels or recipe.channels_of(now.sound_source.tag)
    return _chosen(said, now)


def set_of_take(
    session: Session, settings: Settings, pairing_id: int, *, version: int, said: str, now: PairingStatus
) -> str:
    """Say which channels of one take go out; nothing said is as the recipe has it. Returns what was done, in words.

    Raises
    ------
    RefusedError
        If they cannot be.
    StaleError
        If somebody changed the pairing since `version`.
    """
    pairing = pairings.get_for_change(session, pairing_id, version)
    tidy = said.strip().lower()
    if tidy:
        _chosen(tidy, now)
    pairing.channels = tidy
    changes.count(session, pairing)
    words = tidy or "as the recipe has it"
    what = f"{now.picture.name} with {now.sound.name}: channels that go out: {words}"
    journal.note(session, day_id=pairing.day_id, by=settings.person, what=what, pairing_id=pairing_id)
    return f"Channels of this take that go out: {words}."


def _chosen(said: str, now: PairingStatus) -> tuple[int, ...]:
    facts = now.sound.facts
    count = facts.channels if facts else 0
    names = facts.track_names if facts and len(facts.track_names) == count else ("",) * count
    coded = set(now.sound.heard.ltc) if now.sound.heard else set()
    try:
        return chosen_channels(said, names, coded)
    except RefusedError as error:
        raise RefusedError(f"{now.sound.name}: {error}") from None
