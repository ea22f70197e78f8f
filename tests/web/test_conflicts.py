"""Several people change one thing at once: one counts, the others are told, nobody is lost unseen."""

import sys

from tests.conftest import PROJECT

sys.path.insert(0, str(PROJECT / "benchmarks"))

from conflicts import conflicts, lines


def test_every_kind_of_change_counts_once_and_says_so_to_the_others(settings):
    told = conflicts(settings, people=3)
    assert len({one.kind for one in told}) >= 24
    wrong = [one for one in told if one.wrong or one.lost or one.counted != 1]
    assert wrong == [], "\n".join(lines(told))
