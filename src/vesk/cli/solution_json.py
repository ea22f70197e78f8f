"""The solution of a folder, as plain JSON values: what `vesk pair` prints of the day as a whole."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from vesk.core.clocks.choice import Choice
from vesk.core.day.clocks import DeviceClock
from vesk.core.day.solution import Contradiction, Solution
from vesk.core.kinds import Discord
from vesk.core.verdict.disagreement import witnesses


def solution_json(solution: Solution, choices: Mapping[str, Choice]) -> dict[str, list[dict[str, Any]]]:
    """Return devices, loops, contradictions and what is left for a person.

    Parameters
    ----------
    solution : Solution
    choices : mapping of str to Choice
        Which clock of each device is trusted, and why.
    """
    return {
        "devices": [_device_json(device, solution, choices) for device in sorted(solution.sources)],
        "loops": [
            {
                "recordings": list(loop.members),
                "misclosure_ms": loop.misclosure_s * 1e3,
                "standard_error_ms": loop.se_s * 1e3,
            }
            for loop in solution.loops
        ],
        "contradictions": [_contradiction_json(one) for one in solution.contradictions],
        "decisions": [
            {"asked": one.asked, "device": one.device, "pairings": [list(pair) for pair in one.pairings]}
            for one in solution.questions
        ],
    }


def _device_json(device: str, solution: Solution, choices: Mapping[str, Choice]) -> dict[str, Any]:
    clock, ears = solution.clocks.get(device), solution.lateness.get(device)
    tag = solution.sources[device]
    return {
        "tag": device,
        "filed_as": tag,
        "recordings": [key for key, own in solution.devices.items() if own == device],
        "clock": choices[tag].clock if tag in choices else None,
        "clock_reason": choices[tag].reason if tag in choices else "",
        "reference": clock.reference if clock else None,
        "stretches": _stretches_json(clock) if clock else [],
        "jams": _jams(clock) if clock else [],
        "delay": None
        if ears is None
        else {
            "best_ms": ears.best_s * 1e3,
            "low_ms": ears.low_s * 1e3,
            "high_ms": ears.high_s * 1e3,
            "as_entered": ears.as_known,
            "claps": ears.claps,
            "agreeing": ears.agreeing,
        },
    }


def _stretches_json(clock: DeviceClock) -> list[dict[str, Any]]:
    return [
        {
            "since_s": one.since_s,
            "until_s": one.until_s,
            "ahead_s": one.ahead_s,
            "standard_error_s": one.error_at(one.middle_s),
            "ppm": one.rate * 1e6,
            "standard_error_ppm": one.covariance[2] ** 0.5 * 1e6,
            "scatter_s": one.scatter_s,
            "measurements": len(one.members),
        }
        for one in clock.stretches
    ]


def _jams(clock: DeviceClock) -> list[dict[str, float]]:
    """Return between which label times a clock was set anew."""
    pairs = zip(clock.stretches, clock.stretches[1:], strict=False)
    return [{"after_s": one.until_s, "before_s": other.since_s} for one, other in pairs]


def _contradiction_json(one: Contradiction) -> dict[str, Any]:
    said: dict[Discord, dict[str, Any]] = {
        Discord.LATENESS: {"says": witnesses(one)},
        Discord.PATTERN: {"keep_to_the_clock": one.pattern},
        Discord.POINT: {"event": one.name},
        Discord.CLAP: {"says": witnesses(one)},
        Discord.SLATE: {"slates": one.name, "with_one_slate": one.pattern},
    }
    return {
        "about": one.about,
        "device": one.device,
        "pairings": [list(pair) for pair in one.pairings],
        "apart_ms": one.apart_s * 1e3,
        **said[one.about],
    }
