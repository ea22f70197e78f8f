"""What the rows of a day are, in a few numbers: others whenever any of them was added, changed or taken away.

PostgreSQL writes a changed row anew, at another place (``ctid``) and under its transaction's number (``xmin``): the
sum of a hash of both over the rows tells every change that a transaction can see, its own too, without reading them.
"""

from __future__ import annotations

from sqlalchemy import text
from sqlmodel import Session

_OF_DAY = "FROM {0} AS t WHERE t.day_id = :day"
_OF_PAIRING = "FROM {0} AS t JOIN pairing AS p ON p.id = t.pairing_id WHERE p.day_id = :day"
_OF_RECORDING = "FROM {0} AS t JOIN recording AS r ON r.id = t.recording_id WHERE r.day_id = :day"
_OF_SOURCE = "FROM {0} AS t JOIN source AS s ON s.id = t.source_id WHERE s.day_id = :day"
_TABLES = {
    "day": "FROM {0} AS t WHERE t.id = :day",
    "source": _OF_DAY, "recording": _OF_DAY, "pairing": _OF_DAY, "compared": _OF_DAY, "report": _OF_DAY,
    "accepted": _OF_DAY, "scoped_correction": _OF_DAY,
    "correction": _OF_PAIRING, "check_mark": _OF_PAIRING, "sync_point": _OF_RECORDING, "seen_label": _OF_RECORDING,
    "kept_range": _OF_RECORDING, "watch_note": _OF_RECORDING,
    "override": _OF_RECORDING, "clock_period": _OF_SOURCE,
}  # fmt: skip
_QUERY = text(
    " UNION ALL ".join(
        f"SELECT '{name}', count(*) || ':' ||"
        f" coalesce(sum(hashtextextended(t.ctid::text || t.xmin::text, 0)), 0)::text {rows.format(name)}"
        for name, rows in _TABLES.items()
    )
)


def of_day(session: Session, day_id: int) -> dict[str, str]:
    """Return a mark for each table that says something of a day, as the session's transaction sees it now."""
    session.flush()
    return {row[0]: row[1] for row in session.execute(_QUERY, {"day": day_id})}
