"""Filters over whole planes."""
