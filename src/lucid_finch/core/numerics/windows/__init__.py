"""Sliding windows: channels over cells, boosted trees that score a window, the pyramid of sizes."""
