"""Shoot a scenario: make its files, and tell the truth about them on request."""

from __future__ import annotations

import json
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vesk.simulator.devices import CAMERA, Take, takes
from vesk.simulator.files import closing_frame, recorded, write_recording
from vesk.simulator.scenario import Scenario
from vesk.simulator.world import Event, events

SCENARIOS = Path(__file__).parent / "scenarios"


_Made = tuple[Scenario, list[Event], Callable[..., NDArray[np.float32]]]
_MADE_OF: list[_Made] = []  # of this process: handed to it once, since all that sounds on a day is a lot


def _begin(made_of: _Made) -> None:
    _MADE_OF[:] = [made_of]


def _make(take: Take) -> str:
    (scenario, sounding, records) = _MADE_OF[0]
    write_recording(take, scenario, sounding, records)
    return take.path.name


def all_events(scenario: Scenario) -> list[Event]:
    """Return everything that sounds that day."""
    return [event for shot in scenario.shots for event in events(scenario, shot)]


def shoot(
    scenario: Scenario,
    out: Path,
    *,
    processes: int = 2,
    tell: Callable[[str], None] = lambda _: None,
    records: Callable[..., NDArray[np.float32]] = recorded,
) -> list[Take]:
    """Make every file of a scenario under `out`; the same bytes for the same scenario.

    Parameters
    ----------
    scenario : Scenario
    out : Path
    processes : int
    tell : callable
        Is told the name of each file that is made.
    records : callable
        A take and what sounds that day to its sound, as `files.recorded`; pickled where there are several processes.
    """
    planned = takes(scenario, out)
    sounding = all_events(scenario)
    # The longest first, so that no core idles at the end.
    order = sorted(planned, key=lambda take: -take.length_s * (3 if take.device.kind == CAMERA else 1))
    made_of = scenario, sounding, records
    if processes == 1:
        for take in order:
            write_recording(take, *made_of)
            tell(take.path.name)
    else:
        with ProcessPoolExecutor(
            processes, mp_context=get_context("spawn"), initializer=_begin, initargs=(made_of,)
        ) as pool:
            for name in pool.map(_make, order):
                tell(name)
    for broken in scenario.broken:
        target = out / broken["path"]
        target.parent.mkdir(parents=True, exist_ok=True)
        if "of" in broken and not (out / broken["of"]).exists():
            continue  # a part of the day without it
        if "of" in broken:
            target.write_bytes((out / broken["of"]).read_bytes()[: broken.get("bytes")])
        else:
            target.write_bytes(broken.get("text", "").encode())
    for name in scenario.lost:
        (out / name).unlink(missing_ok=True)
    return planned


def truth(planned: list[Take], scenario: Scenario, out: Path) -> dict[str, Any]:
    """Tell what is true: for every camera and recorder file that ran together, offset and ppm.

    ``offset_s`` is the picture time of sound sample 0 by the clocks alone; ``heard_offset_s`` what
    the sounds themselves say, with the microphones' distances and the camera's internal delay in.
    """
    sounding = all_events(scenario)
    pairs = []
    for picture in (take for take in planned if take.device.kind == CAMERA):
        for sound in (take for take in planned if take.device.kind != CAMERA):
            shared = min(picture.begins + picture.length_s, sound.begins + sound.length_s) - max(
                picture.begins, sound.begins
            )
            if shared <= 0:
                continue
            late = picture.hears_late_s - sound.hears_late_s
            pairs.append(
                {
                    "picture": str(picture.path.relative_to(out)),
                    "sound": str(sound.path.relative_to(out)),
                    "offset_s": picture.own_time(sound.begins),
                    "heard_offset_s": picture.own_time(sound.begins + late),
                    "ppm": (sound.clock / picture.clock - 1) * 1e6,
                    "shared_s": shared,
                    "table": _table(picture, sound),
                }
            )
    return {
        "production": scenario.production,
        "recordings": [
            {
                "path": str(take.path.relative_to(out)),
                "source": take.device.tag,
                "begins_s": take.begins,
                "ppm": take.device.ppm,
                "clap_frame": closing_frame(take, sounding) if take.device.kind == CAMERA else None,
            }
            for take in planned
        ],
        "pairs": pairs,
    }


def _table(picture: Take, sound: Take) -> list[list[float]]:
    """Tell, where no line does, the offset by clocks alone and as heard each second; empty where one does.

    Rows of picture time, offset by the clocks, offset as heard: seconds.
    """
    steady = not (picture.walks or sound.walks or picture.device.swing_ppm or sound.device.swing_ppm)
    if steady:
        return []
    rows = []
    ends = (take.begins + take.length_s for take in (picture, sound))
    for true in np.arange(max(picture.begins, sound.begins), min(ends), 1.0):
        at, own = picture.own_time(float(true)), sound.own_time(float(true))
        moment = np.array([true])
        late = picture.hears_late_s - sound.hears_late_s + float((picture.way_s(moment) - sound.way_s(moment))[0])
        rows.append([at, at - own, at - own + late])
    return rows


def write_truth(path: Path, values: dict[str, Any]) -> None:
    """Write the truth as JSON."""
    path.write_text(json.dumps(values, indent=1) + "\n", encoding="utf-8")
