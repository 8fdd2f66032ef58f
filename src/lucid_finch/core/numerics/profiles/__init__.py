"""Grey levels sampled along lines and across curves."""
