"""Widgets and looks of general use."""
