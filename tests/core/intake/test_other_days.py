"""Takes of another day on a card: told by their dates where labels overlap, and by nothing that dates do on one day."""

from dataclasses import replace
from fractions import Fraction

import pytest
from tests.paper_day import PAL, picture, sound

from vesk.core.day.known import know_day
from vesk.core.day.recording import Item
from vesk.core.heard import Heard, LtcHeard
from vesk.core.pairing.by_timecode import pair_by_timecode
from vesk.dailies.solving import day_of


def of(folder, *takes, make=sound, **facts):
    """Return a device's recordings, each given by its label and what its file says of when it was made."""
    return [
        Item(f"{folder}/{n}", f"{folder}/{n}", folder, make(label, created=created, **facts), content=f"{folder}{n}")
        for n, (label, created) in enumerate(takes, 1)
    ]


TODAY = [("10:00:00:00", "2027-03-21 10:00:00"), ("10:20:00:00", "2027-03-21 10:20:00")]
YESTERDAY = [("10:00:05:00", "2027-03-20 10:00:05"), ("15:00:00:00", "2027-03-20 15:00:00")]


def days_of(items):
    return {key: one.other_day for key, one in know_day(items, PAL).recordings.items() if one.other_day}


def test_what_was_left_on_a_card_is_told_once_and_as_what_it_is():
    items = [*of("A", *TODAY, make=picture), *of("S1", *YESTERDAY, *TODAY)]
    found = know_day(items, PAL)
    assert {key: one.other_day for key, one in found.recordings.items() if one.other_day} == {
        "S1/1": "2027-03-20", "S1/2": "2027-03-20",
    }  # fmt: skip
    (told,) = [one for one in found.oddities if one.kind in {"another day", "overlap within a source"}]
    assert (told.kind, told.about) == ("another day", ("S1/1", "S1/2"))
    assert "2 of its 4 recordings (1 to 2) say they were made on 2027-03-20" in told.says
    assert [one.likely for one in found.conflicts] == ["takes of another day"]


def test_where_a_card_holds_more_of_another_day_the_others_say_which_day_it_is():
    older = [*YESTERDAY, ("16:00:00:00", "2027-03-20 16:00:00"), ("17:00:00:00", "2027-03-20 17:00:00")]
    newer = [(label, created.replace("-21", "-23")) for label, created in TODAY]
    assert set(days_of([*of("A", *TODAY, make=picture), *of("S1", *older, *TODAY)])) == {f"S1/{n}" for n in range(1, 5)}
    assert set(days_of([*of("A", *TODAY, make=picture), *of("S1", *TODAY, *newer)])) == {"S1/3", "S1/4"}
    assert set(days_of(of("S1", *older, *TODAY))) == {f"S1/{n}" for n in range(1, 5)}  # by itself: what is older


@pytest.mark.parametrize(
    "takes",
    [
        [("23:50:00:00", "2027-03-21 23:50:00"), ("23:59:55:00", "2027-03-22 00:00:15"), ("00:10:00:00", "2027-03-22")],
        [("09:00:00:00", "2027-03-20T23:00:00.000000Z"), ("11:30:00:00", "2027-03-21T01:30:00.000000Z")],
        [("10:00:00:00", "2015-01-01 00:02:00"), ("10:20:00:00", "2015-01-01 00:22:00")],
        [("10:00:00:00", "2027-03-21 10:00:00"), ("10:00:05:00", "2015-01-01 00:02:00")],
        [("10:00:00:00", "2027-03-21 10:00:00"), ("10:00:05:00", "1970-01-01 00:02:00")],
        [("10:00:00:00", "2027-03-21 10:00:00"), ("10:00:05:00", "2027-13-45"), ("10:00:06:00", "")],
        [("10:00:00:00", "2027-03-21 10:00:00"), ("15:00:00:00", "2027-03-20 15:00:00")],
    ],
    ids=["midnight", "UTC", "a wrong date", "another clock", "nobody set it", "unreadable", "no overlap"],
)
def test_a_date_that_turns_at_midnight_is_in_utc_or_lies_is_no_other_day(takes):
    assert days_of([*of("A", *TODAY, make=picture), *of("S1", *takes)]) == {}


def test_dates_without_a_time_of_day_tell_it_too():
    takes = [("20:30:05:00", "2027-03-20 00:00:00"), ("07:00:00:00", "2027-03-21"), ("20:30:00:00", "2027-03-21")]
    assert set(days_of(of("S1", *takes))) == {"S1/1"}


@pytest.mark.parametrize("deaf", [{"channels": 0}, {"coded": True}], ids=["no sound", "timecode alone"])
def test_a_mute_picture_is_not_laid_beside_a_sound_of_another_day_and_is_not_taken_for_off_speed(deaf):
    mute = of("M", *YESTERDAY, *TODAY, make=picture, channels=deaf.get("channels", 1))
    if "coded" in deaf:
        says = LtcHeard(Fraction(25), False, Fraction(0), "", 0, "", 1e-5, 0.0, 0.1, 0, 0, "")
        mute = [replace(one, heard=Heard(ltc={0: says}), put_right={"clock": "header"}) for one in mute]
    heard = of("A", *TODAY, make=picture)
    found = know_day([*mute, *heard, *of("S1", *YESTERDAY, *TODAY)], PAL)
    assert not any(one.aside for one in found.recordings.values())
    proposals, _ = pair_by_timecode([one.span() for one in found.recordings.values()], PAL)
    made = {(one.picture, one.sound) for one in proposals}
    assert {pair for pair in made if pair[0].startswith("M")} == {(f"M/{n}", f"S1/{n}") for n in range(1, 5)}
    assert ("A/1", "S1/1") in made  # who hears is asked by sound
    solved = day_of(found.recordings, {}, (), PAL, {})
    assert {one.key for one in solved.recordings if one.start is None} == {"M/1", "M/2", "S1/1", "S1/2"}
