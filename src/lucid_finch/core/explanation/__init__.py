"""Why something is or is not found at a place, changes that would admit it, and what differs between two results."""
