"""Claps of a recording: heard on its sound, seen in its picture around them; proposed, then decided by a person."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import asdict, dataclass
from fractions import Fraction
from typing import Any

from sqlmodel import Session

from vesk.actions.located import Located, decode_frames
from vesk.actions.measure import ensure_heard
from vesk.actions.standing import CLEAR, located
from vesk.core.clocks.sound_delay import ClapPair, SoundDelay, sound_delay
from vesk.core.errors import MediaError, RefusedError
from vesk.core.picture.closure import contact_between, find_closure
from vesk.core.sound.distance import distance_delay_s
from vesk.core.sound.strikes import CLAP, Strike, find_strikes
from vesk.media import cache
from vesk.media.facts import PICTURE
from vesk.media.guarded import guarded
from vesk.settings import Settings
from vesk.store import changes, days, journal, recordings, strikes
from vesk.store.tables import Source, StrikeRow

AROUND_FRAMES = 14
_SCAN_S = 8.0
_LONGEST_S = 300.0  # looking at its pictures takes no longer


@dataclass(frozen=True, slots=True)
class Seen:
    """A clap seen: the first frame that shows it closed, between which picture times contact was, how clearly."""

    frame: int
    low_s: float
    high_s: float
    clearness: float
    heard_s: float | None


@dataclass(frozen=True, slots=True)
class Strikes:
    """What a recording holds of sync points."""

    heard: tuple[Strike, ...]
    seen: tuple[Seen, ...]
    delay: SoundDelay | None


def strikes_of(one: Located, *, most: int = 8, looked_at: int = 3) -> Strikes:
    """Find the claps of a recording; pictures are looked at around the likeliest that were heard.

    A camera without sound is scanned at its head and tail instead.
    """
    heard: list[Strike] = []
    if one.facts.channels:
        one.ensure_heard()
        for channel in cache.matching_channels(one.facts, one.kept):
            hearing = cache.hearing(one.kept, channel)
            heard += find_strikes(hearing.window(0, hearing.size), most=most)
        heard = sorted(heard, key=lambda strike: -strike.score)
        heard = [s for n, s in enumerate(heard) if all(abs(s.at_s - o.at_s) > 0.05 for o in heard[:n])][:most]
    seen = tuple(_seen(one, heard, looked_at)) if one.facts.kind == PICTURE else ()
    pairs = [
        ClapPair(found.heard_s, found.low_s, found.high_s)
        for found in seen
        if found.heard_s is not None and found.clearness >= CLEAR
    ]
    return Strikes(tuple(heard), seen, sound_delay(pairs))


def _seen(one: Located, heard: list[Strike], looked_at: int) -> list[Seen]:
    fps, frames = float(one.facts.fps or 25), one.facts.frames or 0
    places: list[tuple[int, int, float | None]]
    claps = [strike for strike in heard if strike.kind == CLAP and strike.score >= LIKELY][:looked_at]
    if claps:
        places = [(max(0, round(c.at_s * fps) - AROUND_FRAMES), 2 * AROUND_FRAMES + 1, c.at_s) for c in claps]
    else:
        scan = int(_SCAN_S * fps)
        # Head and tail; where they meet it is one stretch, or a clap between them would be found twice.
        places = [(0, scan, None), (frames - scan, scan, None)] if frames > 2 * scan else [(0, frames, None)]
    found: list[Seen] = []
    for first, count, at in places:
        try:
            closure = find_closure(one.grey_frames(first, count))
        except MediaError:
            break  # it has no picture that can be looked at; what was heard stands
        if closure is not None and all(abs(first + closure.frame - seen.frame) > 1 for seen in found):
            low, high = closure.contact_s(fps, first)
            found.append(Seen(first + closure.frame, low, high, closure.clearness, at))
    return found


def strikes_json(found: Strikes) -> dict[str, Any]:
    """Return what `vesk strikes` prints."""
    return {
        "heard": [asdict(one) for one in found.heard],
        "seen": [asdict(one) for one in found.seen],
        "sound_delay": asdict(found.delay) if found.delay else None,
    }


LIKELY = 0.3  # a clap heard this like one is worth a line
SHOWN_AROUND = 4  # frames either side of a proposed closing, to choose from


def keep_strikes(session: Session, settings: Settings, recording_id: int) -> None:
    """Find a recording's strikes and keep them as proposals; what a person decided stays."""
    row = recordings.get(session, recording_id)
    if row.state != "ready":
        return
    place = located(settings, days.get_day(session, row.day_id), row)
    day_id = row.day_id
    changes.rest(session)
    ensure_heard(place)
    found = guarded(place.path, _LONGEST_S + float(place.facts.duration), strikes_of, place)
    _keep_frames(place, found)
    changes.hold(session, day_id)
    row = recordings.get(session, recording_id)
    if row.state != recordings.READY or row.content != place.kept.folder.name:
        return
    decided = strikes.forget_proposals(session, recording_id)
    frames = {one.proposed_frame for one in decided if one.how == strikes.SEEN}
    for heard in found.heard:
        if heard.score >= LIKELY:
            at = round(heard.at_s * 1e6)
            session.add(
                StrikeRow(
                    recording_id=recording_id, how=strikes.HEARD, kind=heard.kind, heard_us=at, likely=heard.score
                )
            )
    for seen in found.seen:
        if seen.frame not in frames:
            session.add(
                StrikeRow(
                    recording_id=recording_id, how=strikes.SEEN, kind=CLAP, frame=seen.frame,
                    proposed_frame=seen.frame, likely=seen.clearness,
                    heard_us=None if seen.heard_s is None else round(seen.heard_s * 1e6),
                )
            )  # fmt: skip


def _keep_frames(place: Located, found: Strikes) -> None:
    """Decode what the recording's page shows: here, where decoding belongs."""
    if place.facts.frames:
        near = {seen.frame + k for seen in found.seen for k in range(-SHOWN_AROUND, SHOWN_AROUND + 1)}
        wanted = sorted(i for i in {*contact_frames(place.facts.frames), *near} if 0 <= i < place.facts.frames)
        with suppress(MediaError):  # a picture that cannot be decoded has its sound all the same
            guarded(place.path, _LONGEST_S, decode_frames, place, wanted)


def contact_frames(frames: int, count: int = 9) -> list[int]:
    """Return which frames tell at a glance what a recording shows: spread from its head to its tail."""
    return sorted({round((frames - 1) * (n + 0.5) / count) for n in range(count)})


def decide(session: Session, settings: Settings, strike_id: int, *, version: int, frame: int | None) -> StrikeRow:
    """Confirm on which frame a clap is first seen closed, or, with None, that there is none.

    Raises
    ------
    StaleError
        If somebody decided on it since `version`.
    RefusedError
        If it is no clap seen, or the frame lies outside the recording.
    """
    row = strikes.get_for_change(session, strike_id, version)
    recording = recordings.get(session, row.recording_id)
    if row.how != strikes.SEEN:
        raise RefusedError("Only a clap seen has a frame to confirm.")
    frames = int(recording.facts.get("frames") or 0)
    if frame is not None and not 1 <= frame < frames:
        raise RefusedError(f"{recording.name} has frames 0 to {frames - 1}; contact lies between two of them.")
    if frame is not None:
        row.frame = frame
    row.state = strikes.REFUSED if frame is None else strikes.CONFIRMED
    row.decided_by = settings.person
    changes.count(session, row)
    what = "is no clap" if frame is None else f"is first seen closed on frame {frame}"
    journal.note(
        session, day_id=recording.day_id, by=settings.person,
        what=f"{recording.name}: what was proposed near frame {row.proposed_frame} {what}",
    )  # fmt: skip
    return row


def source_delay(session: Session, source: Source) -> SoundDelay | None:
    """Return a camera's internal sound delay by its confirmed claps, its microphone's distance taken out."""
    rows = strikes.of_source(session, source.id or 0)
    members = recordings.by_id(session, {row.recording_id for row in rows})
    pairs = []
    for row in rows:
        if row.state != strikes.CONFIRMED or row.heard_us is None or not row.frame:
            continue
        fps = Fraction(members[row.recording_id].facts["fps"])
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
    source.delay_us = round(found.middle_s * 1e6)
    changes.count(session, source)
    journal.note(
        session, day_id=source.day_id, by=settings.person,
        what=f"source {source.tag}: internal sound delay {source.delay_us / 1000:+.1f} ms, "
        f"from {found.agreeing} of {found.claps} claps",
    )  # fmt: skip
    return source
