"""What the air does to sound on its way to a microphone."""

from __future__ import annotations

SPEED_OF_SOUND = 343.0  # m/s in dry air at 20 degrees Celsius (ISO 9613-1)


def distance_delay_s(metres: float) -> float:
    """Return how late a microphone hears from `metres` away, seconds (2.9 ms a metre)."""
    return metres / SPEED_OF_SOUND
