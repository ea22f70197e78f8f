"""Measure how the times of two recordings that may share sound map onto each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.by_waveform import search_by_waveform
from vesk.core.sound.coarse import Candidate, search
from vesk.core.sound.features import FEATURE_RATE, WORK_RATE
from vesk.core.sound.measurement import AMBIGUOUS, MATCHED, Line, Measurement, refused
from vesk.core.sound.trace import Place, look_at, trace

ACCEPT_LOG10 = -6.0
AMBIGUOUS_RATIO = 0.75
SILENCE = 1e-6


@dataclass(frozen=True, slots=True)
class Hearing:
    """What one recording offers to be matched: one channel at WORK_RATE, and its features."""

    sound: NDArray[np.float32]
    features: NDArray[np.float16]

    @property
    def silent(self) -> bool:
        """Whether there is nothing to hear."""
        return self.sound.size == 0 or float(np.sqrt(np.mean(self.sound**2))) < SILENCE


def _places(picture: Hearing, sound: Hearing, candidates: list[Candidate]) -> list[Place]:
    """Look at every candidate; the most certain first."""
    looked = (look_at(picture.sound, sound.sound, candidate, tried=len(candidates)) for candidate in candidates)
    return sorted((place for place in looked if place), key=lambda place: place.log10_false_alarm)


def _accepted(places: list[Place]) -> bool:
    return bool(places) and places[0].log10_false_alarm <= ACCEPT_LOG10


def measure(
    picture: Hearing,
    sound: Hearing,
    *,
    proposal_s: float | None = None,
    reach_s: float = 5.0,
    channel: int = 0,
) -> Measurement:
    """Measure how a sound recording lies against a picture recording's scratch sound.

    Parameters
    ----------
    picture, sound : Hearing
        The camera's scratch and one channel of the recorder's sound.
    proposal_s : float, optional
        Offset proposed by timecode, seconds: searched first, then everywhere.
    reach_s : float
        How far around the proposal to search first, seconds.
    channel : int
        Which channel of the sound this is; noted in the result.

    Returns
    -------
    Measurement
        Matched only when the false-alarm probability is at most 1e-6; ambiguous when another
        place fits nearly as well; refused with a reason otherwise. ``line.offset_s`` is the
        picture time at which sound sample 0 belongs, *as heard*: it holds the difference of
        the two microphones' distances.
    """
    for name, hearing in (("scratch", picture), ("sound", sound)):
        if hearing.silent:
            return refused(f"the {name} is silent")
    if min(picture.sound.size, sound.sound.size) < WORK_RATE:
        return refused("one of the two is shorter than a second")
    places: list[Place] = []
    # Near the proposal first, then everywhere; by onsets first, and by waveform where they are too weak.
    for around in (proposal_s, None) if proposal_s is not None else (None,):
        by_onsets = search(picture.features, sound.features, around_s=around, reach_s=reach_s)
        places = _places(picture, sound, by_onsets)
        if not _accepted(places):
            by_wave = search_by_waveform(picture.sound, sound.sound, around_s=around, reach_s=reach_s)
            places = sorted([*places, *_places(picture, sound, by_wave)], key=lambda p: p.log10_false_alarm)
        if _accepted(places):
            break
    if not places:
        return refused("no place was found where the two share sound")
    return _decide(places, picture, sound, channel)


def _decide(places: list[Place], picture: Hearing, sound: Hearing, channel: int) -> Measurement:
    best = places[0]
    if best.log10_false_alarm > ACCEPT_LOG10:
        return refused(
            f"the best place, {best.guess.offset_s:+.2f} s, could be chance "
            f"(false-alarm probability {10**best.log10_false_alarm:.2g})"
        )
    if best.repeat_ratio > AMBIGUOUS_RATIO:
        return refused(
            f"the two share only a sound that repeats (every {abs(best.repeat_s) * 1000:.1f} ms), which fixes no place"
        )
    traced = trace(picture.sound, sound.sound, best)
    if traced is None:
        return refused("too few moments of it are clear enough to be timed")
    at = best.guess.offset_s
    other = next((place for place in places[1:] if abs(place.guess.offset_s - at) > 0.1), None)
    ratio = other.strength / best.strength if other else None
    ambiguous = (
        other is not None and ratio is not None and ratio > AMBIGUOUS_RATIO and other.log10_false_alarm <= ACCEPT_LOG10
    )
    head, tail = traced.stretch.head_s, traced.stretch.tail_s
    return Measurement(
        decision=AMBIGUOUS if ambiguous else MATCHED,
        reason=f"it fits at two places, {at:+.3f} s and {other.guess.offset_s:+.3f} s" if ambiguous and other else "",
        line=traced.line,
        head_s=head,
        middle_s=(head + tail) / 2,
        tail_s=tail,
        trace=traced.trace,
        share=traced.share,
        log10_false_alarm=best.log10_false_alarm,
        runner_up_s=other.guess.offset_s if other else None,
        runner_up_ratio=ratio,
        channel=channel,
        windows=_looking_points(picture, sound, traced.line, head, tail),
    )


def _looking_points(picture: Hearing, sound: Hearing, line: Line, head: float, tail: float) -> tuple[float, ...]:
    """Choose the picture times to look at: near head, middle and tail, the onset that both hear best."""
    rows = np.arange(picture.features.shape[0])
    at = rows / FEATURE_RATE
    own = np.rint((at - line.at_middle_s + line.ppm * 1e-6 * (at - line.middle_s)) * FEATURE_RATE).astype(int)
    heard = (own >= 0) & (own < sound.features.shape[0])
    scratch = np.maximum(picture.features.astype(np.float32), 0).mean(axis=1)
    production = np.maximum(sound.features.astype(np.float32), 0).mean(axis=1)
    activity = np.where(heard, scratch * production[np.clip(own, 0, production.size - 1)], 0.0)
    points = []
    span = tail - head
    # The places themselves are what is to be proved: look no further from them than a few seconds.
    reach = min(0.2 * span, 12.0)
    middle = (head + tail) / 2
    for low, high in ((head, head + reach), (middle - reach / 2, middle + reach / 2), (tail - reach, tail)):
        a, b = int(low * FEATURE_RATE) + 5, int(high * FEATURE_RATE) - 5
        chosen = activity[a:b]
        best = a + int(np.argmax(chosen)) if chosen.size else (a + b) // 2
        points.append(best / FEATURE_RATE)
    return tuple(points)
