"""Tables of findings: columns of one length, rows chosen by masks and slices, and what other packages take."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from html import escape
from typing import Any, Literal, Self, overload

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import nearest
from lucid_finch.core.quantities import Quantity

Array = NDArray[Any]

_MOST_SHOWN = 12
"""Rows that a notebook shows."""


@dataclass(frozen=True)
class Column:
    """Declares a column: its name in files, a short label for people, unit, meaning and digits shown."""

    name: str
    label: str
    unit: str = ""
    help: str = ""
    digits: int = 2
    quantity: Quantity = ""
    """What it measures: how the number changes from an image's own frame to the source's. `row`: the place of another
    finding, which becomes its number."""
    pair: str = ""
    """Of an `x` or `x error` column: the column of y that belongs to it; of a length: that of its angle; of an error: that whose
    error it is."""
    names: tuple[str, ...] = ()
    """For a text column: what its codes stand for."""
    scale: Literal["same", "expected", "flag", "number"] = "same"
    """`expected`: -log10 of an expected number of events, which is what people are shown; `flag`: 1 is yes, 0 is no; `number`: of
    a finding, 0 for none."""

    sets_apart: bool = False
    """Of a flag: rows with 0 are drawn with another shape, such as the outliers of a fit."""

    def text(self, value: Any) -> str:
        """A value of this column as people are shown it, without its unit."""
        if self.names:
            return self.names[int(value)]
        if self.scale == "expected":
            return expected_text(value)
        if self.scale == "flag":
            return "yes" if value else "no"
        if self.scale == "number" and value == 0:
            return "–"
        if isinstance(value, (float, np.floating)):
            return f"{value:.{self.digits}f}" if np.isfinite(value) else "–"
        return str(value)


def expected_text(log_nfa: float) -> str:
    """An expected number of events from its -log10, such as 0.011 or 1e-12."""
    if not np.isfinite(log_nfa):
        return "–"
    if -4 <= log_nfa <= 3:
        expected = 10.0**-log_nfa
        return f"{expected:.2g}" if expected < 100 else f"{expected:.0f}"
    # Not by way of the number itself, which may be smaller than any that can be held.
    exponent = int(np.floor(-log_nfa))
    digit = round(10.0 ** (-log_nfa - exponent))
    return f"1e{exponent + 1}" if digit == 10 else f"{digit}e{exponent}"


ID = Column("id", "no.", help="1, 2, 3 ... in reading order", digits=0)
RANK = Column("rank", "rank", help="1 for the best", digits=0)
X = Column("x", "x", "px", "position, pixel centres at whole numbers", quantity="x", pair="y")
Y = Column("y", "y", "px", "position, growing downwards", quantity="y")
SCORE = Column("score", "score", help="0 to 1, 1 is ideal", digits=3)


POINTS = (
    Column("x", "x", "px", "position", quantity="x", pair="y"),
    Column("y", "y", "px", "position", quantity="y"),
    Column("direction", "direction", "deg", "of the gradient, from dark to bright", quantity="direction"),
    Column("strength", "strength", "grey/px", "gradient", quantity="slope"),
    Column("chain", "chain", "", "number of the finding that it belongs to", 0),
    Column("place", "place", "", "0, 1, ... along the finding", 0),
)
"""Columns of the points of findings."""


class Table:
    """Columns of one length.

    `table["x"]` is a NumPy array, of texts where the column holds texts; `table[mask]`, `table[10:20]` and `table[[3, 1]]` are
    tables of these rows. Iterating gives the rows as mappings.
    """

    def __init__(self, columns: Mapping[str, Array], declared: Sequence[Column]) -> None:
        self.declared = {c.name: c for c in declared}
        self._columns = {name: columns[name] for name in self.declared}
        self._texts: dict[str, Array] = {}

    @overload
    def __getitem__(self, key: str) -> Array: ...
    @overload
    def __getitem__(self, key: slice | Array | Sequence[int] | Sequence[bool]) -> Self: ...
    def __getitem__(self, key: Any) -> Any:
        """A column by name, or a table of the rows that a slice, a mask or their numbers choose. Raises `KeyError`,
        `IndexError`."""
        if not isinstance(key, str):
            return self._taken(_row_numbers(key, len(self)))
        if key not in self.declared:
            raise KeyError(f'there is no column "{key}"{nearest(key, self.declared)}; there are: {", ".join(self.declared)}')
        names = self.declared[key].names
        if not names:
            return self.stored(key)
        if key not in self._texts:
            self._texts[key] = np.array(names, dtype=str)[np.asarray(self.stored(key), np.int64)]
        return self._texts[key]

    def stored(self, name: str) -> Array:
        """A column as it is kept: of texts, the places in `declared[name].names`."""
        return self._columns[name]

    @property
    def columns(self) -> tuple[str, ...]:
        """Names of the columns, in order."""
        return tuple(self.declared)

    def keys(self) -> tuple[str, ...]:
        """The same; with it, `dict(table)` gives the columns."""
        return self.columns

    def __contains__(self, name: object) -> bool:
        """Whether there is a column of that name."""
        return name in self.declared

    def __iter__(self) -> Iterator[dict[str, Any]]:
        return self.rows()

    def __len__(self) -> int:
        """Number of rows."""
        return len(next(iter(self._columns.values()))) if self._columns else 0

    def __bool__(self) -> bool:
        return len(self) > 0

    def _taken(self, rows: NDArray[np.int64]) -> Self:
        return type(self)({name: self.stored(name)[rows] for name in self.declared}, tuple(self.declared.values()))

    def row(self, index: int) -> dict[str, Any]:
        """One row with Python values, texts spelled out."""
        return {name: self._value(name, index) for name in self.declared}

    def counts(self, column: str) -> dict[str, int]:
        """How many rows have each text of a text column, the most frequent first."""
        names = self.declared[column].names
        many = np.bincount(np.asarray(self.stored(column), np.int64), minlength=len(names))
        return {names[code]: int(many[code]) for code in np.argsort(-many, kind="stable").tolist() if many[code]}

    def text(self, name: str, index: int) -> str:
        """One value as people are shown it."""
        return self.declared[name].text(self.stored(name)[index])

    def rows(self) -> Iterator[dict[str, Any]]:
        """Rows one by one, for people."""
        return (self.row(i) for i in range(len(self)))

    def _value(self, name: str, index: int) -> Any:
        value = self.stored(name)[index]
        names = self.declared[name].names
        return names[int(value)] if names else value.item() if isinstance(value, np.generic) else value

    def to_pandas(self) -> Any:
        """A `pandas.DataFrame`. Raises `ImportError` where pandas is not installed."""
        return _installed("pandas").DataFrame({name: self[name] for name in self.declared})

    def to_arrow(self) -> Any:
        """A `pyarrow.Table`. Raises `ImportError` where pyarrow is not installed."""
        return _installed("pyarrow").table({name: self[name] for name in self.declared})

    def __arrow_c_stream__(self, requested_schema: Any = None) -> Any:
        """For packages that take Arrow's stream. Raises `ImportError`."""
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        few = ", ".join(self.columns[:6]) + (", ..." if len(self.declared) > 6 else "")
        return f"<{type(self).__name__} {len(self)} row{'s' * (len(self) != 1)}: {few}>"

    def _repr_html_(self) -> str:
        """The first rows, for notebooks."""
        heads = "".join(
            f'<th title="{escape(c.help)}">{escape(c.name)}{f"<br><small>{escape(c.unit)}</small>" if c.unit else ""}</th>'
            for c in self.declared.values()
        )
        shown = min(len(self), _MOST_SHOWN)
        rows = "".join(
            "<tr>" + "".join(f"<td>{escape(self.text(name, k))}</td>" for name in self.declared) + "</tr>" for k in range(shown)
        )
        more = f"<p>{len(self) - shown} more rows</p>" if len(self) > shown else ""
        return f"<table><thead><tr>{heads}</tr></thead><tbody>{rows}</tbody></table>{more}"


def _row_numbers(key: Any, count: int) -> NDArray[np.int64]:
    """Numbers of the rows that a slice, a mask or numbers choose. Raises `IndexError`, `TypeError`."""
    if isinstance(key, slice):
        return np.arange(count)[key]
    if isinstance(key, (int, np.integer)) and not isinstance(key, bool):
        raise TypeError(f"table.row({key}) gives one row; table[...] takes a column name, a slice, a mask or row numbers")
    chosen = np.asarray(key)
    if chosen.dtype == bool:
        if chosen.shape != (count,):
            raise IndexError(f"the mask has shape {chosen.shape}; the table has {count} rows")
        return np.flatnonzero(chosen)
    if chosen.ndim != 1 or (chosen.size and chosen.dtype.kind not in "iu"):
        raise TypeError("table[...] takes a column name, a slice, a mask or row numbers")
    return np.arange(count)[chosen.astype(np.int64)]


def _installed(package: str) -> Any:
    import importlib

    try:
        return importlib.import_module(package)
    except ImportError as error:
        raise ImportError(f"this needs {package}: pip install 'lucid-finch[tables]'") from error


class Findings(Table):
    """What was accepted."""


class NearMisses(Table):
    """What was rejected: the columns of findings and "failed" (a parameter), "measured", "limit", "lost_to"; made when first
    read, since most results are used without them."""

    def __init__(
        self, count: int, declared: Sequence[Column], make: Callable[[], Mapping[str, Array]], criteria: Mapping[str, Column]
    ) -> None:
        """`criteria`: the column that each limit compares, by parameter: `measured` and `limit` are values of it."""
        self.declared = {c.name: c for c in declared}
        self._count, self._make, self._criteria = count, make, criteria
        self._texts = {}

    def _taken(self, rows: NDArray[np.int64]) -> Self:
        declared = tuple(self.declared.values())
        return type(self)(len(rows), declared, lambda: {n: self.stored(n)[rows] for n in self.declared}, self._criteria)

    def text(self, name: str, index: int) -> str:
        if name in ("measured", "limit"):
            failed = self.declared["failed"].names[int(self.stored("failed")[index])]
            if failed in self._criteria:
                return self._criteria[failed].text(self.stored(name)[index])
        return super().text(name, index)

    def __getstate__(self) -> dict[str, Any]:
        return {
            "declared": self.declared, "_count": self._count, "_criteria": self._criteria, "_columns": self._columns,
            "_texts": {},
        }  # fmt: skip

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        columns = state["_columns"]
        self._make = lambda: columns

    @cached_property
    def _columns(self) -> dict[str, Array]:  # type: ignore[override]
        made = self._make()
        return {name: made[name] for name in self.declared}

    def __len__(self) -> int:
        return self._count
