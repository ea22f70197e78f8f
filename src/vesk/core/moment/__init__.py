"""A moment of the day: everything that ran then, laid on one axis."""
