"""Claps of a recording: heard on its sound, seen in its picture around them; proposed, then decided by a person."""

from __future__ import annotations

from contextlib import suppress
from fractions import Fraction

from sqlmodel import Session

from vesk.actions.facts import facts_of
from vesk.actions.locating import located
from vesk.actions.measuring import ensure_heard
from vesk.actions.sources import changed
from vesk.core.clocks.sound_delay import ClapPair, SoundDelay, sound_delay
from vesk.core.errors import MediaError, RefusedError
from vesk.core.kinds import CLAP
from vesk.core.picture.closure import contact_between
from vesk.core.progress import WHOLE, OnProgress, part_of, unwatched
from vesk.core.sound.distance import distance_delay_s
from vesk.dailies.located import Located, decode_frames
from vesk.dailies.sync_points import LIKELY, SyncPoints, look_for_sync_points
from vesk.media.guarded import guarded, watched
from vesk.settings import Settings
from vesk.store import changes, days, journal, recordings
from vesk.store import sync_points as points
from vesk.store.tables import Source, SyncPointRow

_LONGEST_S = 300.0  # looking at its pictures takes no longer

SHOWN_AROUND = 4  # frames either side of a proposed closing, to choose from


def keep_sync_points(
    session: Session, settings: Settings, recording_id: int, on_progress: OnProgress = unwatched
) -> None:
    """Find a recording's sync points and keep them as proposals; what a person decided stays."""
    row = recordings.get(session, recording_id)
    if row.state != "ready":
        return
    place = located(session, settings, days.get_day(session, row.day_id), row)
    day_id = row.day_id
    changes.rest(session)
    ensure_heard(place, part_of(on_progress, 0, WHOLE // 2))
    own = part_of(on_progress, WHOLE // 2, WHOLE)
    found = watched(place.path, _LONGEST_S + float(place.facts.duration), own, look_for_sync_points, place)
    _keep_frames(place, found)
    changes.hold(session, day_id)
    row = recordings.get(session, recording_id)
    if row.state != recordings.READY or row.content != place.entry.folder.name:
        return
    decided = points.forget_proposals(session, recording_id)
    frames = {one.proposed_frame for one in decided if one.how == points.SEEN}
    for heard in found.heard:
        if heard.score >= LIKELY:
            at = round(heard.at_s * 1e6)
            session.add(
                SyncPointRow(
                    recording_id=recording_id, how=points.HEARD, kind=heard.kind, heard_us=at, likely=heard.score
                )
            )
    for seen in found.seen:
        if seen.frame not in frames:
            session.add(
                SyncPointRow(
                    recording_id=recording_id, how=points.SEEN, kind=CLAP, frame=seen.frame,
                    proposed_frame=seen.frame, likely=seen.clearness,
                    heard_us=None if seen.heard_s is None else round(seen.heard_s * 1e6),
                )
            )  # fmt: skip


def _keep_frames(place: Located, found: SyncPoints) -> None:
    """Decode what the recording's page shows: here, where decoding belongs."""
    if place.facts.frames:
        near = {seen.frame + k for seen in found.seen for k in range(-SHOWN_AROUND, SHOWN_AROUND + 1)}
        wanted = sorted(i for i in {*contact_frames(place.facts.frames), *near} if 0 <= i < place.facts.frames)
        with suppress(MediaError):  # a picture that cannot be decoded has its sound all the same
            guarded(place.path, _LONGEST_S, decode_frames, place, wanted)


def contact_frames(frames: int, count: int = 9) -> list[int]:
    """Return which frames tell at a glance what a recording shows: spread from its head to its tail."""
    return sorted({round((frames - 1) * (n + 0.5) / count) for n in range(count)})


def decide(
    session: Session, settings: Settings, sync_point_id: int, *, version: int, frame: int | None
) -> SyncPointRow:
    """Confirm on which frame a clap is first seen closed, or, with None, that there is none.

    Raises
    ------
    StaleError
        If somebody decided on it since `version`.
    RefusedError
        If it is no clap seen, or the frame lies outside the recording.
    """
    row = points.get_for_change(session, sync_point_id, version)
    recording = recordings.get(session, row.recording_id)
    if row.how != points.SEEN:
        raise RefusedError("Only a clap seen has a frame to confirm.")
    frames = (recording.facts.frames if recording.facts else None) or 0
    if frame is not None and not 1 <= frame < frames:
        raise RefusedError(f"{recording.name} has frames 0 to {frames - 1}; contact lies between two of them.")
    if frame is not None:
        row.frame = frame
    row.state = points.REFUSED if frame is None else points.CONFIRMED
    row.decided_by = settings.person
    changes.count(session, row)
    what = "is no clap" if frame is None else f"is first seen closed on frame {frame}"
    journal.note(
        session,
        day_id=recording.day_id,
        by=settings.person,
        what=f"{recording.name}: what was proposed near frame {row.proposed_frame} {what}",
    )
    return row


def source_delay(session: Session, source: Source) -> SoundDelay | None:
    """Return a camera's internal sound delay by its confirmed claps, its microphone's distance taken out."""
    rows = points.of_source(session, source.id)
    members = recordings.by_id(session, {row.recording_id for row in rows})
    pairs = []
    for row in rows:
        if row.state != points.CONFIRMED or row.heard_us is None or not row.frame:
            continue
        fps = facts_of(members[row.recording_id]).fps or Fraction(25)
        heard = row.heard_us / 1e6 - distance_delay_s(source.distance_mm / 1000)
        pairs.append(ClapPair(heard, *contact_between(row.frame, float(fps))))
    return sound_delay(pairs)


def take_delay(session: Session, settings: Settings, source_id: int, *, version: int) -> Source:
    """Enter the middle of what the confirmed claps allow as a camera's internal sound delay.

    Raises
    ------
    RefusedError
        If no clap was confirmed.
    """
    source = days.get_source_for_change(session, source_id, version)
    found = source_delay(session, source)
    if found is None:
        raise RefusedError(f"No clap of {source.tag} that was also heard is confirmed yet.")
    source.delay_us, source.ears_by = round(found.middle_s * 1e6), settings.person
    what = f"internal sound delay {source.delay_us / 1000:+.1f} ms, from {found.agreeing} of {found.claps} claps"
    return changed(session, settings, source, what)
