"""Waveforms, frames and sound for the pages to draw and play."""
