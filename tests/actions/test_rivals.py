"""A day on which two sound files claim the same moments of one picture."""

import pytest
from tests.conftest import measured_takes

from vesk.actions import standing
from vesk.actions.measuring import to_json
from vesk.store import recordings
from vesk.store.tables import Pairing


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    without = ("B004*", "3[2346]*", "A006_00[234567]*", "WT*")
    return measured_takes(db, settings, ferry, tmp_path / "media", *without)


@pytest.mark.parametrize(
    ("strength", "causes"),
    [(-70.0, {"31A_01.wav": "ambiguous", "31A_02.wav": "ambiguous"}),
     (-9.0, {"31A_01.wav": "sub-frame slip", "31A_02.wav": "wrong partner"})],
)  # fmt: skip
def test_one_recorder_cannot_have_made_both(db, day, strength, causes):
    (now,) = standing.of_day(db, day)
    other = next(row for row in recordings.of_day(db, day.id) if row.name == "31A_02.wav")
    values = to_json(now.found)
    stronger = {**values, "log10_false_alarm": -80.0}
    row = db.get(Pairing, now.pairing.id)
    row.measurement = stronger
    # As when a playback, or the same lines again, matched here as well.
    second = Pairing(
        day_id=day.id, picture_id=now.picture.id, sound_id=other.id, offset=now.pairing.offset, state="measured",
        measurement={**values, "log10_false_alarm": strength},
    )  # fmt: skip
    db.add(second)
    db.commit()
    found = {one.sound.name: one for one in standing.of_day(db, day)}
    assert {name: one.verdict.cause for name, one in found.items()} == causes
    for name, cause in causes.items():
        if cause != "sub-frame slip":
            assert found[name].proposal is None
            assert "S1 · 31A_0" in found[name].verdict.text
    assert standing.of_pairing(db, second.id).verdict.cause == causes["31A_02.wav"]  # the bench says the same
