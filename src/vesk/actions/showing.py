"""The frames that pages of a picture open with, decoded when nothing waits for it.

A page that asks for one sooner has it decoded there and then; here it is done for all, after the day is solved.
"""

from __future__ import annotations

from contextlib import suppress

from sqlmodel import Session

from vesk.actions import gathering
from vesk.actions.facts import facts_of
from vesk.actions.locating import located
from vesk.core.errors import MediaError
from vesk.core.kinds import PICTURE
from vesk.dailies.located import decode_frames
from vesk.media.guarded import guarded, patiently
from vesk.settings import Settings
from vesk.store import changes, days, pairings, recordings
from vesk.store import sync_points as points

SHOWN_AROUND = 4  # frames either side of a proposed closing, to choose from
_WINDOW = 13  # and of a moment at which a take is shown on the bench
_LONGEST_S = 300.0


def contact_frames(frames: int, count: int = 9) -> list[int]:
    """Return which frames tell at a glance what a recording shows: spread from its head to its tail."""
    return sorted({round((frames - 1) * (n + 0.5) / count) for n in range(count)})


def keep_frames(session: Session, settings: Settings, recording_id: int) -> None:
    """Decode a picture's frames that its page and the bench open with; one that cannot be decoded has none."""
    row = recordings.get(session, recording_id)
    if row.kind != PICTURE or row.state != recordings.READY or row.facts is None or not row.facts.frames:
        return
    last = row.facts.frames - 1
    wanted = set(contact_frames(row.facts.frames))
    for seen in points.of_recordings(session, [row.id]).get(row.id, ()):
        if seen.how == points.SEEN and seen.frame is not None:
            wanted |= set(range(seen.frame - SHOWN_AROUND, seen.frame + SHOWN_AROUND + 1))
    fps = float(facts_of(row).fps or 25)
    for own in pairings.of_picture(session, row.id):
        now = gathering.of_pairing(session, own)
        at = now.found.windows or now.points if now.found is not None else ()
        wanted |= {int(moment * fps) + k for moment in at for k in range(-_WINDOW, _WINDOW + 1)}
    place = located(session, settings, days.get_day(session, row.day_id), row)
    missing = sorted(n for n in wanted if 0 <= n <= last and not place.entry.frame(n).exists())
    changes.rest(session)
    if missing:
        with suppress(MediaError):
            patiently(place.path, lambda: guarded(place.path, _LONGEST_S, decode_frames, place, missing))
