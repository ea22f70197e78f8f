"""What others made of the day: read back, shown beside what is known here."""
