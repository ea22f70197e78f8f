"""Listen to recordings and measure pairings of a day."""

from __future__ import annotations

from sqlmodel import Session

from vesk.actions import measuring, standing
from vesk.actions.located import Located, hear
from vesk.core.errors import MediaError
from vesk.core.sound.measurement import Measurement
from vesk.media import cache
from vesk.media.guarded import guarded
from vesk.settings import Settings
from vesk.store import days, pairings, recordings
from vesk.store.tables import Pairing

_LEAST_WAIT_S, _SLOWEST = 120.0, 2.0  # a file that takes longer than twice its own length is stuck


def listen(session: Session, settings: Settings, recording_id: int) -> None:
    """Compute what is kept of a recording's sound; a file that cannot be read is marked, the rest goes on."""
    row = recordings.get(session, recording_id)
    place = standing.located(settings, days.get_day(session, row.day_id), row)
    try:
        if not place.kept.done.exists():
            wait = _LEAST_WAIT_S + float(row.duration) * _SLOWEST
            guarded(place.path, wait, hear, place)
        row.heard = cache.heard(place.kept)
        session.add(row)
    except MediaError as error:
        row.state = "unreadable" if place.path.exists() else "vanished"
        row.problem = f"{row.path}: {error.reason}. {error.advice}"
        session.add(row)


def measure_pairing(session: Session, settings: Settings, pairing_id: int) -> Pairing:
    """Measure a pairing by sound and keep the result; corrections and checks stay as they are.

    Raises
    ------
    MediaError
        If one of the files cannot be read.
    """
    now = standing.of_pairing(session, pairing_id)
    picture = standing.located(settings, now.day, now.picture)
    sound = standing.located(settings, now.day, now.sound)
    found = measuring.measure_by_sound(picture, sound, proposal_s=float(now.pairing.offset))
    row = pairings.get(session, pairing_id)
    row.measurement = measuring.to_json(found)
    row.state = "measured" if row.state == "proposed" else row.state
    row.version += 1
    session.add(row)
    keep_frames(now, picture, found)
    return row


def keep_frames(now: standing.Standing, picture: Located, found: Measurement) -> None:
    """Decode the pictures that the bench opens with: here, where decoding belongs."""
    fps = float(now.fps)
    points = found.windows or now.points
    around = sorted({int(at * fps) + k for at in points for k in range(-13, 14)})
    picture.save_frames([index for index in around if index >= 0])
