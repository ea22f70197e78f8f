"""The order of a device's files settles which of several takes it is, and says nothing where it proves nothing."""

from dataclasses import replace
from fractions import Fraction

from vesk.core.pairing.in_order import rivalries_in_order
from vesk.core.pairing.rivals import Claim, Displaced, Rivalry

MINUTE = 60


def takes(fits: dict[int, tuple[int, ...]], *, of_sound: bool = False):
    """Return the claims of a camera's files on a recorder's takes, a minute apart; or of a recorder's on a camera's."""
    claims, paths = [], {}
    for file, partners in fits.items():
        own = f"clip{file:04}"
        paths[own] = f"cards/{own}.mov"
        for take in partners:
            partner, start = f"take {take}", Fraction(36_000 + MINUTE * take)
            paths[partner] = f"S1/{partner}.wav"
            key, offset = f"{file}-{take}", 0.1 * file
            if of_sound:
                claims.append(Claim(key, partner, own, "A", "S1", 0, 20, offset, 50, start, None))
            else:
                claims.append(Claim(key, own, partner, "B", "S1", 0, 20, -offset, 50, None, start))
    return claims, paths


def settled(found: dict[str, Rivalry]) -> set[str]:
    return {key for key, one in found.items() if one.settled == Displaced.ORDER}


def test_takes_of_one_song_lie_between_the_files_before_and_after():
    fits = {1: (1, 4), 2: (2,), 3: (3,), 4: (4,), 5: (6, 1, 5), 6: (6, 2)}
    for of_sound in (False, True):
        found = rivalries_in_order(*_given(fits, of_sound=of_sound))
        assert set(found) == settled(found) == {"1-4", "5-6", "5-1", "6-2"}
        assert found["5-1"].other == "5-5"  # what belongs there


def test_where_nothing_has_a_clock_one_count_tells_the_other():
    """A camera's files in their turn, a recorder's in theirs."""
    fits = {1: (1, 4), 2: (2,), 3: (3,), 4: (4,), 5: (6, 1, 5), 6: (6, 2)}
    claims, devices, paths = _given(fits)
    claims = [replace(one, sound_start=None) for one in claims]
    assert settled(rivalries_in_order(claims, devices, paths)) == {"1-4", "5-6", "5-1", "6-2"}
    # Of two cards of the recorder no name tells which was first.
    other_card = paths | {key: path.replace("S1/", "S1/card 2/") for key, path in paths.items() if key > "take 3"}
    assert settled(rivalries_in_order(claims, devices, other_card)) == set()


def _given(fits, **how):
    claims, paths = takes(fits, **how)
    return claims, (), paths


def test_what_one_settles_may_settle_the_next():
    """The fifth is known only once the sixth is: each alone could be either."""
    found = rivalries_in_order(*_given({1: (1,), 2: (2,), 3: (3,), 5: (5, 6), 6: (6, 1)}))
    assert set(found) == settled(found) == {"5-6", "6-1"}


def test_a_file_whose_take_nobody_recorded_has_none_of_the_others():
    found = rivalries_in_order(*_given({1: (1,), 2: (2,), 3: (3, 1, 4), 4: (4,), 5: (5,), 6: (2,)}))
    assert found.keys() == settled(found) == {"3-1", "3-4", "6-2"}
    # Sound left open which of two it is: it is neither, by the files around.
    claims, devices, paths = _given({1: (1,), 2: (2,), 3: (1, 4), 4: (4,), 5: (5,)})
    left_open = [replace(one, is_open=one.picture == "clip0003") for one in claims]
    assert rivalries_in_order(left_open[:4], devices, paths) == {}
    assert settled(rivalries_in_order(left_open, devices, paths)) == {"3-1", "3-4"}
    missing = rivalries_in_order(*_given({1: (1,), 2: (2,), 3: (1, 4), 4: (4,), 5: (5,)}))
    assert settled(missing) == {"3-1", "3-4"}
    assert {one.other for one in missing.values()} == {""}  # nothing belongs there


def test_names_that_begin_anew_or_are_two_cameras_prove_nothing():
    # Counted over its end: the last files bear the lowest numbers, and no other file claims their takes.
    assert rivalries_in_order(*_given({1: (5,), 2: (6,), 9996: (1,), 9997: (2,), 9998: (3,), 9999: (4,)})) == {}
    # The recorder's clock was set back at noon: what was recorded after it is no morning's take.
    set_back = {n: (10 + n,) for n in range(1, 10)} | {10: (1,), 11: (2, 15), 12: (3,)}
    assert settled(rivalries_in_order(*_given(set_back))) == set()
    # Too few are known.
    few = {1: (1,), 2: (2,), 3: (3, 1), 4: (4, 2)}
    assert settled(rivalries_in_order(*_given(few))) == set()
    # In any order: names were given by hand.
    mixed = {1: (4,), 2: (2,), 3: (5,), 4: (1,), 5: (3, 4)}
    assert settled(rivalries_in_order(*_given(mixed))) == set()
