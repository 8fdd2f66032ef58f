"""Shows in the top bar what is worked on, how far it is, and how long the recipe took; compiles kernels in the background."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Slot

from lucid_finch.desktop.study.runner import Runner
from lucid_finch.desktop.study.worker import Coordinator, Job
from lucid_finch.desktop.toolkit.bars import TopBar

_SLOW = 250
"""Milliseconds of work without a progress bar."""


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
        self._background: Coordinator | None = None

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

    def compile_kernels(self) -> None:
        """Compile in another process what is not compiled yet; the window can be used meanwhile."""
        from lucid_finch.core.execution.warming import warm_up_steps

        def work(job: Job) -> None:
            for share, text in warm_up_steps(1, behind_a_window=True):
                if job.cancelled():
                    break
                job.emit_progress(share, text)

        self._background = Coordinator()
        self._background.progressed.connect(self._show_compiling)
        self._background.idle.connect(self._idle)
        self._background.submit("compiling", work)

    @Slot(float, str)
    def _show_compiling(self, share: float, text: str) -> None:
        if self.worker.busy:
            return
        self.bar.progress.setRange(0, 1000)
        self.bar.progress.setValue(round(1000 * share))
        self.bar.doing.setText(self.tr("first start, compiling: {}").format(text))
        self.bar.progress.show()

    def close_worker(self) -> None:
        """Stop compiling; what is compiled is kept."""
        if self._background is not None:
            self._background.close()

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
