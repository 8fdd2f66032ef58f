"""Image, recipe and results of one window, and what keeps them up to date."""
