"""The bench: the main window that puts study, worker, panes, tables and settings together."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QEvent, QObject, Qt, QTimer, Slot
from PySide6.QtGui import QAction, QCloseEvent, QColor, QDragEnterEvent, QDropEvent, QKeyEvent, QKeySequence, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QProgressBar,
    QPushButton,
    QSplitter,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from lucid_finch.core.detection import Detection
from lucid_finch.core.engine import Engine, conclude
from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.explaining import Change, explain
from lucid_finch.core.image import Image
from lucid_finch.core.parameters import Stage
from lucid_finch.desktop.answer import AnswerCard
from lucid_finch.desktop.column import Elided, RecipeColumn
from lucid_finch.desktop.document import Study
from lucid_finch.desktop.guard import guarded
from lucid_finch.desktop.pane import Marks, Pane, View
from lucid_finch.desktop.picture import Picture
from lucid_finch.desktop.settings import SettingsPanel
from lucid_finch.desktop.strip import EvidenceStrip
from lucid_finch.desktop.tables import FindingsTable
from lucid_finch.desktop.theme import THEMES, apply_theme, current_theme, mark_colour
from lucid_finch.desktop.worker import Coordinator, Job
from lucid_finch.files.images import ENDINGS, read_image
from lucid_finch.files.recipes import ENDING, Recipe

JUDGED_AT_ONCE = 20_000
"""Up to so many candidates are judged in the window's thread."""

_NEAR_COLOUR = QColor("#f2efe6")
_GAIN_COLOUR = QColor("#ff8fb1")


class PaneFrame(QWidget):
    """A pane under its bar: what is shown, its range, the value under the cursor."""

    def __init__(self, view: View, name: str) -> None:
        super().__init__()
        self.pane = Pane(view)
        self.map_name = "source"
        self.setAccessibleName(name)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.bar = QFrame()
        self.bar.setObjectName("panebar")
        row = QHBoxLayout(self.bar)
        row.setContentsMargins(8, 3, 8, 3)
        self.title = Elided("")
        self.title.setObjectName("panetitle")
        self.info = QLabel()
        self.info.setObjectName("paneinfo")
        row.addWidget(self.title, 1)
        row.addWidget(self.info)
        layout.addWidget(self.bar)
        layout.addWidget(self.pane, 1)
        view.cursor_moved.connect(self.show_info)
        view.changed.connect(self.show_info)

    def show_picture(self, picture: Picture | None) -> None:
        self.pane.set_only_chosen(picture is not None and picture.name not in ("source", "prepared"))
        self.pane.show_picture(picture)
        self.title.setText("" if picture is None else picture.title)
        self.show_info()

    def show_info(self) -> None:
        picture, view = self.pane.picture, self.pane.view
        if picture is None:
            self.info.setText("")
            return
        if view.cursor is not None:
            value = picture.value_at(*view.cursor)
            if value is not None:
                parts = [f"{float(v):.4g}" for v in np.atleast_1d(value)]
                self.info.setText(f"({view.cursor[0]:.1f}, {view.cursor[1]:.1f})  {' '.join(parts)} {picture.unit}")
                return
        self.info.setText(f"{picture.low:.4g} … {picture.high:.4g} {picture.unit}   {100 * view.scale:.0f} %")

    def show_active(self, active: bool) -> None:
        self.bar.setProperty("active", active)
        for widget in (self.bar, self.title):
            widget.style().unpolish(widget)
            widget.style().polish(widget)


class Bench(QMainWindow):
    """The main window."""

    def __init__(self) -> None:
        super().__init__()
        self.study = Study()
        self.engine = Engine()
        self.worker = Coordinator()
        self.view = View()
        self.pictures: dict[str, Picture] = {}
        self.failure = ""
        """The last error that was shown."""
        self.ask_unsaved: Callable[[], QMessageBox.StandardButton] = self._ask_unsaved
        self._generation = 0
        self._judged: dict[str, tuple[Any, Any]] = {}
        self._fit_wanted = True
        self._took = ""
        """How long the recipe took the last time, for the bar."""
        self._build()
        self._make_actions()
        self._connect()
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self._show_title()
        self._show_empty()

    # Building

    def _build(self) -> None:
        self.column = RecipeColumn(self.study)
        self.settings = SettingsPanel(self.study)
        self.frames = [PaneFrame(self.view, self.tr("Left pane")), PaneFrame(self.view, self.tr("Right pane"))]
        self.frames[1].map_name = "magnitude"
        self.active = 1
        self.strip = EvidenceStrip()
        self.findings = FindingsTable(self.tr("Findings"))
        self.near_misses = FindingsTable(self.tr("Near misses"))
        self.tabs = QTabWidget()
        self.tabs.addTab(self.findings, self.tr("Findings"))
        self.tabs.addTab(self.near_misses, self.tr("Near misses"))
        self.tabs.setDocumentMode(True)
        panes = QSplitter(Qt.Orientation.Horizontal)
        panes.setObjectName("panes")
        for frame in self.frames:
            panes.addWidget(frame)
        panes.setSizes([500, 500])
        upper = QWidget()
        upper.setObjectName("panes")
        layout = QVBoxLayout(upper)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(panes, 1)
        layout.addWidget(self.strip)
        middle = QSplitter(Qt.Orientation.Vertical)
        middle.addWidget(upper)
        middle.addWidget(self.tabs)
        middle.setSizes([570, 190])
        middle.setStretchFactor(0, 1)
        body = QSplitter(Qt.Orientation.Horizontal)
        for widget in (self.column, middle, self.settings):
            body.addWidget(widget)
        body.setSizes([214, 786, 280])
        body.setStretchFactor(1, 1)
        body.setChildrenCollapsible(False)
        self.column.setMinimumWidth(170)
        self.settings.setMinimumWidth(250)
        whole = QWidget()
        layout = QVBoxLayout(whole)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._top_bar())
        layout.addWidget(self._notice())
        layout.addWidget(body, 1)
        self.setCentralWidget(whole)
        self._whole = whole
        self.answer = AnswerCard(whole)
        self.empty = QLabel(upper)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.empty.setStyleSheet("color: #d9d7d0; background: transparent;")
        self._upper = upper
        upper.installEventFilter(self)

    def _top_bar(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("topbar")
        row = QHBoxLayout(bar)
        row.setContentsMargins(12, 6, 12, 6)
        row.setSpacing(8)
        self.title = QLabel()
        self.title.setObjectName("title")
        self.image_name = Elided("")
        self.image_name.setObjectName("quiet")
        self.doing = QLabel()
        self.doing.setObjectName("quiet")
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(110)
        self.stop = QPushButton(self.tr("Cancel"))
        self.stop.setToolTip(self.tr("Give up the work that is running (Esc); nothing is changed."))
        self.progress.hide()
        self.stop.hide()
        row.addWidget(self.title)
        row.addWidget(self.image_name, 1)
        for widget in (self.doing, self.progress, self.stop):
            row.addWidget(widget)
        self.buttons = row
        return bar

    def _notice(self) -> QWidget:
        self.notice = QFrame()
        self.notice.setObjectName("note")
        row = QHBoxLayout(self.notice)
        row.setContentsMargins(12, 4, 8, 4)
        self.notice_text = QLabel()
        self.notice_text.setObjectName("bad")
        self.notice_text.setWordWrap(True)
        row.addWidget(self.notice_text, 1)
        away = QPushButton("×")
        away.setObjectName("bare")
        away.setAccessibleName(self.tr("Put the message away"))
        away.clicked.connect(self.notice.hide)
        row.addWidget(away)
        self.notice.hide()
        return self.notice

    def _make_actions(self) -> None:
        keys = QKeySequence.StandardKey
        self.actions_by_name: dict[str, QAction] = {}

        def add(name: str, text: str, call: Callable[[], Any], shortcut: Any = None, tip: str = "") -> QAction:
            action = QAction(text, self)
            action.triggered.connect(lambda checked=False: call())
            if shortcut is not None:
                action.setShortcut(QKeySequence(shortcut))
            action.setToolTip(f"{tip or text} ({action.shortcut().toString()})" if shortcut is not None else tip or text)
            self.addAction(action)
            self.actions_by_name[name] = action
            return action

        add("open", self.tr("Open…"), self.open_dialog, keys.Open, self.tr("Open an image or a recipe"))
        add("save", self.tr("Save recipe"), self.save, keys.Save)
        add("save_as", self.tr("Save recipe as…"), self.save_as, keys.SaveAs)
        add(
            "export", self.tr("Export…"), self.export_dialog, "Ctrl+E", self.tr("Write findings, tables and pictures to a folder")
        )
        undo, redo = self.study.undo.createUndoAction(self), self.study.undo.createRedoAction(self)
        undo.setShortcut(keys.Undo)
        redo.setShortcut(keys.Redo)
        for name, action in (("undo", undo), ("redo", redo)):
            self.addAction(action)
            self.actions_by_name[name] = action
        add("fit", self.tr("Fit the image"), lambda: self.frames[self.active].pane.fit(), "F")
        add("one_to_one", self.tr("One pixel to one pixel"), self.one_to_one, "1")
        add("zoom_chosen", self.tr("Zoom to what is chosen"), self.zoom_to_chosen, "Z")
        ask = add(
            "ask", self.tr("Ask why"), lambda: None, "W", self.tr("Then click where something was expected; or Shift+click")
        )
        ask.setCheckable(True)
        ask.toggled.connect(self._set_asking)
        add(
            "copy",
            self.tr("Copy the table"),
            self.copy_table,
            "Ctrl+Shift+C",
            self.tr("Chosen rows, or all, as tab-separated text"),
        )
        add("theme", self.tr("Light or dark"), self.toggle_theme, "Ctrl+T")
        add("cancel", self.tr("Cancel the work"), self.cancel)
        add("quit", self.tr("Quit"), self.close, keys.Quit)
        for name, text in (("open", self.tr("Open…")), ("ask", self.tr("Ask why")), ("export", self.tr("Export…"))):
            button = QToolButton()
            button.setDefaultAction(self.actions_by_name[name])
            button.setText(text)
            self.buttons.addWidget(button)
        more = QToolButton()
        more.setText(self.tr("All actions"))
        more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        more.setToolTip(self.tr("Everything that can be done, with its shortcut"))
        menu = QMenu(more)
        for action in self.actions_by_name.values():
            menu.addAction(action)
        more.setMenu(menu)
        self.buttons.addWidget(more)

    def _connect(self) -> None:
        study, worker = self.study, self.worker
        study.recipe_changed.connect(self._recipe_changed)
        study.recipe_changed.connect(self._show_title)
        study.undo.cleanChanged.connect(self._show_title)
        study.image_changed.connect(self._image_changed)
        study.chosen_changed.connect(self._chosen_changed)
        study.detection_changed.connect(lambda name: self._show_detection())
        worker.started.connect(self._work_started)
        worker.progressed.connect(self._work_progressed)
        worker.part_done.connect(self._part_done)
        worker.failed.connect(self._work_failed)
        worker.idle.connect(self._work_idle)
        self.strip.chosen.connect(self.show_map)
        self.stop.clicked.connect(self.cancel)
        self.settings.region_wanted.connect(self._give_region)
        self.settings.refused.connect(self.show_failure)
        self.findings.rows_chosen.connect(lambda rows: self._choose(rows, [], centre=True))
        self.near_misses.rows_chosen.connect(lambda rows: self._choose([], rows, centre=True))
        self.answer.wanted.connect(self._adopt)
        self.answer.previewed.connect(self._preview)
        for number, frame in enumerate(self.frames):
            frame.pane.activated.connect(lambda n=number: self.activate_pane(n))
            frame.pane.clicked.connect(self._clicked)
            frame.pane.asked.connect(self.ask_why)
        self.activate_pane(1)
        self._answer_due = QTimer(self)
        self._answer_due.setSingleShot(True)
        self._answer_due.timeout.connect(self._answer)
        self._tables_due = QTimer(self)
        self._tables_due.setSingleShot(True)
        self._tables_due.timeout.connect(self._fill_tables)
        self._slow = QTimer(self)
        self._slow.setSingleShot(True)
        self._slow.setInterval(250)
        self._slow.timeout.connect(self._show_busy)

    # Opening

    def open_path(self, path: str | Path) -> None:
        """Open an image or a recipe; the kind is seen from the content."""
        file = Path(path)
        if file.name.endswith(ENDING) or file.suffix == ".json":
            self.open_recipe_file(file)
            return
        self.submit_image(lambda: read_image(file), self.tr("reading {}").format(file.name), file)

    def submit_image(self, make: Callable[[], Image], text: str, path: Path | None = None) -> None:
        """Have the worker make an image and put it on the bench; if that fails, the bench stays as it was."""
        self._generation = self.worker.submit(text, lambda job: job.emit_part(("image", make(), path)))

    def open_recipe_file(self, file: Path) -> None:
        try:
            recipe = Recipe.load(file)
        except (FileError, ParameterError) as error:
            self.show_failure(str(error))
            return
        if self._may_replace():
            self.study.open_recipe(recipe, file)

    def open_image(self, image: Image, path: Path | None = None) -> None:
        """Put an image on the bench."""
        self._fit_wanted = self.study.image is None or self.study.image.source_size != image.source_size
        self.study.open_image(image, path)

    def open_dialog(self) -> None:
        endings = " ".join(f"*{e}" for e in (*ENDINGS, ENDING))
        path, _ = QFileDialog.getOpenFileName(
            self, self.tr("Open an image or a recipe"), "", f"{self.tr('Images and recipes')} ({endings});;*"
        )
        if path:
            self.open_path(path)

    @guarded
    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    @guarded
    def dropEvent(self, event: QDropEvent) -> None:
        for url in event.mimeData().urls()[:8]:
            if url.isLocalFile():
                self.open_path(url.toLocalFile())
        event.acceptProposedAction()

    # Saving

    def save(self) -> bool:
        path = self.study.recipe_path
        return self.save_to(path) if path is not None else self.save_as()

    def save_as(self) -> bool:
        path, _ = QFileDialog.getSaveFileName(self, self.tr("Save recipe as"), f"{self.study.recipe.name}{ENDING}", f"*{ENDING}")
        if not path:
            return False
        return self.save_to(Path(path if path.endswith(".json") else path + ENDING))

    def save_to(self, path: Path) -> bool:
        """Save the recipe; tells the user if that fails."""
        try:
            self.study.recipe.save(path)
        except FileError as error:
            self.show_failure(str(error))
            return False
        self.study.mark_saved(path)
        self._show_title()
        return True

    def export_dialog(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, self.tr("Folder for findings, tables and pictures"))
        if folder:
            self.export_to(Path(folder))

    def export_to(self, folder: Path) -> None:
        """Write what the command line would write for this image and recipe."""
        image, path, recipe = self.study.image, self.study.image_path, self.study.recipe
        if image is None:
            self.show_failure(self.tr("There is nothing to export: open an image first."))
            return

        def work(job: Job) -> None:
            from lucid_finch.command_line.batch import write_results

            run = self.engine.run(recipe, image, cancelled=job.cancelled)
            written = write_results(run, path, folder, (), "png", Path(image.name or "image").stem)
            job.emit_part(("exported", folder, len(written)))

        self.worker.submit(self.tr("writing to {}").format(folder.name), work, keep=True)

    # Running

    @property
    def answering(self) -> bool:
        """Whether the window still owes the screen something that needs no worker."""
        return self._answer_due.isActive() or self._tables_due.isActive()

    @property
    def busy(self) -> bool:
        """Whether an answer is still under way, in the worker or on the screen."""
        return self.worker.busy or self.answering

    def _recipe_changed(self) -> None:
        # In the next turn of the event loop: moves that come together are answered once.
        self._answer_due.start()

    def _answer(self) -> None:
        """Bring the results up to date with the recipe: at once if only limits have moved."""
        if self.study.image is not None and not self._judge_at_once():
            self._run()

    def _image_changed(self) -> None:
        self.pictures = {}
        self._judged = {}
        self._answer_due.stop()
        self.answer.put_away()
        self.empty.hide()
        self.image_name.setText(self.study.image.name if self.study.image is not None else "")
        self._run()

    def _keys(self) -> dict[str, tuple[Any, Any]]:
        """What each detection depends on besides judging, and what judging depends on."""
        recipe = self.study.recipe
        common = repr([step.plain() for step in recipe.prepare])
        keys = {}
        for entry in recipe.detectors:
            parameters = entry.made_parameters()
            slow = (
                id(self.study.image), common, repr([step.plain() for step in entry.prepare]), entry.kind,
                repr(parameters.plain(Stage.GATHER)), repr(parameters.plain(Stage.FORM)),
            )  # fmt: skip
            keys[entry.name] = slow, parameters
        return keys

    def _judge_at_once(self) -> bool:
        """If only limits have moved, answer within the frame."""
        study = self.study
        keys = self._keys()
        if self.column.failures or set(keys) != set(study.detections):
            return False
        changed: list[str] = []
        for name, (slow, parameters) in keys.items():
            before = self._judged.get(name)
            if before is None or slow != before[0] or len(study.detections[name].work.candidates) > JUDGED_AT_ONCE:
                return False
            if parameters != before[1]:
                changed.append(name)
        for name in changed:
            work = study.detections[name].work
            parameters = keys[name][1]
            try:
                found = conclude(work.detector, work.image, work.gathered, work.candidates, parameters, name, time.perf_counter())
            except ParameterError as error:
                self.show_failure(str(error))
                return True
            self._judged[name] = keys[name]
            # The time that the card tells is that of the whole work, not of this judging alone.
            study.detections[name] = replace(found, seconds=study.detections[name].seconds)
            study.detection_changed.emit(name)
        if changed:
            self._draw_judged_maps()
        return True

    def _draw_judged_maps(self) -> None:
        found = self.study.detection
        if found is None:
            return

        def work(job: Job) -> None:
            for evidence in found.evidence.values():
                if evidence.judged and not job.cancelled():
                    job.emit_part(("picture", Picture.of_map(evidence)))

        self._generation = self.worker.submit(self.tr("drawing"), work)

    def _run(self) -> None:
        """The whole recipe in the worker: findings first, then the maps in sight, then the other thumbnails."""
        image, recipe = self.study.image, self.study.recipe
        if image is None:
            return
        detector = self.study.detector
        keys = self._keys()
        wanted = [frame.map_name for frame in self.frames]
        with_source = "source" not in self.pictures

        def work(job: Job) -> None:
            begun = time.perf_counter()
            if with_source:
                job.emit_part(("picture", Picture.of_image(image, "source", self.tr("source"))))
            common = self.engine.prepared(image, [s.plain() for s in recipe.prepare], job.cancelled)
            job.emit_part(("prepared", common))
            shown: Detection | None = None
            for entry in recipe.detectors:
                try:
                    found = self.engine.run_entry(entry, common, job.cancelled)
                except ParameterError as error:
                    job.emit_part(("failure", entry.name, str(error)))
                    continue
                job.emit_part(("detection", entry.name, found, keys[entry.name]))
                shown = found if entry.name == detector else shown
            job.emit_part(("time", time.perf_counter() - begun))
            if job.cancelled():
                return
            job.emit_part(("picture", Picture.of_image(common, "prepared", self.tr("prepared"))))
            maps = list(shown.evidence.values()) if shown is not None else []
            for evidence in sorted(maps, key=lambda m: m.name not in wanted):
                if job.cancelled():
                    return
                job.emit_part(("picture", Picture.of_map(evidence)))

        self._generation = self.worker.submit(self.tr("detecting"), work)

    @Slot(int, object)
    def _part_done(self, generation: int, part: Any) -> None:
        what, *values = part
        if what == "exported":
            folder, count = values
            self._tell(self.tr("{} files written to {}").format(count, folder))
            return
        if generation != self._generation:
            return
        if what == "image":
            self.notice.hide()
            self.open_image(values[0], values[1])
        elif what == "detection":
            name, found, key = values
            self.column.failures.pop(name, None)
            self._judged[name] = key
            self.study.detections[name] = found
            self.study.detection_changed.emit(name)
        elif what == "failure":
            self.column.failures[values[0]] = values[1]
            self.study.detections.pop(values[0], None)
            self.column.refresh()
            self._show_detection()
        elif what == "prepared":
            self.column.failures.pop("preparation", None)
            self.study.prepared = values[0]
        elif what == "time":
            self._took = f"{values[0] * 1000:.0f} ms"
            self.doing.setText(self._took)
        elif what == "picture":
            self._show_picture(values[0])

    @Slot(int, object)
    def _work_failed(self, generation: int, error: Exception) -> None:
        if isinstance(error, ParameterError) and generation == self._generation:
            self.column.failures["preparation"] = str(error)
            self.column.refresh()
        self.show_failure(str(error) if isinstance(error, (FileError, ParameterError)) else f"{type(error).__name__}: {error}")

    @Slot(str)
    def _work_started(self, text: str) -> None:
        self._busy_text = text
        self.progress.setRange(0, 0)
        self._slow.start()

    def _show_busy(self) -> None:
        if self.worker.busy:
            self.doing.setText(self._busy_text)
            self.progress.show()
            self.stop.show()

    @Slot(float, str)
    def _work_progressed(self, share: float, text: str) -> None:
        self.progress.setRange(0, 1000)
        self.progress.setValue(round(1000 * share))
        self._busy_text = text
        self._show_busy()

    @Slot()
    def _work_idle(self) -> None:
        self._slow.stop()
        if self.progress.isVisible():
            self.doing.setText(self._took)
        self.progress.hide()
        self.stop.hide()

    def cancel(self) -> None:
        """Give up what runs; what was shown stays."""
        self.worker.cancel_all()
        self.doing.setText(self.tr("cancelled"))

    def warm_up(self) -> None:
        """Compile the kernels in the worker before anything else, with progress."""
        from lucid_finch.core.warming import warm_up_steps

        def work(job: Job) -> None:
            for share, text in warm_up_steps():
                job.emit_progress(share, self.tr("first start: compiling {}").format(text))

        self.worker.submit(self.tr("first start: compiling"), work, keep=True)

    # Showing

    def show_failure(self, text: str) -> None:
        """Say what went wrong without a dialog in the way."""
        self.failure = text
        self._tell(text, wrong=True)

    def _tell(self, text: str, wrong: bool = False) -> None:
        self.notice_text.setObjectName("bad" if wrong else "")
        self.notice_text.style().unpolish(self.notice_text)
        self.notice_text.style().polish(self.notice_text)
        self.notice_text.setText(text)
        self.notice.show()

    def _show_title(self) -> None:
        name = self.study.recipe.name or self.tr("untitled")
        self.title.setText(f"{name}{' •' if self.study.unsaved else ''}")
        self.title.setToolTip(str(self.study.recipe_path or self.tr("not saved yet")))
        self.setWindowTitle(f"{name}{' *' if self.study.unsaved else ''} – Lucid Finch")

    def _show_empty(self) -> None:
        self.empty.setText(
            self.tr(
                "Drop an image here, or press Ctrl+O.\n\nIts edges are found at once, with every stage that leads to them below."
            )
        )
        self.empty.setVisible(self.study.image is None)

    def _show_picture(self, picture: Picture) -> None:
        self.pictures[picture.name] = picture
        self.strip.show_picture(picture)
        for frame in self.frames:
            if frame.map_name == picture.name:
                frame.show_picture(picture)
        if picture.name == "source" and self._fit_wanted:
            self._fit_wanted = False
            self.frames[0].pane.fit()

    def _show_detection(self) -> None:
        found = self.study.detection
        stages = [("source", self.tr("source")), ("prepared", self.tr("prepared"))]
        if found is not None:
            stages += [(m.name, m.label) for m in found.evidence.values()]
        fresh = [name for name, _ in stages] != list(self.strip.stages)
        self.strip.show_stages(stages)
        if fresh:
            for picture in self.pictures.values():
                self.strip.show_picture(picture)
        self._show_active_maps()
        # Overlay first, tables once it is painted: no turn of the event loop is longer than a frame.
        if not self._tables_due.isActive():
            self._tables_due.start(12)
        self.tabs.setTabText(0, self.tr("Findings {}").format(len(found.findings) if found is not None else ""))
        self.tabs.setTabText(1, self.tr("Near misses {}").format(len(found.near_misses) if found is not None else ""))
        self._show_marks()

    def _fill_tables(self) -> None:
        found = self.study.detection
        labels = {}
        if found is not None:
            labels = {n: d.label for n, d in found.work.detector.Parameters.declarations().items()}
        self.findings.show_table(found.findings if found is not None else None, labels)
        self.near_misses.show_table(found.near_misses if found is not None else None, labels)

    def _show_marks(self, extra: Sequence[Marks] = ()) -> None:
        marks: list[Marks] = []
        self._own_marks: list[Marks] = []
        for number, entry in enumerate(self.study.recipe.detectors):
            found = self.study.detections.get(entry.name)
            if found is None:
                continue
            table, near = found.findings, found.near_misses
            marks.append(Marks.of(found.outlines, table["x"], table["y"], table["id"], mark_colour(number)))
            if entry.name == self.study.detector:
                numbers = np.arange(len(near))
                missed = Marks.of(found.near_outlines, near["x"], near["y"], numbers, _NEAR_COLOUR, dashed=True)
                self._own_marks = [marks[-1], missed]
                marks.append(missed)
        for frame in self.frames:
            frame.pane.show_marks([*marks, *extra])

    def show_map(self, name: str) -> None:
        """Show a map in the active pane."""
        self.frames[self.active].map_name = name
        self.frames[self.active].show_picture(self.pictures.get(name))
        self._show_active_maps()

    def _show_active_maps(self) -> None:
        self.strip.show_active({frame.map_name for frame in self.frames})

    def activate_pane(self, number: int) -> None:
        self.active = number
        for n, frame in enumerate(self.frames):
            frame.show_active(n == number)

    def _chosen_changed(self) -> None:
        self._show_detection()

    # Choosing and asking

    def _choose(self, found: list[int], near: list[int], centre: bool = False) -> None:
        """Show these rows' marks as chosen."""
        if len(self._own_marks) != 2:
            return
        if found:
            self.near_misses.choose([])
        elif near:
            self.findings.choose([])
        chosen = [replace(m, chosen=frozenset(rows)) for m, rows in zip(self._own_marks, (found, near), strict=True)]
        for frame in self.frames:
            others = [m for m in frame.pane.marks if all(m.x is not own.x for own in self._own_marks)]
            frame.pane.show_marks([*others, *chosen])
        box = chosen[0].box(found) if found else chosen[1].box(near)
        if centre and box is not None:
            pane = self.frames[0].pane
            corners = pane.from_source(box[0], box[1]), pane.from_source(box[2], box[3])
            inside = all(pane.rect().adjusted(10, 10, -10, -10).contains(c.toPoint()) for c in corners)
            if not inside:
                self.view.set((box[0] + box[2]) / 2, (box[1] + box[3]) / 2, self.view.scale)

    def _clicked(self, x: float, y: float) -> None:
        within = max(6 / self.view.scale, 1.0)
        if len(self._own_marks) != 2:
            return
        found, near = (m.nearest(x, y, within) for m in self._own_marks)
        if found >= 0:
            self.tabs.setCurrentIndex(0)
            self.findings.choose([found])
            self._choose([found], [])
        elif near >= 0:
            self.tabs.setCurrentIndex(1)
            self.near_misses.choose([near])
            self._choose([], [near])
        else:
            self.findings.choose([])
            self.near_misses.choose([])
            self._choose([], [])

    def zoom_to_chosen(self) -> None:
        for m in self.frames[0].pane.marks:
            box = m.box(sorted(m.chosen))
            if box is not None:
                self.frames[self.active].pane.show_box(box)
                return

    def one_to_one(self) -> None:
        self.view.set(self.view.x, self.view.y, 1.0 / self.devicePixelRatioF())

    def _set_asking(self, asking: bool) -> None:
        for frame in self.frames:
            frame.pane.set_asking(asking)

    def ask_why(self, x: float, y: float) -> None:
        """Explain what is or is not found at a place of the source."""
        found = self.study.detection
        if found is None:
            return
        try:
            answer = explain(found, (x, y))
        except ParameterError as error:
            self.show_failure(str(error))
            return
        frame = self.frames[self.active]
        place = frame.pane.mapTo(self._whole, frame.pane.from_source(x, y).toPoint())
        self.answer.show_answer(answer, place.x(), place.y())
        self.actions_by_name["ask"].setChecked(False)

    def _adopt(self, values: dict[str, Any]) -> None:
        self.answer.put_away()
        try:
            self.study.edit_detector(self.study.detector, values, self.tr("admit what was missed"))
        except ParameterError as error:
            self.show_failure(str(error))

    def _preview(self, change: Change | None) -> None:
        found = self.study.detection
        if change is None or found is None:
            self._show_marks()
            return
        work = found.work
        gained = np.array(change.gained[:300], np.int64)
        finished = work.detector.finish(work.image, work.gathered, work.candidates, gained, work.parameters)
        outlines = finished.outlines.take(np.arange(len(gained)), work.image.frame)
        x, y = work.image.frame.to_source(finished.columns["x"], finished.columns["y"])
        marks = Marks.of(outlines, x, y, np.arange(len(gained)), _GAIN_COLOUR)
        self._show_marks([replace(marks, chosen=frozenset(range(len(gained))))])

    def _give_region(self, take: Callable[[dict[str, Any]], None]) -> None:
        image = self.study.image
        if image is None:
            return
        pane = self.frames[self.active].pane
        left, top = pane.to_source(pane.rect().topLeft().toPointF())
        right, bottom = pane.to_source(pane.rect().bottomRight().toPointF())
        width, height = image.source_size
        left, right = max(left, -0.5), min(right, width - 0.5)
        top, bottom = max(top, -0.5), min(bottom, height - 0.5)
        if left >= right or top >= bottom:
            self.show_failure(self.tr("No part of the image is in view."))
            return
        numbers = {"x": (left + right) / 2, "y": (top + bottom) / 2, "width": right - left, "height": bottom - top}
        take({"shape": "rectangle", **{k: round(v, 1) for k, v in numbers.items()}})

    def copy_table(self) -> None:
        (self.findings if self.tabs.currentIndex() == 0 else self.near_misses).copy()

    def toggle_theme(self) -> None:
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        apply_theme(application, THEMES["dark" if current_theme().name == "light" else "light"])

    # Events of the window

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_H and not event.isAutoRepeat():
            for frame in self.frames:
                frame.pane.set_marks_hidden(True)
        elif event.key() == Qt.Key.Key_Escape:
            if self.answer.isVisible():
                self.answer.put_away()
            elif self.worker.busy:
                self.cancel()
            self.actions_by_name["ask"].setChecked(False)
        else:
            super().keyPressEvent(event)

    @guarded
    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_H and not event.isAutoRepeat():
            for frame in self.frames:
                frame.pane.set_marks_hidden(False)
        else:
            super().keyReleaseEvent(event)

    @guarded
    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self._upper and event.type() == QEvent.Type.Resize:
            self.empty.setGeometry(self._upper.rect())
        return False

    @guarded
    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.answer.put_away()

    def _may_replace(self) -> bool:
        """Whether unsaved changes of the recipe may go, asking if there are any."""
        if not self.study.unsaved:
            return True
        answer = self.ask_unsaved()
        if answer == QMessageBox.StandardButton.Save:
            return self.save()
        return answer == QMessageBox.StandardButton.Discard

    def _ask_unsaved(self) -> QMessageBox.StandardButton:
        buttons = QMessageBox.StandardButton
        return QMessageBox.question(
            self, self.tr("Unsaved changes"), self.tr("The recipe has changes that are not saved."),
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip

    @guarded
    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_replace():
            event.ignore()
            return
        self.worker.close()
        # What is torn down after this must not call back into a half-gone window.
        self.study.undo.cleanChanged.disconnect(self._show_title)
        event.accept()
