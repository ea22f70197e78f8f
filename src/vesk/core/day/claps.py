"""What claps say of a day: how late cameras hear, and where mute cameras' clocks stand."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from vesk.core.day.clocks import DeviceClock
from vesk.core.day.day import Day, HeardClap, Match
from vesk.core.day.lateness import ClapBound
from vesk.core.day.stretches import Stretch
from vesk.core.kinds import LTC

_EAR_S = 0.3  # a camera hears a clap that it sees at most so much later or earlier
_REACH_S = 2.0  # a clock that was jammed leads a clap at least so near
_STEP_S = 0.001
_SURE_FRAMES = 1.5
_SOFT, _EDGE_S = 0.2, 0.002
_MEAN, _SPREAD = 0.42, 0.2  # of a clap's bounds, a frame and a half: see `lateness`


def bounds_of(day: Day, matches: Iterable[Match]) -> dict[str, dict[str, list[ClapBound]]]:
    """Return what each camera's claps allow of its lateness, by tag and recording.

    A clap that the camera did not hear itself may have been heard by a recorder that sound lays along it.

    Parameters
    ----------
    day : Day
    matches : iterable of Match
        Those that sound decided.
    """
    devices = {one.key: one.device for one in day.recordings}
    heard: dict[str, list[HeardClap]] = {}
    for clap in day.heard:
        heard.setdefault(clap.recording, []).append(clap)
    along: dict[str, list[float]] = {}
    for match in matches:
        along.setdefault(match.picture, []).extend(
            clap.at_s + match.heard_s(clap.at_s + match.at_head_s) for clap in heard.get(match.sound, ())
        )
    found: dict[str, dict[str, list[ClapBound]]] = {}
    said = day.ears_beyond()  # what a person says of one recording is not asked of its device
    for seen in day.seen:
        if seen.recording in said:
            continue
        middle = (seen.low_s + seen.high_s) / 2
        ears = [seen.heard_s] if seen.heard_s is not None else along.get(seen.recording, [])
        near = min(ears, key=lambda at: abs(at - middle), default=None)
        if near is not None and abs(near - middle) < _EAR_S:
            bound = ClapBound(near - seen.high_s, near - seen.low_s, seen.likely)
            found.setdefault(devices[seen.recording], {}).setdefault(seen.recording, []).append(bound)
    return found


@dataclass(frozen=True, slots=True)
class Lead:
    """What one clap that a mute camera saw says of its clock, if a certain heard one is the same.

    Attributes
    ----------
    recording, device : str
        Of the picture: key and tag.
    label_s : float
        Label time of the clap.
    low_s, high_s : float
        How far the camera's clock is then ahead of the reference, at least and at most.
    seen, heard : float
        How likely either is a clap.
    clap : int
        Index of the clap seen.
    soft_s : float
        How far its edges reach: labels may be rounded to frames that keep no step with them.
    """

    recording: str
    device: str
    label_s: float
    low_s: float
    high_s: float
    seen: float
    heard: float
    clap: int
    soft_s: float

    @property
    def middle_s(self) -> float:
        """Where it lies in the mean: the last half frame counts less than the first."""
        return self.low_s + (self.high_s - self.low_s) * _MEAN

    @property
    def se_s(self) -> float:
        """Its standard deviation about that."""
        return (self.high_s - self.low_s) * _SPREAD


def leads_of(day: Day, mute: Collection[str], clocks: Mapping[str, DeviceClock]) -> list[Lead]:
    """Lay every clap that mute cameras saw beside those that recorders heard within two seconds of it by labels.

    Parameters
    ----------
    day : Day
    mute : collection of str
        Tags of those cameras.
    clocks : mapping of str to DeviceClock
        Of the recorders, as heard.
    """
    recordings = {one.key: one for one in day.recordings}
    beyond = day.ears_beyond()
    found = []
    for number, clap in enumerate(day.seen):
        picture = recordings[clap.recording]
        if picture.device not in mute or picture.start is None:
            continue
        label = float(picture.start) + clap.low_s
        for heard in day.heard:
            sound = recordings[heard.recording]
            clock = clocks.get(sound.device)
            known = clock.at(label) if clock else None
            if sound.start is None or known is None:
                continue
            # As heard: a camera without ears is ahead by what its picture is.
            contact = day.wrapped_s(float(sound.start - picture.start)) + heard.at_s - known[0]
            contact -= beyond.get(heard.recording, 0.0)
            if abs(clap.low_s - contact) < _REACH_S:
                low, high = clap.low_s - contact, clap.high_s - contact
                soft = _EDGE_S if picture.clock == LTC else _SOFT * (high - low)
                found.append(
                    Lead(picture.key, picture.device, label, low, high, clap.likely, heard.likely, number, soft)
                )
    return found


def clocks_by_claps(leads: Sequence[Lead], reference: str, frame_s: float) -> dict[str, DeviceClock]:
    """Find the clocks of mute cameras, from what all claps of each say together.

    Parameters
    ----------
    leads : sequence of Lead
    reference : str
        Tag of the device that clocks are told against.
    frame_s : float
        The longest frame of any; where more than some frames stay possible, nothing is found.
    """
    made = {}
    for tag in sorted({lead.device for lead in leads}):
        stretch = _stretch([lead for lead in leads if lead.device == tag], frame_s)
        if stretch is not None:
            made[tag] = DeviceClock(tag, reference, (stretch,))
    return made


def _stretch(leads: list[Lead], frame_s: float) -> Stretch | None:
    grid = np.arange(-round(_REACH_S / _STEP_S), round(_REACH_S / _STEP_S) + 1) * _STEP_S
    weight = np.zeros(grid.size)
    labels = {}
    for clap in sorted({lead.clap for lead in leads}):
        own = [lead for lead in leads if lead.clap == clap]
        allowed = np.zeros(grid.size)
        for one in own:
            away = np.maximum(0.0, np.maximum(one.low_s - grid, grid - one.high_s))
            allowed += one.heard * np.exp(-0.5 * (away / one.soft_s) ** 2) / (one.high_s - one.low_s + 2 * one.soft_s)
        weight += np.log(own[0].seen * allowed + (1 - own[0].seen) / (2 * _REACH_S) + 1e-9)
        labels[clap] = own[0].label_s
    share = np.exp(weight - weight.max())
    share /= share.sum()
    mean = float((share * grid).sum())
    spread = float(((share * (grid - mean) ** 2).sum()) ** 0.5)
    if spread > _SURE_FRAMES * frame_s:
        return None
    at = sorted(labels.values())
    return Stretch(at[0], at[-1], float(np.median(at)), mean, 0.0, spread, (spread**2, 0.0, 0.0), (-1, -2))
