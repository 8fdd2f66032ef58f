"""Asking why something is or is not found at a place."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.explanation.explaining import explain
from lucid_finch.desktop.canvas.panes import PaneGroup
from lucid_finch.desktop.pages.explanation_card import ExplanationCard
from lucid_finch.desktop.study.study import Study


class Asking(QObject):
    """Shows the explanation beside the place."""

    refused = Signal(str)
    answered = Signal()

    def __init__(self, study: Study, panes: PaneGroup, card: ExplanationCard, over: QWidget) -> None:
        """The card is a child of `over`."""
        super().__init__(over)
        self.study, self.panes, self.card, self.over = study, panes, card, over

    def set_asking(self, asking: bool) -> None:
        """Whether the next click asks why."""
        for frame in self.panes.frames:
            frame.pane.set_asking(asking)

    def ask(self, x: float, y: float) -> None:
        """Explain what is or is not found at a place of the source."""
        found = self.study.detection
        if found is None:
            return
        try:
            explanation = explain(found, (x, y))
        except ParameterError as error:
            self.refused.emit(str(error))
            return
        pane = self.panes.frames[self.panes.active].pane
        place = pane.mapTo(self.over, pane.from_source(x, y).toPoint())
        self.card.show_answer(explanation, place.x(), place.y())
        self.answered.emit()
