"""Conditions on the columns of a table, such as `length > 50 and closed = yes`, as a mask over its rows."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError, nearest
from lucid_finch.core.table import Column, Table

_COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "<=": np.less_equal,
    ">=": np.greater_equal,
    "!=": np.not_equal,
    "<": np.less,
    ">": np.greater,
    "=": np.equal,
}
_CONDITION = re.compile(r"\s*(.+?)\s*(<=|>=|!=|==|=|<|>)\s*(.+?)\s*$")


def matching(table: Table, conditions: str, labels: Mapping[str, str] | None = None) -> NDArray[np.bool_]:
    """(n,) which rows meet all `conditions`; none given, all do.

    A condition is COLUMN OPERATOR VALUE, with a column's name or label, one of < <= > >= = != and a number, a text or yes
    or no; conditions are joined by "and" or commas. `labels` says how texts of a column are shown. Raises `ParameterError`.
    """
    keep = np.ones(len(table), bool)
    for part in re.split(r"\s+and\s+|,", conditions.strip()):
        if not part.strip():
            continue
        found = _CONDITION.match(part)
        if found is None:
            raise ParameterError(f'filter: "{part.strip()}" is no condition; write for example: length > 50')
        name, sign, wanted = found.groups()
        column = _column(table, name)
        keep &= _COMPARE["=" if sign == "==" else sign](*_sides(table, column, wanted, sign, labels or {}))
    return keep


def _column(table: Table, name: str) -> Column:
    known = {}
    for column in table.declared.values():
        known[column.label.lower()] = column
    for column in table.declared.values():
        known[column.name.lower()] = column
    if name.lower() not in known:
        names = ", ".join(table.declared)
        raise ParameterError(f'filter: there is no column "{name}"{nearest(name.lower(), known)}; there are: {names}')
    return known[name.lower()]


def _sides(table: Table, column: Column, wanted: str, sign: str, labels: Mapping[str, str]) -> tuple[Any, Any]:
    values = table.stored(column.name)
    if column.names:
        texts = np.array([labels.get(n, n).lower() for n in column.names])[np.asarray(values, int)]
        if sign not in ("=", "==", "!="):
            raise ParameterError(f'filter: "{column.label}" is a text; only = and != can be asked of it')
        return texts, wanted.lower()
    if wanted.lower() in ("yes", "no", "true", "false"):
        return np.asarray(values) != 0, wanted.lower() in ("yes", "true")
    try:
        return np.asarray(values, float), float(wanted.removesuffix(column.unit).strip() if column.unit else wanted)
    except ValueError:
        raise ParameterError(f'filter: "{wanted}" is not a number, which "{column.label}" is compared with') from None
