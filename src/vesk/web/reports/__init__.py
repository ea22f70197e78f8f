"""Sound and camera reports: their columns named with a preview, and how they lie beside the recordings."""
