"""Measuring: calibration, and findings in millimetres."""
