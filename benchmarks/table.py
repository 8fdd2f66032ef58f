"""A table of 100,000 rows: show, sort, filter and select, each until it is painted."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from lucid_finch.core.detectors.edges import Edges
from lucid_finch.core.table import Findings
from lucid_finch.desktop.pages.tables import FilteredTable
from lucid_finch.desktop.shell.application import make_application

ROWS = 100_000


def main() -> None:
    application = make_application()
    random = np.random.default_rng(0)
    declared = Edges.all_columns()
    columns = {c.name: random.normal(100, 30, ROWS) for c in declared}
    columns["id"] = np.arange(1, ROWS + 1)
    page = FilteredTable("findings")
    page.resize(900, 300)
    page.show()
    table = page.table
    QTest.qWait(50)

    def best(what: str, act: Callable[[int], None], turns: int = 7) -> None:
        times = []
        for turn in range(turns):
            started = time.perf_counter()
            act(turn)
            table.viewport().repaint()
            application.processEvents()
            times.append(time.perf_counter() - started)
        print(f"{what}: median {1000 * np.median(times):.1f} ms, most {1000 * max(times):.1f} ms")

    best("show", lambda turn: page.show_table(Findings(dict(columns), declared), {}))
    best("sort", lambda turn: table.sortByColumn(5 + turn % 3, Qt.SortOrder(turn % 2)))
    best("select a row by its mark", lambda turn: table.choose([1000 * turn + 17]))
    best("select with the pointer", lambda turn: table.selectRow(90_000 - turn))
    best("select all", lambda turn: table.selectAll() if turn % 2 else table.clearSelection())
    best("filter", lambda turn: (page.field.setText(f"length > {90 + turn}"), page.apply())[0])


if __name__ == "__main__":
    main()
