"""One coordinator thread for everything slow: one job runs, one waits, the latest wins, stale results are dropped."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from lucid_finch.core.errors import Cancelled, FileError, ParameterError

log = logging.getLogger(__name__)


class Job:
    """Work with a name for the user; `work(job)` may emit parts through `job.part` and must look at `job.cancelled`."""

    def __init__(self, text: str, generation: int, work: Callable[[Job], Any], keep: bool) -> None:
        self.text, self.generation, self.work, self.keep = text, generation, work, keep
        self._stop = threading.Event()
        self.emit_part: Callable[[object], None] = lambda part: None
        self.emit_progress: Callable[[float, str], None] = lambda share, text: None

    def cancelled(self) -> bool:
        return self._stop.is_set()

    def cancel(self) -> None:
        self._stop.set()


class Coordinator(QObject):
    """Runs jobs; all signals arrive in the thread of whoever connects."""

    started = Signal(str)
    progressed = Signal(float, str)
    part_done = Signal(int, object)
    """Generation and what `job.emit_part` was given."""
    failed = Signal(int, object)
    idle = Signal()
    _came_to_rest = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._came_to_rest.connect(self._say_idle)
        self._is_idle_said = True
        self._condition = threading.Condition()
        self._running: Job | None = None
        self._pending: list[Job] = []
        self._closing = False
        self._generation = 0
        self._thread = threading.Thread(target=self._loop, name="finch-coordinator", daemon=True)
        self._thread.start()

    @property
    def busy(self) -> bool:
        """Whether anything runs, waits or has not been delivered to the thread of this object."""
        with self._condition:
            return self._running is not None or bool(self._pending) or not self._is_idle_said

    def submit(self, text: str, work: Callable[[Job], Any], keep: bool = False) -> int:
        """Queue a job and return its generation. Unless `keep`, it takes the place of what runs or waits and may be lost."""
        with self._condition:
            self._generation += 1
            job = Job(text, self._generation, work, keep)
            if not keep:
                self._pending = [p for p in self._pending if p.keep]
                if self._running is not None and not self._running.keep:
                    self._running.cancel()
            self._pending.append(job)
            self._condition.notify()
            return job.generation

    def cancel_all(self) -> None:
        """Give up what runs and what waits."""
        with self._condition:
            # The thread never saw it, and will not say that nothing is left to do.
            only_waiting = bool(self._pending) and self._running is None and self._is_idle_said
            self._pending.clear()
            if self._running is not None:
                self._running.cancel()
        if only_waiting:
            self.idle.emit()

    def close(self, seconds: float = 10.0) -> None:
        """Stop the thread for good."""
        with self._condition:
            self._closing = True
            self._pending.clear()
            if self._running is not None:
                self._running.cancel()
            self._condition.notify()
        self._thread.join(seconds)

    def _loop(self) -> None:
        while True:
            with self._condition:
                while not self._pending and not self._closing:
                    self._condition.wait()
                if self._closing:
                    return
                job = self._running = self._pending.pop(0)
            self._run(job)
            with self._condition:
                self._running = None
                finished = not self._pending and not self._closing
                self._is_idle_said = not finished
            if finished:
                self._came_to_rest.emit()

    def _say_idle(self) -> None:
        with self._condition:
            self._is_idle_said = True
            if self._running is not None or self._pending:
                return
        self.idle.emit()

    def _run(self, job: Job) -> None:
        job.emit_part = lambda part: None if job.cancelled() else self.part_done.emit(job.generation, part)
        job.emit_progress = lambda share, text: self.progressed.emit(share, text)
        begun = time.perf_counter()
        self.started.emit(job.text)
        try:
            job.work(job)
        except Cancelled:
            log.debug("%s: cancelled after %.3f s", job.text, time.perf_counter() - begun)
        except (FileError, ParameterError) as error:
            log.warning("%s: %s", job.text, error)
            self.failed.emit(job.generation, error)
        except Exception as error:
            log.exception("%s failed", job.text)
            self.failed.emit(job.generation, error)
        else:
            log.debug("%s: %.3f s", job.text, time.perf_counter() - begun)
