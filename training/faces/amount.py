"""How much the face model learns from."""

from __future__ import annotations

from dataclasses import dataclass

from training.windows.training import Plan


@dataclass(frozen=True)
class Amount:
    heads: int
    """Heads for the trees, each painted twice and mirrored."""
    crowds: int
    """Painted crowds that are searched for windows on no face."""
    empty: int
    """Painted pictures without a face."""
    plan: Plan
    again: int
    """Heads of their own for the second look, and three times as many pictures without a face as the crowds above; 0: none."""
    limits: int
    """Heads of their own for the limits below which windows are given up."""
    scanned: int
    """Trees of the search; all look at what it finds."""
    measured: int
    """Crowds kept aside for the law of the score, and as many for the figures."""
    photographs: bool = True


FULL = Amount(2600, 60, 160, Plan((64, 180, 350, 600, 900, 1200), most=40_000), 700, 300, 450, 36)
TOY = Amount(50, 3, 9, Plan((32, 96), begin_with=60, most=4000), 0, 20, 64, 3, photographs=False)
"""Learns in a minute, without photographs and without PyTorch: it shows that all steps work."""
