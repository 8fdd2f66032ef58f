"""Kernels and fits for calibration targets: homographies, lattices of points, planes behind a lens."""
