"""Blobs: extrema over place and scale, what texture makes of them, fits of spots."""
