"""What a day's files are, taken together: names, clocks that cannot be, doubles, gaps, off-speed pictures."""
