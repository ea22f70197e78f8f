"""One source: its tag, its clock and stretches of another, its microphone, its recordings."""
