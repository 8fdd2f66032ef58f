"""Declarations of parameters and columns that several detectors have in common."""

from __future__ import annotations

from typing import Any

from lucid_finch.core.parameters import gathers, judges
from lucid_finch.core.table import Column

FALSE_ALARMS_COLUMN = Column(
    "log_nfa", "false alarms", "", "expected number per image that is as clear; -log10 of it in files", 1, scale="expected"
)  # fmt: skip


def false_alarms_parameter(help: str, default: float = 0.01, **extra: Any) -> Any:
    """The expected number of false alarms in an image that is accepted."""
    return judges(
        default,
        label="False alarms",
        unit="per image",
        above=0.0,
        most=1e6,
        usual=(1e-12, 100.0),
        criterion="log_nfa",
        scale="expected",
        help=help,
        **extra,
    )


def sigma_parameter(least: float = 0.3, usual: tuple[float, float] = (0.5, 6.0), help: str = "", more: bool = False) -> Any:
    """The smoothing before the gradient."""
    text = "Standard deviation of the Gaussian smoothing before the gradient."
    return gathers(
        None,
        label="Smoothing",
        unit="px",
        least=least,
        most=50.0,
        usual=usual,
        auto="1.2 px; 2.4 or 4 where blur or noise leaves no use for less",
        help=f"{text} {help}".rstrip(),
        more=more,
    )
