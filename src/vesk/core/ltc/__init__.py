"""Linear timecode carried as sound: found, decoded, and laid on a recording's samples."""
