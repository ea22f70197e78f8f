"""Mono sets: files of one take, one track each, that are one recording with several channels."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from vesk.core.intake.filed import Filed

_TRACK = re.compile(r"(.+?)(?:[ _.\-]+|[ _.\-]*(?:ch|trk?|track)[ _.\-]*)(\d{1,2}|[LR])", re.IGNORECASE | re.DOTALL)


@dataclass(frozen=True, slots=True)
class MonoSet:
    """Recordings, in the order of their tracks, that are one take; and why, for a person."""

    keys: tuple[str, ...]
    reason: str


def find_sets(recordings: Iterable[Filed]) -> list[MonoSet]:
    """Return the sets among one-track sound files.

    Files of one folder and source that start at the same label and are one family by their iXML, or one take by their
    names; where no pattern reads the names, those that differ in their last number alone, start at the
    same label that is not zero, and are equally long to the sample.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's.
    """
    groups: dict[tuple[object, ...], list[Filed]] = {}
    for one in recordings:
        if one.kind != "sound" or one.channels != 1:
            continue
        folder = one.path.rpartition("/")[0]
        at = (one.source, folder, one.sample_rate, one.header)
        tokens = one.tokens
        plain = _TRACK.fullmatch(one.stem)
        if one.family:
            key: tuple[object, ...] = ("one family by their iXML", one.family)
        elif tokens.get("track"):
            key = ("one take by their names", tokens.get("scene"), tokens.get("take"), tokens.get("roll"))
        elif plain and one.header and not tokens.get("take") and not tokens.get("clip"):
            key = ("names that differ in their track alone", plain[1], one.samples)
        else:
            continue
        groups.setdefault((*at, *key), []).append(one)
    found = []
    for key, own in groups.items():
        own.sort(key=_by_track)
        tracks = [track_of(one) for one in own]
        if len(own) > 1 and len(set(tracks)) == len(tracks):
            found.append(MonoSet(tuple(one.key for one in own), f"{key[4]}, all from the same label"))
    return found


def track_of(one: Filed) -> str:
    """Return which track of its set a file is: by its iXML, else by its name; empty when neither says.

    Parameters
    ----------
    one : Filed
        A file of one track.
    """
    if one.family_index:
        return one.family_index
    plain = _TRACK.fullmatch(one.stem)
    return one.tokens.get("track") or (plain[2] if plain else "")


def _by_track(one: Filed) -> tuple[int, str, str]:
    track = track_of(one)
    return (int(track) if track.isdecimal() else {"L": 0, "R": 1}.get(track.upper(), 99), track, one.path)
