"""Teaches a detector of windows from examples of any object: knows nothing of faces."""
