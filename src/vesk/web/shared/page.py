"""What the frame around every page of a day needs."""

from __future__ import annotations

from dataclasses import dataclass

from vesk.core.timecode import FrameRate
from vesk.store import days
from vesk.store.tables import Day, Production
from vesk.web.shared import session
from vesk.web.shared.progress_view import ProgressLine, progress_line

RATES = ("23.976", "24", "25", "29.97 DF", "29.97", "30", "47.952", "48", "50", "59.94 DF", "59.94", "60")


@dataclass(frozen=True, slots=True)
class DayFrame:
    """A day with its production, clock and progress."""

    day: Day
    production: Production
    clock: FrameRate
    progress: ProgressLine


def day_frame(day_id: int) -> DayFrame:
    """Return what the frame of a day's page needs."""
    opened = session()
    day = days.get_day(opened, day_id)
    production = days.get_production(opened, day.production_id)
    return DayFrame(day, production, days.rate_of(day), progress_line(opened, day_id))
