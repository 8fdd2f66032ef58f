"""What any front end needs to show results."""
