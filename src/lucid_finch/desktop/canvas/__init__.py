"""Panes with images, maps, marks and drawn shapes."""
