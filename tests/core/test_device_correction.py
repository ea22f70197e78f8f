"""One correction for a device: fitted over the day, composed onto each take, and honest about what it leaves."""

from dataclasses import replace
from fractions import Fraction

import pytest

from vesk.core.conform.device import DeviceCorrection, Take, fit_device

DAY, FRAME = Fraction(86_400), 0.04


def take(number, *, slip_s, span_s=60.0, ppm=0.0, wants=False, hour=9, offset=Fraction(-2)):
    label = Fraction(hour * 3600 + 600 * number)
    head = slip_s
    return Take(f"{number:02}", offset, label, FRAME, head, head - ppm * 1e-6 * span_s, span_s, ppm, 0.01, wants)


def test_takes_that_are_alike_have_one_slip_and_the_odd_one_is_named():
    takes = [take(n, slip_s=-0.0124 + 1e-6 * n) for n in range(8)]
    takes[3] = replace(takes[3], head_slip_s=0.9, tail_slip_s=0.9)
    fit = fit_device(takes, DAY)
    assert fit.left == ("03",)
    assert float(fit.correction.slip) == pytest.approx(-0.0124, abs=1e-5)
    assert fit.correction.drift == 0
    assert fit_device(takes[3:4], DAY) is None
    rounded = (0.011, -0.017, 0.004, 0.019, -0.008, -0.001, 0.014, -0.013)  # each label by itself: nothing in common
    assert fit_device([take(n, slip_s=slip) for n, slip in enumerate(rounded)], DAY) is None
    assert fit_device([take(n, slip_s=slip) for n, slip in enumerate(rounded[:2])], DAY) is None  # no line through two


def test_a_clock_that_drifts_over_the_day_is_one_line_with_one_rate_also_across_midnight():
    ppm = 66.2
    takes = []
    for n in range(9):
        since = 4000.0 * n
        label = (Fraction(22 * 3600) + Fraction(4000 * n)) % DAY
        one = take(n, slip_s=-0.005 - ppm * 1e-6 * since, span_s=20.0 if n % 2 else 600.0, ppm=ppm, wants=n % 2 == 0)
        takes.append(replace(one, picture_start=label))
    fit = fit_device(takes, DAY)
    assert fit.left == ()
    assert float(fit.correction.ppm) == pytest.approx(ppm, abs=1e-3)
    assert float(fit.correction.drift) == pytest.approx(-ppm, abs=1e-3)
    for one in takes:
        own = fit.correction.on_take(one.offset, one.picture_start, DAY)
        laid = own.on(one.offset)
        tail = own.anchor + Fraction(one.span_s)  # sound seconds
        assert float(laid(own.anchor) - own.anchor - one.offset) == pytest.approx(one.head_slip_s, abs=1e-5)
        assert float(laid(tail) - tail - one.offset) == pytest.approx(one.tail_slip_s, abs=1e-5)


def test_a_recorder_that_ran_for_hours_is_corrected_for_when_the_picture_was_taken():
    clock = DeviceCorrection(Fraction(0), drift=Fraction(10), ppm=Fraction(0), anchor=Fraction(9 * 3600))
    early = clock.on_take(Fraction(-3600), Fraction(10 * 3600), DAY)  # sound an hour before the picture
    assert early.slip == Fraction(36, 1000)
    late = clock.on_take(Fraction(5), Fraction(10 * 3600) - 5, DAY)  # sound five seconds after it
    assert late.slip == Fraction(36, 1000)
