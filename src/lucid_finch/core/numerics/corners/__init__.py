"""Corners: the structure tensor, its maxima, and where the edges of a corner meet."""
