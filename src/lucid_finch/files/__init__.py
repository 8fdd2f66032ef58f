"""Reads images and recipes, writes findings, pictures, maps and recipes; nothing half-written is ever left behind."""
