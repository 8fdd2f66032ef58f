"""The main window and its actions."""
