"""Asking why something is or is not found at a place."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPoint, Signal
from PySide6.QtWidgets import QWidget

from lucid_finch.core.detection import Detection
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.explanation.explaining import QUICK, Explanation, explain
from lucid_finch.desktop.canvas.panes import PaneGroup
from lucid_finch.desktop.pages.explanation_card import ExplanationCard
from lucid_finch.desktop.study.study import Study
from lucid_finch.desktop.study.worker import Coordinator


class Asking(QObject):
    """Shows the explanation beside the place."""

    refused = Signal(str)
    answered = Signal()

    def __init__(self, study: Study, panes: PaneGroup, card: ExplanationCard, over: QWidget) -> None:
        """The card is a child of `over`."""
        super().__init__(over)
        self.study, self.panes, self.card, self.over = study, panes, card, over
        self.worker = Coordinator()
        self.worker.setParent(self)
        self.worker.part_done.connect(self._looked)
        self.worker.failed.connect(self._looked)
        self._asked: tuple[int, Detection, QPoint] | None = None
        card.closed.connect(self._forget)

    def set_asking(self, asking: bool) -> None:
        """Whether the next click asks why."""
        for frame in self.panes.frames:
            frame.pane.set_asking(asking)

    def ask(self, x: float, y: float) -> None:
        """Explain what is or is not found at a place of the source."""
        found = self.study.detection
        if found is None:
            return
        self._forget()
        try:
            explanation = explain(found, (x, y), seconds=QUICK)
        except ParameterError as error:
            self.refused.emit(str(error))
            return
        pane = self.panes.frames[self.panes.active].pane
        place = pane.mapTo(self.over, pane.from_source(x, y).toPoint())
        self.card.show_answer(explanation, place.x(), place.y(), looking=explanation.is_open)
        self.answered.emit()
        if explanation.is_open:
            # Other smoothings and thresholds take too long to be waited for.
            generation = self.worker.submit(
                self.tr("looking for a change that helps"), lambda job: job.emit_part(explain(found, (x, y)))
            )
            self._asked = generation, found, place

    def _looked(self, generation: int, answer: object) -> None:
        """More was tried in the meantime: show it, if that is still what was asked."""
        if self._asked is None or generation != self._asked[0]:
            return
        _, found, place = self._asked
        self._asked = None
        if self.study.detection is found and self.card.isVisible() and self.card.explanation is not None:
            shown = answer if isinstance(answer, Explanation) else self.card.explanation
            self.card.show_answer(shown, place.x(), place.y())

    def _forget(self) -> None:
        self._asked = None
        self.worker.cancel_all()
