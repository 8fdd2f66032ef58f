"""Accumulators of lines and circles, and segments."""
