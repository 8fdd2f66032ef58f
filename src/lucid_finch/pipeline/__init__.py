"""Images in, results out: where images come from, the loop over them, and what is written."""
