"""Search over every day: recordings by file name, scene, take and device."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import text
from sqlmodel import Session

LONGEST = 100  # of what is typed
_MOST_WORDS = 8


@dataclass(frozen=True, slots=True)
class Found:
    """One recording, with what is shown of it beside its name; `partners` are the names of what it is paired with."""

    recording_id: int
    name: str
    path: str
    kind: str
    scene: str
    take: str
    tag: str
    device: str
    day_id: int
    day: int
    shot_on: str
    production: str
    pairing_id: int | None
    partners: str


# Everything a word may be of, as one text. Words of a label stand before their figures: "take 3", "day 12".
_SAYS = (
    "concat_ws(' ', r.name, 'scene ' || nullif(r.told ->> 'scene', ''), 'take ' || nullif(r.told ->> 'take', ''),"
    " (r.told ->> 'scene') || '/' || (r.told ->> 'take'), s.tag, s.name, p.name, 'day ' || d.number)"
)
_QUERY = """
WITH found AS (
  SELECT r.id, (lower(r.told ->> 'scene') = lower(:first) OR lower(s.tag) = lower(:first)) IS TRUE AS named,
    count(*) OVER () AS every
  FROM recording r JOIN day d ON d.id = r.day_id JOIN production p ON p.id = d.production_id
    LEFT JOIN source s ON s.id = r.source_id
  WHERE r.member_of IS NULL AND r.state NOT IN ('apart', 'gone') AND {words}
  ORDER BY named DESC, d.shot_on DESC, d.number DESC, r.id LIMIT :most
)
SELECT r.id, r.name, r.path, coalesce(r.kind, ''), coalesce(r.told ->> 'scene', ''), coalesce(r.told ->> 'take', ''),
  coalesce(s.tag, ''), coalesce(s.name, ''), d.id, d.number, d.shot_on::text, p.name,
  (SELECT min(pair.id) FROM pairing pair WHERE pair.state <> 'withdrawn'
    AND (pair.picture_id = r.id OR pair.sound_id = r.id)),
  coalesce((SELECT string_agg(other.name, ', ' ORDER BY other.path) FROM pairing pair JOIN recording other
    ON other.id = CASE WHEN pair.picture_id = r.id THEN pair.sound_id ELSE pair.picture_id END
    WHERE pair.state NOT IN ('withdrawn', 'set aside') AND (pair.picture_id = r.id OR pair.sound_id = r.id)), ''),
  found.every
FROM found JOIN recording r ON r.id = found.id JOIN day d ON d.id = r.day_id
  JOIN production p ON p.id = d.production_id LEFT JOIN source s ON s.id = r.source_id
ORDER BY found.named DESC, d.shot_on DESC, d.number DESC, r.id
"""


def words_of(typed: str) -> list[str]:
    """Return the words that are searched for: every one has to be found.

    Examples
    --------
    >>> words_of("scene 31A  take 2 S1")
    ['scene 31A', 'take 2', 'S1']
    """
    said = typed[:LONGEST].split()
    words: list[str] = []
    for word in said:
        if words and words[-1].lower() in {"scene", "take", "day"}:
            words[-1] = f"{words[-1]} {word}"
        else:
            words.append(word)
    return words[:_MOST_WORDS]


def find(session: Session, typed: str, *, most: int = 100) -> tuple[list[Found], int]:
    """Return the recordings of all days that are all of what was typed, at most so many, and how many there are.

    Parameters
    ----------
    session : Session
    typed : str
        Words: parts of a file name, a scene, a take, a device's tag or name, a production, a day.
    most : int
    """
    words = words_of(typed)
    if not words:
        return [], 0
    # A figure after its word is whole: "take 2" is not "take 21".
    labelled = [" " in word for word in words]
    clauses = [
        f"{_SAYS} || ' ' ILIKE :word{n} ESCAPE '\\'" if whole else f"{_SAYS} ILIKE :word{n} ESCAPE '\\'"
        for n, whole in enumerate(labelled)
    ]
    values = {f"word{n}": f"%{_escaped(word)}{' ' if whole else ''}%"
              for n, (word, whole) in enumerate(zip(words, labelled, strict=True))}  # fmt: skip
    query = text(_QUERY.format(words=" AND ".join(clauses)))
    first = words[0].partition(" ")[2] or words[0]
    rows = session.execute(query, {**values, "first": first, "most": most}).all()
    return [Found(*row[:-1]) for row in rows], (rows[0][-1] if rows else 0)


def _escaped(word: str) -> str:
    return word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
