"""What meets the user first: the empty bench, the tour, and work that a crash left unsaved."""
