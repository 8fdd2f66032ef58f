"""Fits of lines, circles, ellipses and polynomials."""
