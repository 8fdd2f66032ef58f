"""Compiles the kernels behind a progress bar on the terminal."""

from __future__ import annotations

from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn


def warm_up() -> None:
    """Compile what is not compiled yet; quick if all is."""
    from lucid_finch.core.execution.warming import is_warm, warm_up_steps

    if is_warm():
        return
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
