"""Shows in the top bar what the worker does, how far it is, and how long the recipe took."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Slot

from lucid_finch.desktop.study.runner import Runner
from lucid_finch.desktop.toolkit.bars import TopBar

_SLOW = 250
"""Milliseconds of work that are not worth a progress bar."""


class WorkStatus(QObject):
    """Follows the worker."""

    def __init__(self, bar: TopBar, runner: Runner) -> None:
        super().__init__(bar)
        self.bar, self.worker = bar, runner.worker
        self._text, self._took = "", ""
        self._slow = QTimer(self)
        self._slow.setSingleShot(True)
        self._slow.timeout.connect(self._show)
        self.worker.started.connect(self._started)
        self.worker.progressed.connect(self._progressed)
        self.worker.idle.connect(self._idle)
        runner.took.connect(self._show_time)
        bar.stop.clicked.connect(self.cancel)

    @Slot(str)
    def _started(self, text: str) -> None:
        self._text = text
        self.bar.progress.setRange(0, 0)
        self._slow.start(_SLOW)

    def _show(self) -> None:
        if self.worker.busy:
            self.bar.doing.setText(self._text)
            self.bar.progress.show()
            self.bar.stop.show()

    @Slot(float, str)
    def _progressed(self, share: float, text: str) -> None:
        self.bar.progress.setRange(0, 1000)
        self.bar.progress.setValue(round(1000 * share))
        self._text = text
        self._show()

    @Slot()
    def _idle(self) -> None:
        self._slow.stop()
        if self.bar.progress.isVisible():
            self.bar.doing.setText(self._took)
        self.bar.progress.hide()
        self.bar.stop.hide()

    def _show_time(self, seconds: float) -> None:
        self._took = f"{seconds * 1000:.0f} ms"
        self.bar.doing.setText(self._took)

    def cancel(self) -> None:
        """Give up what runs; what was shown stays."""
        self.worker.cancel_all()
        self.bar.doing.setText(self.tr("cancelled"))
