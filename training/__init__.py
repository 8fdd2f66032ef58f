"""What made the models that ship with the package; nothing of it is imported by the package."""
