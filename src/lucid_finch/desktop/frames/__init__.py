"""Clips and cameras in the window: the timeline, values over time, the camera."""
