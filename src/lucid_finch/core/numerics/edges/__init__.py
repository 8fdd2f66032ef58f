"""Gradients, edge points, chains and their significance."""
