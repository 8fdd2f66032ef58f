"""Pixels of the screen: levels, views and strokes."""
