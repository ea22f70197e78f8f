"""Measure how the times of two recordings that may share sound map onto each other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from vesk.core.errors import StoppedError
from vesk.core.kinds import AMBIGUOUS, MATCHED
from vesk.core.progress import OnProgress, unwatched
from vesk.core.sound.by_sync_points import BySyncPoints, clear_claps, match_by_sync_points, speak_apart
from vesk.core.sound.contrast import Laid, excludes, lay
from vesk.core.sound.echo import on_direct
from vesk.core.sound.features import FEATURE_RATE
from vesk.core.sound.finding import ACCEPT_LOG10, AMBIGUOUS_RATIO, Around, accepted, distinct, find_places, limit
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.mains import find_hum, without_hum
from vesk.core.sound.measurement import Line, Measurement, OtherChannel, Rival, TracePoint, refused
from vesk.core.sound.one_sided import one_sided_shares
from vesk.core.sound.trace import Traced, trace
from vesk.core.sound.verify import SPOKE, Verified, verify

_LEAST_S = 1.0
_CLAPS_WITHIN_S = 1800.0  # longer recordings hold so many claps that one more alike proves nothing
_CLAP_SE_S = 30e-6
_CRYSTAL_PPM = 50.0
_LATER_S = 0.002  # 70 cm: nearer together, channels of one recorder count as one place
_CLEARER = 1.15
_CLEANED_S = 3600.0  # longer recordings are measured with their hum
_EXCLUDED_LOG10 = -5.0  # where music begins, another take's would exclude what lies a bar on at -3
_MOST = 0.5  # of the windows: a path that leaps, and of which less is laid, says where nothing lies
_ASKED = 7  # further channels that are asked whether they hold what one lacks

_TWO_EVENTS = (
    "they share a sound, but each holds loud sound that the other lacks ({:.1%} and {:.1%} of its loud moments): "
    "a playback that two takes share cannot settle which belongs"
)

__all__ = ["Hearing", "measure", "measure_channels"]


def measure(picture: Hearing, sound: Hearing, *, proposal_s: float | None = None, reach_s: float = 5.0) -> Measurement:
    """Measure how a sound recording lies against another that stands for the picture.

    Parameters
    ----------
    picture, sound : Hearing
        One channel of each. Any two recordings: a camera's scratch, a recorder's channel.
    proposal_s : float, optional
        Offset proposed by timecode, seconds: searched first, then everywhere.
    reach_s : float
        How far around the proposal to search first, seconds.

    Returns
    -------
    Measurement
        Matched only when the false-alarm probability is at most 1e-6; ambiguous when another
        place fits nearly as well; refused with a reason otherwise. ``line.offset_s`` is the
        picture time at which sound sample 0 belongs, *as heard*: it holds the difference of
        the two microphones' distances.
    """
    return measure_channels([picture], [sound], proposal_s=proposal_s, reach_s=reach_s)


def measure_channels(
    pictures: Sequence[Hearing],
    sounds: Sequence[Hearing],
    *,
    proposal_s: float | None = None,
    reach_s: float = 5.0,
    near_only: bool = False,
    on_progress: OnProgress = unwatched,
) -> Measurement:
    """Measure two recordings of several channels; the pair of channels that agree best is used, and said.

    Channels of one recording share their times, so a place found with one is looked at with all.
    Among channels that fit well the earliest wins where they differ by over two milliseconds:
    a near microphone is right where a late mix or a distant one is not.

    Parameters
    ----------
    pictures : sequence of Hearing
        Channels of the camera's scratch.
    sounds : sequence of Hearing
        Channels of the recorder's sound.
    proposal_s : float or None
        Where timecode lays it: picture time of sound sample 0, seconds; None without.
    reach_s : float
        How far from there to look first, seconds.
    near_only : bool
        Look nowhere else, and at no odd rate: what is asked is whether they match there.
    on_progress : OnProgress
        Told the searches made so far, of all that are made where none leads anywhere.

    Raises
    ------
    StoppedError
        If it says that nobody waits for the answer any more.
    """
    told = [n for n, hearing in enumerate(pictures) if not hearing.silent]
    speaking = [n for n, hearing in enumerate(sounds) if not hearing.silent]
    for name, some in (("scratch", told), ("sound", speaking)):
        if not some:
            return refused(f"the {name} is silent", unheard=True)
    if min(pictures[0].seconds, sounds[0].seconds) < _LEAST_S:
        return refused("one of the two is shorter than a second", unheard=True)
    around = Around(proposal_s, reach_s, near_only and proposal_s is not None)
    found = _measured(pictures, sounds, [(p, s) for p in told for s in speaking], around, on_progress)
    alone = (found.runner_up_ratio or 0.0) < AMBIGUOUS_RATIO
    if found.decision == MATCHED or (found.decision == AMBIGUOUS and alone):
        return found  # two events are no fewer without the tones that music has in common with a hum
    quiet, near = [_quiet(one) for one in pictures], [_quiet(one) for one in sounds]
    if all(now is before for now, before in zip([*quiet, *near], [*pictures, *sounds], strict=True)):
        return found
    again = _measured(quiet, near, [(p, s) for p in told for s in speaking], around, on_progress)
    return again if again.decision == MATCHED else found


def _quiet(hearing: Hearing) -> Hearing:
    """Return a recording without mains hum; itself where it has none."""
    mains = None if hearing.silent or hearing.seconds > _CLEANED_S else find_hum(hearing)
    return hearing if mains is None else without_hum(hearing, mains)


def _measured(
    pictures: Sequence[Hearing],
    sounds: Sequence[Hearing],
    pairs: list[tuple[int, int]],
    around: Around,
    on_progress: OnProgress,
) -> Measurement:
    """Measure what speaks: each pair of channels in turn until one is found, then claps alone."""
    nothing: Measurement | None = None
    for number, (p, s) in enumerate(pairs):
        if not on_progress(number, len(pairs) + 1):
            raise StoppedError("Stopped while two sounds were compared.")
        places = find_places(pictures[p], sounds[s], around, len(pairs))
        if accepted(places):
            on_progress(len(pairs), len(pairs) + 1)
            return _with_best_channel(pictures, sounds, pairs, (p, s), places)
        if nothing is None or (places and places[0].log10_false_alarm < nothing.log10_false_alarm):
            nothing = _refusal(places, p, s)
    by_claps = _by_sync_points(pictures, sounds, pairs)
    return by_claps or nothing or refused("there is no channel to compare")


def _by_sync_points(
    pictures: Sequence[Hearing], sounds: Sequence[Hearing], pairs: list[tuple[int, int]]
) -> Measurement | None:
    """Match by claps alone, where the windows together could not: a clap or two in silence."""
    if max(pictures[0].seconds, sounds[0].seconds) > _CLAPS_WITHIN_S:
        return None
    near = {s: clear_claps(sounds[s]) for s in sorted({s for _, s in pairs})}
    seen = {p: clear_claps(pictures[p]) for p in sorted({p for p, _ in pairs})} if any(near.values()) else {}
    for p, s in pairs:
        picture, sound = pictures[p], sounds[s]
        found = match_by_sync_points(picture, sound, (seen.get(p, ()), near[s]))
        if found is None or found.log10_false_alarm + np.log10(len(pairs)) > ACCEPT_LOG10:
            continue
        if speak_apart(picture, sound, found):
            continue
        ppm, se_ppm = _clap_rate(found)
        line = Line(found.at_s, found.offset_s, ppm, _CLAP_SE_S, se_ppm)
        head = max(0.0, found.offset_s)
        tail = min(picture.seconds, found.offset_s + sound.seconds)
        return replace(
            refused(""), decision=MATCHED, line=line, head_s=head, middle_s=(head + tail) / 2, tail_s=tail,
            trace=tuple(TracePoint(at, offset, 1.0, agrees=True) for at, offset in found.claps), share=1.0,
            log10_false_alarm=found.log10_false_alarm, channel=s, picture_channel=p, polarity=found.polarity,
            windows=(found.claps[0][0], found.claps[len(found.claps) // 2][0], found.claps[-1][0]), by="sync points",
        )  # fmt: skip
    return None


def _clap_rate(found: BySyncPoints) -> tuple[float, float]:
    """Return the rate that claps tell, with its error (ppm): little more than that crystals are good to ±50."""
    at = np.array([when for when, _ in found.claps]) - found.at_s
    away = np.array([offset for _, offset in found.claps]) - found.offset_s
    know = float((at**2).sum()) / _CLAP_SE_S**2 + 1 / (_CRYSTAL_PPM * 1e-6) ** 2
    slope = float((at * away).sum()) / _CLAP_SE_S**2 / know
    return -slope * 1e6, know**-0.5 * 1e6


def _refusal(places: list[Verified], p: int, s: int) -> Measurement:
    if not places:
        return refused("no place was found where the two share sound")
    best = places[0]
    reason = (
        f"the best place, {best.guess.offset_s:+.2f} s, could be chance "
        f"(false-alarm probability {10**best.log10_false_alarm:.2g})"
    )
    return replace(
        refused(reason),
        log10_false_alarm=best.log10_false_alarm,
        candidates=_rivals(places),
        channel=s,
        picture_channel=p,
    )


def _rivals(places: list[Verified]) -> tuple[Rival, ...]:
    best = max(places[0].strength, 1e-9)
    return tuple(
        Rival(one.guess.offset_s, one.guess.ppm, max(0.0, one.strength / best), one.log10_false_alarm)
        for one in places[:5]
    )


def _with_best_channel(
    pictures: Sequence[Hearing],
    sounds: Sequence[Hearing],
    pairs: list[tuple[int, int]],
    found_with: tuple[int, int],
    places: list[Verified],
) -> Measurement:
    direct = on_direct(pictures[found_with[0]], sounds[found_with[1]], places[0], places[1:])
    echoes = bool(direct.echoes_s) or direct.hall_s is not None
    places = distinct([direct, *places[1:]])
    rest = places[1:]
    looked = {found_with: places[0]}
    for p, s in pairs:
        if (p, s) not in looked:
            place = verify(pictures[p], sounds[s], places[0].guess, tried=len(pairs))
            if place is not None and place.log10_false_alarm <= limit(place):
                looked[p, s] = on_direct(pictures[p], sounds[s], place, rest) if echoes else place
    strongest = max(place.strength for place in looked.values())
    good = {pair: place for pair, place in looked.items() if place.strength >= 0.6 * strongest}
    middle = places[0].middle_s
    latest = max(float(place.offset_at(middle)) for place in good.values())
    early = {pair: place for pair, place in good.items() if float(place.offset_at(middle)) > latest - _LATER_S}
    chosen = max(early, key=lambda pair: early[pair].clarity)
    if found_with in early and early[chosen].clarity < _CLEARER * early[found_with].clarity:
        chosen = found_with  # the first that fits, unless another is clearly better
    p, s = chosen
    if chosen != found_with and not echoes:
        looked[chosen] = on_direct(pictures[p], sounds[s], looked[chosen], rest)
    own = [looked[chosen], *rest]
    base = float(looked[chosen].offset_at(middle))
    others = tuple(
        OtherChannel(channel, looked[p, channel].strength, base - float(looked[p, channel].offset_at(middle)))
        if (p, channel) in looked
        else OtherChannel(channel, 0.0, None)
        for channel in sorted({c for _, c in pairs} - {s})
    )
    # What one channel lacks another may hold: all that speak are asked before two events are seen.
    more = (
        [pictures[n] for n in sorted({n for n, _ in pairs} - {p})][:_ASKED],
        [sounds[n] for n in sorted({n for _, n in pairs} - {s})][:_ASKED],
    )
    return replace(_decide(own, pictures[p], sounds[s], *more), channel=s, picture_channel=p, others=others)


def _decide(
    places: list[Verified],
    picture: Hearing,
    sound: Hearing,
    more_pictures: Sequence[Hearing] = (),
    more_sounds: Sequence[Hearing] = (),
) -> Measurement:
    places = _standing(places, picture, sound)
    best = places[0]
    basics = replace(
        refused(""), log10_false_alarm=best.log10_false_alarm, candidates=_rivals(places), polarity=best.polarity
    )
    if best.repeat_ratio > AMBIGUOUS_RATIO:
        reason = (
            f"the two share only a sound that repeats (every {abs(best.repeat_s) * 1000:.1f} ms), which fixes no place"
        )
        return replace(basics, reason=reason)
    rivals = (one for one in places[1:] if one.log10_false_alarm <= limit(one))
    serious = [one for one in rivals if not best.is_echo(float(one.offset_at(best.middle_s)) - best.at_middle_s)]
    apart = [one for one in serious if not _together(best, one)]
    traced = trace(picture, sound, best, apart)
    if traced is None:
        return replace(basics, reason="too few moments of it are clear enough to be timed")
    if traced.share < _MOST and len(traced.line.jumps) < best.leaps / 2:
        reason = f"it jumps {best.leaps} times or more, too often to say where it lies between"
        return replace(basics, reason=reason)
    if best.echoes_s or best.doubt_s:
        line = traced.line.wider(best.doubt_s) if best.doubt_s else traced.line
        traced = replace(traced, line=replace(line, echoes=best.echoes_s, hall=best.hall))
    at = best.guess.offset_s
    used = {round(jump.step_s, 1) for jump in traced.line.jumps}
    rival = next(
        (
            one
            for one in serious
            if one.strength / best.strength >= AMBIGUOUS_RATIO
            and not (one in apart and used and _is_level(one, traced))
        ),
        None,
    )
    second = rival or next(iter(places[1:]), None)
    reason = ""
    if rival is not None:
        share = rival.strength / best.strength
        reason = f"it fits at two places, {at:+.3f} s and, {share:.0%} as well, {rival.guess.offset_s:+.3f} s"
    else:
        alone = one_sided_shares(picture, sound, traced.line, echoes_s=best.echoes_s)
        if alone.two_events and (more_pictures or more_sounds):
            more = {"more_pictures": more_pictures, "more_sounds": more_sounds}
            alone = one_sided_shares(picture, sound, traced.line, **more, echoes_s=best.echoes_s)
        if alone.two_events:
            reason = _TWO_EVENTS.format(alone.picture, alone.sound)
    head, tail = traced.stretch.head_s, traced.stretch.tail_s
    return replace(
        basics,
        decision=AMBIGUOUS if reason else MATCHED,
        reason=reason,
        line=traced.line,
        head_s=head,
        middle_s=(head + tail) / 2,
        tail_s=tail,
        trace=traced.trace,
        share=traced.share,
        runner_up_s=second.guess.offset_s if second else None,
        runner_up_ratio=max(0.0, second.strength / best.strength) if second else None,
        windows=_looking_points(picture, sound, traced.line, head, tail),
    )


def _standing(places: list[Verified], picture: Hearing, sound: Hearing) -> list[Verified]:
    """Leave out places that another excludes: music fits bar upon bar, and what was said before it fits once.

    What lies in no doubt is left as it is, and so are the levels of a line that jumps: neither excludes the other.
    """
    best, *rest = places
    strong = [one for one in rest if one.log10_false_alarm <= limit(one)]
    strong = [one for one in strong if one.strength >= AMBIGUOUS_RATIO * best.strength]
    strong = [one for one in strong if not best.is_echo(float(one.offset_at(best.middle_s)) - best.at_middle_s)]
    if best.repeat_ratio > AMBIGUOUS_RATIO or not strong:
        return places
    laid = [(one, lay(picture, sound, one.guess)) for one in (best, *strong)]

    def is_wrong(there: Laid) -> bool:
        others = (other for _, other in laid if other is not there)
        return any(excludes(picture, other, there, _EXCLUDED_LOG10) for other in others)

    wrong = [one for one, there in laid if is_wrong(there)]
    return [one for one in places if all(one is not other for other in wrong)] or places


def _is_level(place: Verified, traced: Traced) -> bool:
    """Say whether a place is one of the levels of the line that was traced."""
    at = place.at_s[place.surprise > SPOKE]
    if not at.size:
        return False
    gaps = [abs(traced.line.offset_at(float(t)) - float(place.offset_at(float(t)))) for t in at]
    return float(np.median(gaps)) < 0.01


def _together(one: Verified, other: Verified) -> bool:
    """Say whether two places claim the same moments, of the picture or of the sound: then both cannot be."""
    for own in (False, True):
        times = []
        for place in (one, other):
            at = place.at_s[place.surprise > SPOKE]
            times.append(at - np.asarray(place.offset_at(at)) if own else at)
        if not times[0].size or not times[1].size:
            return False
        gap = float(np.median(np.diff(one.at_s))) if one.at_s.size > 1 else 1.0
        near = np.abs(times[1][:, None] - times[0][None, :]).min(axis=1) < max(gap, 0.5)
        if near.mean() > 0.5:
            return True
    return False


def _looking_points(picture: Hearing, sound: Hearing, line: Line, head: float, tail: float) -> tuple[float, ...]:
    """Choose the picture times to look at: near head, middle and tail, the onset that both hear best."""
    points = []
    span = tail - head
    # The places themselves are what is to be proved: look no further from them than a few seconds.
    reach = min(0.2 * span, 12.0)
    middle = (head + tail) / 2
    if line.unsure:  # whoever asks whether it jumped there listens right after it
        step = max(line.unsure, key=lambda one: abs(one.step_s))
        middle = min(tail - reach / 2, step.high_s + reach / 2)
    for low, high in ((head, head + reach), (middle - reach / 2, middle + reach / 2), (tail - reach, tail)):
        rows = np.arange(int(low * FEATURE_RATE) + 5, min(int(high * FEATURE_RATE) - 5, picture.features.shape[0]))
        if not rows.size:
            points.append((low + high) / 2)
            continue
        offset = line.offset_at((low + high) / 2)
        own = rows - round(offset * FEATURE_RATE)
        heard = (own >= 0) & (own < sound.features.shape[0])
        scratch = np.maximum(picture.features[rows].astype(np.float32), 0).mean(axis=1)
        near = sound.features[np.clip(own, 0, sound.features.shape[0] - 1)].astype(np.float32)
        activity = np.where(heard, scratch * np.maximum(near, 0).mean(axis=1), 0.0)
        points.append(float(rows[int(np.argmax(activity))]) / FEATURE_RATE)
    return tuple(points)
