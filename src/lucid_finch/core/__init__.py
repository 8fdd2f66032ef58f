"""Arrays in, results out: no Qt, no files, no network."""
