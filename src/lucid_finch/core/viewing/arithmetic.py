"""The arithmetic behind one value of a map, spelled out: neighbourhood, coefficients, products, sums and root."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.prepare.step import PADDING

Table = NDArray[np.float64]

_PADDING = {**PADDING, "trim": "reflect"}


@dataclass(frozen=True)
class Sum:
    """One weighted sum."""

    label: str
    coefficients: Table
    products: Table
    total: float


@dataclass(frozen=True)
class Worked:
    """A neighbourhood and what is made of it."""

    patch: Table
    sums: tuple[Sum, ...]
    root: bool
    value: float

    @property
    def text(self) -> str:
        """The last line of the arithmetic."""
        if self.root:
            inner = " + ".join(f"({one.total:.4g})²" if one.total < 0 else f"{one.total:.4g}²" for one in self.sums)
            return f"√({inner}) = {self.value:.5g}"
        return " + ".join(f"{one.total:.4g}" for one in self.sums) + (f" = {self.value:.5g}" if len(self.sums) > 1 else "")


def work_out(patch: Table, kernels: Mapping[str, Table], root: bool) -> Worked:
    """The sums over the middle of `patch`, which may be larger than the kernels. Raises `ParameterError` if it is smaller."""
    sums = []
    shape = np.array([table.shape for table in kernels.values()]).max(axis=0)
    if (np.array(patch.shape) < shape).any() or any(n % 2 == 0 for n in patch.shape):
        raise ParameterError(
            f"numbers: the patch has {patch.shape[0]} by {patch.shape[1]} values; the coefficients are {shape[0]} by {shape[1]}, "
            "so it must be as large at least, with odd counts"
        )
    inner = _middle(patch, (int(shape[0]), int(shape[1])))
    for label, table in kernels.items():
        products = _middle(inner, (table.shape[0], table.shape[1])) * table
        sums.append(Sum(label, table, products, float(products.sum())))
    totals = np.array([one.total for one in sums])
    value = float(np.sqrt((totals**2).sum())) if root else float(totals.sum())
    return Worked(inner, tuple(sums), root, value)


@dataclass(frozen=True)
class Correlated:
    """A patch, a template, both less their means, and their products; NaN where a pixel does not count."""

    patch: Table
    template: Table
    patch_off: Table
    template_off: Table
    products: Table
    total: float
    squares: tuple[float, float]
    """Sums of the squares of the patch and of the template, both less their means."""
    value: float

    @property
    def text(self) -> str:
        """The last line of the arithmetic."""
        if min(self.squares) <= 0:
            return "0: without contrast there is no correlation"
        return f"{self.total:.5g} / √({self.squares[0]:.5g} × {self.squares[1]:.5g}) = {self.value:.5g}"


def correlate(patch: Table, template: Table) -> Correlated:
    """Zero-mean normalised cross-correlation of a patch (h, w) with a template of the same size, NaN where a pixel of it does
    not count. Raises `ParameterError` if their sizes differ."""
    if patch.shape != template.shape:
        (h, w), (rows, columns) = template.shape, patch.shape
        raise ParameterError(f"numbers: the patch has {rows} by {columns} values, the template {h} by {w}: they must be alike")
    seen = np.where(np.isnan(template), np.nan, patch)
    offs = [table - np.nanmean(table) for table in (seen, template)]
    products = offs[0] * offs[1]
    first, second = (float(np.nansum(off**2)) for off in offs)
    total = float(np.nansum(products))
    value = total / float(np.sqrt(first * second)) if min(first, second) > 0 else 0.0
    return Correlated(seen, template, offs[0], offs[1], products, total, (first, second), value)


def _middle(table: Table, shape: tuple[int, int]) -> Table:
    y, x = (table.shape[0] - shape[0]) // 2, (table.shape[1] - shape[1]) // 2
    return table[y : y + shape[0], x : x + shape[1]]


def neighbourhood(
    read: Callable[[int, int, int, int], Table], size: tuple[int, int], column: int, row: int, reach: tuple[int, int],
    border: str = "mirror", black: float = 0.0,
) -> Table:  # fmt: skip
    """(2 reach + 1) values about a pixel, rows by columns; beyond the border what `border` puts there.

    `read(left, top, right, bottom)` gives the values of a rectangle within `size` (width, height).
    """
    down, across = reach
    width, height = size
    # Mirrored values may lie as far inside as the neighbourhood reaches out.
    left, right = max(min(column - across, width - 1 - across), 0), min(max(column + across, across), width - 1)
    top, bottom = max(min(row - down, height - 1 - down), 0), min(max(row + down, down), height - 1)
    left, right = max(left - across, 0), min(right + across, width - 1)
    top, bottom = max(top - down, 0), min(bottom + down, height - 1)
    part = np.asarray(read(left, top, right + 1, bottom + 1), float)
    before = (max(down - (row - top), 0), max(across - (column - left), 0))
    after = (max(row + down - bottom, 0), max(column + across - right, 0))
    filled = {"constant_values": black} if border == "constant" else {}
    padded = np.pad(part, ((before[0], after[0]), (before[1], after[1])), _PADDING[border], **filled)  # type: ignore[call-overload]
    y, x = row - top + before[0], column - left + before[1]
    return np.asarray(padded[y - down : y + down + 1, x - across : x + across + 1])
