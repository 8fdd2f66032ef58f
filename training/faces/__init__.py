"""The face model: made-up heads, a trainer for windows, an evaluation. See README.md."""
