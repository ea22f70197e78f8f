"""Which sounds without a picture are searched for: those whose clock no take around them tells."""

import pytest

from vesk.core.pairing.adrift import Sounding, find_adrift


def sounds(told, source="S1"):
    """A letter each: m matched where its label says, h an hour off, r refused by sound, w without a picture."""
    off = {"m": 0.0, "h": 3600.0}
    return [
        Sounding(f"{source} {n}", source, 100.0 * n, 20.0 + n, off.get(one), one == "w") for n, one in enumerate(told)
    ]


@pytest.mark.parametrize(
    ("told", "asked"),
    [
        ("mmmwmmwwmmmm", ""),  # wild tracks between takes
        ("mrwrm", ""),
        ("wwwwww", "543"),  # a recorder that nothing tells of: the longest few
        ("mmwww", "432"),  # since its last take somebody may have set it
        ("wmm", "0"),
        ("mwwh", "21"),  # set anew on the way
        ("hhhwhwhh", ""),  # off, and known to be
        ("mwmwmwmm", "531"),  # two recorders filed as one, the second of them off
    ],
)
def test_what_takes_around_it_tell_is_a_wild_track_and_what_none_tells_is_searched_for(told, asked):
    assert find_adrift(sounds(told)) == [f"S1 {one}" for one in asked]
    # Another recorder's takes tell nothing of it.
    assert set(find_adrift(sounds(told) + sounds("mmmmmmm", "S2"))) == {f"S1 {one}" for one in asked}
