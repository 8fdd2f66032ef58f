"""Kernels and plain step functions that more than one detector or preparation step uses."""
