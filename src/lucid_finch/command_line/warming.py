"""Compiles the kernels behind a progress bar on the terminal."""

from __future__ import annotations

from pathlib import Path

from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn


def warm_up() -> Path:
    """Compile what is not compiled yet; quick if all is. Returns the file that marks that all is."""
    from lucid_finch.core.execution.warming import is_warm, warm_up_steps
    from lucid_finch.core.numerics.runtime.kernel_cache import complete_marker

    if is_warm():
        return complete_marker()
    console = Console(stderr=True)
    with Progress(
        TextColumn("compiling"),
        BarColumn(),
        TextColumn("{task.description}"),
        TimeElapsedColumn(),
        console=console,
        transient=True,
    ) as progress:
        task = progress.add_task("loading", total=1.0)
        for share, text in warm_up_steps():
            progress.update(task, completed=share, description=text)
    return complete_marker()
