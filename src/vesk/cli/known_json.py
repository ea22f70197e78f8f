"""What is known of a folder, as plain JSON values: what `vesk intake` prints."""

from __future__ import annotations

from dataclasses import asdict
from fractions import Fraction
from typing import Any

from vesk.core.day.recording import Known
from vesk.core.facts import FACTS
from vesk.core.heard import HEARD
from vesk.core.kinds import RUN, SET
from vesk.dailies.folder import Walked
from vesk.dailies.merging import Merged, merged_path


def known_json(walked: Walked) -> dict[str, Any]:
    """Return recordings with facts and where each came from, sources, conflicts, what is set aside, what is odd."""
    known = walked.known
    return {
        "fps": str(walked.rate.fps),
        "drop": walked.rate.drop,
        "recordings": [recording_known_json(one) for one in known.recordings.values()],
        "sources": [
            {
                "tag": tag,
                "clock": choice.clock,
                "reason": choice.reason,
                "recordings": [key for key, one in known.recordings.items() if one.item.source == tag],
            }
            for tag, choice in sorted(known.clocks.items())
        ],
        "runs": [_together_json(one) for one in walked.together if one.how == RUN],
        "sets": [_together_json(one) for one in walked.together if one.how == SET],
        "conflicts": [{**asdict(one), "shared": _exact(one.shared)} for one in known.conflicts],
        "set_aside": [{"path": key, "reason": one.aside} for key, one in known.recordings.items() if one.aside],
        "off_speed": [
            {"path": one.key, "reason": one.reason, "real_s": float(one.real), "sure": one.sure}
            for one in known.off_speed.values()
        ],
        "oddities": [
            {"kind": one.kind, "about": list(one.about), "weight": one.weight, "says": one.says, "do": one.do}
            for one in known.oddities
        ],
        "unreadable": [{"path": one.path, "reason": one.says} for one in walked.unusable],
    }


def _together_json(one: Merged) -> dict[str, Any]:
    return {"path": merged_path(one.keys), "files": list(one.keys), "reason": one.why}


def recording_known_json(one: Known) -> dict[str, Any]:
    """Return what is known of one recording; each fact with where it came from."""
    return {
        "path": one.item.path,
        "files": [file.path for file in one.item.files],
        "source": one.item.source,
        "kind": one.item.facts.kind,
        "clock": one.clock,
        "starts": one.label,
        "start": None if one.start is None else _exact(one.start),
        "known": {name: asdict(value) for name, value in one.values.items()},
        "file_name": one.tokens,
        "facts": FACTS.fields(one.item.facts),
        "heard": HEARD.fields(one.item.heard) if one.item.heard else {},
        "set_aside": one.aside,
        "other_day": one.other_day,
    }


def _exact(value: Fraction) -> str:
    return f"{value.numerator}/{value.denominator}"
