"""Waves along rims: a polygon swings as one, whole or with gaps, at any slant; a circle, an oval and several waves do not."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.fitting.rim_waves import RimPoints, polygon_share

_RADIUS = 40.0


def _turns(seen: float = 1.0) -> NDArray[np.float64]:
    return np.arange(0, 2 * math.pi * seen, 1 / _RADIUS)


def _polygon(corners: int, turn: Any) -> Any:
    """px off its mean radius."""
    reach = 1 / np.cos((turn + 0.3) % (2 * math.pi / corners) - math.pi / corners)
    return _RADIUS * (reach / reach.mean() - 1)


def _share(off: Any, turn: Any, noise: float = 0.2, seen: float = 1.0, weight: Any = None, likely: bool = True) -> float:
    """Of one rim, the second of two."""
    off = off + np.random.default_rng(0).normal(0, noise, len(turn))
    points = RimPoints(np.ones(len(turn), np.int64), np.exp(1j * turn), off, weight)
    columns = {"coverage": np.array([1.0, seen]), "blur2": np.zeros(2)}
    return float(polygon_share(points, columns, np.full(2, _RADIUS), np.array([True, likely]), 1.2)[1])


class PolygonShare(unittest.TestCase):
    def test_polygons(self) -> None:
        for corners in (4, 5, 6, 8, 10):
            turn = _turns()
            with self.subTest(corners=corners):
                share = _share(_polygon(corners, turn), turn)
                self.assertGreater(share, 0.9)
                # The overtone of a square or a pentagon is larger than the wave of a polygon of twice as many corners.
                self.assertLess(share, 1.5 if corners < 6 else 1.1)

    def test_a_polygon_with_a_gap(self) -> None:
        turn = _turns(0.8)
        for corners in (4, 5, 6, 8):
            self.assertLess(abs(_share(_polygon(corners, turn), turn, seen=0.8) - 1), 0.25)
        turn = _turns()
        turn = turn[np.sin(2 * turn) > -0.3]
        self.assertLess(abs(_share(_polygon(6, turn), turn, seen=0.6) - 1), 0.2)
        # Of less no waves can be told.
        turn = _turns(0.5)
        self.assertEqual(_share(_polygon(6, turn), turn, seen=0.5), 0)

    def test_circles_and_ovals(self) -> None:
        for seen in (1.0, 0.6):
            turn = _turns(seen)
            self.assertEqual(_share(np.zeros(len(turn)), turn, seen=seen), 0)
            self.assertEqual(_share(2 * np.cos(2 * turn), turn, seen=seen), 0)
            self.assertEqual(_share(1.0 + 0.3 * np.cos(turn), turn, seen=seen), 0)

    def test_several_waves_are_no_polygon(self) -> None:
        turn = _turns()
        several = sum(np.cos(k * turn + k) for k in (3, 4, 6, 7))
        self.assertEqual(_share(several, turn), 0)

    def test_what_is_hidden_by_scatter_is_not_told(self) -> None:
        turn = _turns()
        self.assertEqual(_share(_polygon(10, turn), turn, noise=3.0), 0)
        self.assertGreater(_share(_polygon(5, turn), turn, noise=0.8), 0.8)

    def test_points_that_are_not_evenly_spaced(self) -> None:
        even = _turns()
        turn = np.arctan2(0.4 * np.sin(even), np.cos(even))
        speed = np.hypot(np.sin(turn), np.cos(turn) / 0.4)
        self.assertLess(abs(_share(_polygon(6, turn), turn, weight=1 / speed) - 1), 0.15)

    def test_unlikely_rims_are_left_out(self) -> None:
        turn = _turns()
        self.assertEqual(_share(_polygon(6, turn), turn, likely=False), 0)
