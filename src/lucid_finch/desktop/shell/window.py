"""The bench: the main window that puts study, runner, panes, tables, settings and images together."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QByteArray, Qt, QTimer, Slot
from PySide6.QtGui import QCloseEvent, QColor, QDragEnterEvent, QDropEvent, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QMainWindow,
    QMenu,
    QMessageBox,
    QSplitter,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from lucid_finch.core.detection import Detection, Outlines
from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.explaining import explain
from lucid_finch.core.image import Image
from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.canvas.evidence_strip import EvidenceStrip
from lucid_finch.desktop.canvas.map_links import cell_marks, curve_marks, peak_marks
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.canvas.panes import PaneFrame, PaneGroup
from lucid_finch.desktop.canvas.picture import Picture
from lucid_finch.desktop.canvas.region_shapes import RegionShapes
from lucid_finch.desktop.pages.explanation_card import AnswerCard
from lucid_finch.desktop.pages.image_list import ImageList, Place, images_in
from lucid_finch.desktop.pages.measure import MeasurePage
from lucid_finch.desktop.pages.merged import MergedPage, merged_marks, one_mark
from lucid_finch.desktop.pages.pixel_values import NumbersPage
from lucid_finch.desktop.pages.tables import FilteredTable
from lucid_finch.desktop.recipe_panel.apply_to_parameters import Adopter
from lucid_finch.desktop.recipe_panel.parameter_sweep import Spread
from lucid_finch.desktop.recipe_panel.recipe_cards import RecipeColumn
from lucid_finch.desktop.recipe_panel.settings import SettingsPanel
from lucid_finch.desktop.shell.actions import ActionFinder
from lucid_finch.desktop.shell.commands import bench_actions
from lucid_finch.desktop.shell.empty import EmptyBench
from lucid_finch.desktop.shell.exporting import Exporter
from lucid_finch.desktop.shell.help import HelpWindow
from lucid_finch.desktop.study.autosave import Autosave, Leftover
from lucid_finch.desktop.study.preferences import PreferencesFile
from lucid_finch.desktop.study.runner import Runner
from lucid_finch.desktop.study.study import SOURCE, Study, step_place
from lucid_finch.desktop.study.worker import Job
from lucid_finch.desktop.toolkit.bars import NoticeBar, TopBar
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import THEMES, apply_theme, current_theme, dress, mark_colour
from lucid_finch.files.images import ENDINGS, read_image
from lucid_finch.files.recipes import ENDING, Recipe

_NEAR_COLOUR = QColor("#f2efe6")
_FIT_COLOUR = QColor("#f4f2ec")
_GUIDE_COLOUR = QColor(232, 226, 214, 120)
_ROOM = 270
_MERGED_TAB = 5
"""Least height of the pages of numbers and curves, px."""
_AUTOSAVE_AFTER = 400
"""Milliseconds from a change to its being kept."""


def _labels(found: Detection) -> dict[str, str]:
    """What the parameters of a detector are called."""
    return {name: declared.label for name, declared in found.work.detector.Parameters.declarations().items()}


class Bench(QMainWindow):
    """The main window."""

    def __init__(self, preferences: PreferencesFile | None = None, kept: Path | None = None) -> None:
        """`preferences` None: nothing is remembered; `kept`: the folder for unsaved work, None for none."""
        super().__init__()
        self.study = Study()
        self.runner = Runner(self.study)
        self.worker = self.runner.worker
        # They go with the window: what else is connected to them would keep it alive for ever.
        for part in (self.study, self.runner, self.worker):
            part.setParent(self)
        self.preferences_file = preferences or PreferencesFile(None)
        self.preferences = self.preferences_file.load()
        self.autosave = Autosave(kept) if kept is not None else None
        self.failure = ""
        """The last error that was shown."""
        self.ask_unsaved: Callable[[], QMessageBox.StandardButton] = self._ask_unsaved
        self._own_marks: list[Marks] = []
        self._merged_in_front = False
        self._picked_merged = "", 0
        self._peak_marks: list[Marks] = []
        """The findings on maps of votes."""
        self._vote_marks: list[Marks] = []
        """What voted where, for the place that was clicked last."""
        self._profile_at: tuple[Any, Any] | None = None
        """Place in the source of the finding whose profile is shown."""
        self._colour_by = ""
        self._shown_detector = ""
        self._fit_wanted = True
        self._took = ""
        """How long the recipe took the last time, for the bar."""
        self._busy_text = ""
        self.help: HelpWindow | None = None
        self._build()
        self._make_actions()
        self._connect()
        dress(self)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self._restore()
        self._show_title()
        self._show_empty()

    # Building

    def _build(self) -> None:
        self.column = RecipeColumn(self.study)
        self.column.failures = self.runner.failures
        self.settings = SettingsPanel(self.study)
        self.panes = PaneGroup()
        self.strip = EvidenceStrip()
        self.findings_page = FilteredTable(self.tr("Findings"))
        self.near_page = FilteredTable(self.tr("Near misses"))
        self.merged_page = MergedPage(self.tr("Merged"))
        self.findings, self.near_misses = self.findings_page.table, self.near_page.table
        self.images = ImageList()
        self.drawing = Drawing()
        self.drawing.setParent(self)
        self.regions = RegionShapes(self.study, self.drawing, self.settings)
        self.regions.setParent(self)
        self.numbers, self.measure = NumbersPage(), MeasurePage(self.drawing)
        self.tabs = QTabWidget()
        for page, name in (
            (self.findings_page, self.tr("Findings")),
            (self.near_page, self.tr("Near misses")),
            (self.images, self.tr("Images")),
            (self.numbers, self.tr("Numbers")),
            (self.measure, self.tr("Measure")),
            (self.merged_page, self.tr("Merged")),
        ):
            self.tabs.addTab(page, name)
        self.tabs.setTabVisible(_MERGED_TAB, False)
        self.tabs.setDocumentMode(True)
        self.tabs.setAccessibleName(self.tr("Results"))
        self.tabs.tabBar().setAccessibleName(self.tr("Results"))
        upper = QWidget()
        upper.setObjectName("panes")
        layout = QVBoxLayout(upper)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.panes, 1)
        layout.addWidget(self.strip)
        middle = QSplitter(Qt.Orientation.Vertical)
        middle.addWidget(upper)
        middle.addWidget(self.tabs)
        middle.setSizes([550, 210])
        middle.setStretchFactor(0, 1)
        body = QSplitter(Qt.Orientation.Horizontal)
        for widget in (self.column, middle, self.settings):
            body.addWidget(widget)
        body.setSizes([214, 786, 280])
        body.setStretchFactor(1, 1)
        body.setChildrenCollapsible(False)
        self.column.setMinimumWidth(170)
        self.settings.setMinimumWidth(250)
        self._splitters = {"body": body, "middle": middle}
        whole = QWidget()
        layout = QVBoxLayout(whole)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.bar = TopBar()
        self.notice = NoticeBar()
        layout.addWidget(self.bar)
        layout.addWidget(self.notice)
        layout.addWidget(body, 1)
        self.setCentralWidget(whole)
        self._whole = whole
        self._upper = upper
        self.answer = AnswerCard(whole)
        self.exporter = Exporter(self)
        self.adopter = Adopter(self)
        self.spread = Spread(whole, self._upper, self.study, self.runner.engine)

    def _make_actions(self) -> None:
        actions = self.actions_known = bench_actions(self)
        self.actions_by_name = actions.by_name
        self.finder = ActionFinder(actions, self._whole)
        self.empty = EmptyBench(self._upper, [actions["open"], actions["open_folder"], actions["demo"]])
        for name, text in (("open", self.tr("Open…")), ("ask", self.tr("Ask why")), ("export", self.tr("Export…"))):
            button = QToolButton()
            button.setDefaultAction(actions[name])
            button.setText(text)
            self.bar.add_button(button)
            if name == "open":
                button.setPopupMode(QToolButton.ToolButtonPopupMode.MenuButtonPopup)
                self.recent_menu = QMenu(button)
                self.recent_menu.aboutToShow.connect(self._fill_recent)
                button.setMenu(self.recent_menu)
        more = QToolButton()
        more.setText(self.tr("All actions"))
        more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        more.setToolTip(self.tr("Everything that can be done, with its shortcut (Ctrl+K searches it)"))
        more.setMenu(actions.menu(more))
        self.bar.add_button(more)

    def _connect(self) -> None:
        study, worker, runner = self.study, self.worker, self.runner
        study.recipe_changed.connect(self._recipe_changed)
        study.recipe_changed.connect(self._show_merged)
        study.undo.cleanChanged.connect(self._saved_or_not)
        study.image_changed.connect(self._image_changed)
        study.chosen_changed.connect(self._chosen_changed)
        study.detection_changed.connect(self._detection_changed)
        worker.started.connect(self._work_started)
        worker.progressed.connect(self._work_progressed)
        worker.idle.connect(self._work_idle)
        runner.picture_made.connect(self._show_picture)
        runner.image_read.connect(self._image_read)
        runner.failures_changed.connect(self._failures_changed)
        runner.failed.connect(self.show_failure)
        runner.told.connect(self.notice.tell)
        runner.took.connect(self._show_time)
        runner.wanted_maps = lambda: [name for frame in self.panes.shown for name in (frame.map_name, frame.other_name)]
        self.strip.chosen.connect(self.show_map)
        self.bar.stop.clicked.connect(self.cancel)
        self.bar.stepped.connect(self.images.step)
        self.settings.region_wanted.connect(self.adopter.give_region_in_view)
        self.settings.refused.connect(self.show_failure)
        self.settings.page_wanted.connect(self.open_page)
        self.column.refused.connect(self.show_failure)
        self.images.wanted.connect(self._open_place)
        self.images.others_busy = lambda: worker.busy
        self.findings.rows_chosen.connect(lambda rows: self.choose(rows, [], centre=True))
        self.near_misses.rows_chosen.connect(lambda rows: self.choose([], rows, centre=True))
        self.merged_page.picked.connect(self._choose_merged)
        self.answer.wanted.connect(self.adopter.admit)
        self.answer.previewed.connect(self.adopter.preview)
        for table in (self.findings, self.near_misses):
            table.colour_wanted.connect(self.colour_by)
            table.columns_chosen.connect(lambda t=table: self._keep_columns(t.hidden))
        self.panes.range_changed.connect(self._range_changed)
        self.spread.adopted.connect(self.adopter.take_value)
        self.spread.refused.connect(self.show_failure)
        self.settings.spread_wanted.connect(self.spread.open)
        self.measure.use_wanted.connect(lambda name, length: self.adopter.take_value(name, length))
        self.measure.lengths = self.settings.lengths
        self.drawing.shown.connect(self._drawing_changed)
        self.drawing.drawing_changed.connect(self._say_what_to_draw)
        self.drawing.changed.connect(self.adopter.ruled)
        self.tabs.currentChanged.connect(self._tab_changed)
        self.panes.looked.connect(self._show_under_cursor)
        for frame in self.frames:
            frame.offered = self._stages
            frame.pane.clicked.connect(partial(self.pick, frame))
            frame.pane.drawing = self.drawing
            frame.pane.asked.connect(self.ask_why)
        self.panes.activated.connect(lambda number: self._show_active_maps())
        self.panes.activate(1)
        self._tables_due = self._timer(self._fill_tables)
        self._slow = self._timer(self._show_busy)
        self._keep_due = self._timer(self._keep_work)

    def _timer(self, call: Callable[[], None]) -> QTimer:
        timer = QTimer(self)
        timer.setSingleShot(True)
        timer.timeout.connect(call)
        return timer

    @property
    def frames(self) -> list[PaneFrame]:
        """All four panes, in sight or not."""
        return self.panes.frames

    @property
    def active_frame(self) -> PaneFrame:
        return self.panes.frames[self.panes.active]

    # Opening

    def open_path(self, path: str | Path) -> None:
        """Open an image, a folder of images or a recipe; the kind is seen from the content."""
        self.open_paths([Path(path)])

    def open_paths(self, paths: Sequence[Path]) -> None:
        """Open recipes, and images as one list. What cannot be opened is named, and the bench stays as it was."""
        images = []
        for path in paths:
            if path.is_file() and (path.name.endswith(ENDING) or path.suffix == ".json"):
                self.open_recipe_file(path)
            else:
                images.append(path)
        if not images:
            return
        try:
            places = images_in(images)
        except FileError as error:
            self.show_failure(str(error))
            return
        for path in images[:3]:
            self._remember(path)
        if len(places) == 1:
            self._open_place(places[0])
            self.images.show_places([])
        else:
            self.images.show_places(places)
            self.images.use_recipe(self.study.recipe)

    def _open_place(self, place: Place) -> None:
        text = self.tr("reading {}").format(place.path.name)
        self.submit_image(lambda: read_image(place.path, page=place.page), text, place.path)

    def open_page(self, page: int) -> None:
        """Another picture of the file that is open."""
        path = self.study.image_path
        if path is not None:
            rows = [row for row, entry in enumerate(self.images.entries) if entry.place == Place(path, page)]
            if rows:
                self.images.select(rows[0])
            else:
                self._open_place(Place(path, page))

    def submit_image(self, make: Callable[[], Image], text: str, path: Path | None = None) -> None:
        """Have the worker make an image and put it on the bench; if that fails, the bench stays as it was."""
        self.runner.read(make, text, path)

    def open_recipe_file(self, file: Path) -> None:
        try:
            recipe = Recipe.load(file)
        except (FileError, ParameterError) as error:
            self.show_failure(str(error))
            return
        if self._may_replace():
            self.study.open_recipe(recipe, file)
            self._remember(file)

    def open_image(self, image: Image, path: Path | None = None) -> None:
        """Put an image on the bench."""
        self._fit_wanted = self.study.image is None or self.study.image.source_size != image.source_size
        self.study.open_image(image, path)

    def _image_read(self, image: Image, path: Path | None) -> None:
        self.notice.hide()
        self.open_image(image, path)
        if image.pages > 1 and path is not None and Place(path, image.page) not in [e.place for e in self.images.entries]:
            # A file with several pictures is a list of images of its own.
            self.images.show_places([Place(path, page) for page in range(image.pages)], image.page, quiet=True)
            self.images.use_recipe(self.study.recipe)
            self._show_place()

    def open_dialog(self) -> None:
        endings = " ".join(f"*{e}" for e in (*ENDINGS, ENDING))
        kinds = f"{self.tr('Images and recipes')} ({endings});;*"
        paths, _ = QFileDialog.getOpenFileNames(self, self.tr("Open images or a recipe"), "", kinds)
        if paths:
            self.open_paths([Path(p) for p in paths])

    def open_folder_dialog(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, self.tr("Open a folder of images"))
        if folder:
            self.open_path(folder)

    def open_demo(self, name: str = "tile_panel") -> None:
        """Put a demo scene and its recipe on the bench; the scene is drawn in the worker."""
        from lucid_finch.demo import recipe_text, scene

        if self._may_replace():
            self.study.open_recipe(Recipe.parse(recipe_text(name), name), None)
            self.submit_image(lambda: scene(name).image, self.tr("painting {}").format(name))

    def open_another(self) -> Bench:
        """A second window, with a bench of its own."""
        kept = self.autosave.folder if self.autosave is not None else None
        other = Bench(self.preferences_file, kept)
        other.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        _others.append(other)
        other.show()
        return other

    def _remember(self, path: Path) -> None:
        self.preferences.remember(path)
        self.preferences_file.save(self.preferences)

    def _fill_recent(self) -> None:
        self.recent_menu.clear()
        for text in self.preferences.recent:
            self.recent_menu.addAction(text, partial(self.open_path, text))
        if not self.preferences.recent:
            self.recent_menu.addAction(self.tr("nothing opened yet")).setEnabled(False)

    @guarded
    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    @guarded
    def dropEvent(self, event: QDropEvent) -> None:
        self.open_paths([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])
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
        self._remember(path)
        self._saved_or_not()
        return True

    def _keep_work(self) -> None:
        """What is not saved yet is kept where a crash cannot reach it."""
        if self.autosave is not None and self.study.unsaved:
            self.autosave.keep(self.study.recipe, self.study.recipe_path, self.study.image_path)

    def offer_recovery(self) -> list[Leftover]:
        """Say what a crash left behind, if anything, and offer it."""
        if self.autosave is None:
            return []
        autosave, left = self.autosave, self.autosave.leftovers()
        if left:
            first = left[0]
            name = first.recipe.name or self.tr("untitled")
            text = self.tr('Unsaved work on "{}" was left when Lucid Finch last ended.').format(name)
            self.notice.tell(
                text,
                offers=[
                    (self.tr("Take it up again"), lambda: self.recover(first)),
                    (self.tr("Discard"), lambda: autosave.discard(first)),
                ],
            )
        return left

    def recover(self, leftover: Leftover) -> None:
        """Go on where a window that crashed was; the work counts as unsaved."""
        saved = self.study.recipe
        if leftover.recipe_path is not None and leftover.recipe_path.exists():
            try:
                saved = Recipe.load(leftover.recipe_path)
            except (FileError, ParameterError):
                saved = self.study.recipe
        self.study.open_recipe(saved, leftover.recipe_path)
        self.study.edit(leftover.recipe.plain(), self.tr("take up unsaved work"))
        if self.autosave is not None:
            self.autosave.discard(leftover)
            self.autosave.keep(self.study.recipe, self.study.recipe_path, leftover.image_path)
        if leftover.image_path is not None:
            self.open_path(leftover.image_path)

    # Running

    @property
    def answering(self) -> bool:
        """Whether the window still owes the screen something that needs no worker."""
        return self.runner.answering or self._tables_due.isActive()

    @property
    def busy(self) -> bool:
        """Whether an answer is still under way, in the worker or on the screen."""
        return self.worker.busy or self.answering or self.panes.busy or self.spread.busy

    def _recipe_changed(self) -> None:
        self._show_title()
        self.panes.forget_maps(lambda name: step_place(name) is not None and name not in self.study.cards)
        self.images.use_recipe(self.study.recipe)
        if self.autosave is not None and not self._keep_due.isActive():
            self._keep_due.start(_AUTOSAVE_AFTER)

    def _saved_or_not(self) -> None:
        self._show_title()
        if self.autosave is not None and not self.study.unsaved:
            self.autosave.forget()

    def _image_changed(self) -> None:
        image = self.study.image
        self.panes.clear()
        self.answer.put_away()
        self._show_empty()
        name = image.name if image is not None else ""
        if image is not None and image.pages > 1:
            name = self.tr("{} · picture {} of {}").format(name, image.page + 1, image.pages)
        self.bar.image_name.setText(name)
        self._show_place()
        self._show_detection()

    def _show_place(self) -> None:
        self.bar.show_place(self.images.current + 1, len(self.images.entries))

    def _detection_changed(self, name: str) -> None:
        self._show_detection()

    def _failures_changed(self) -> None:
        gone = set(self.column.failures.values()) - set(self.runner.failures.values())
        if self.notice.text.text() in gone:
            self.notice.hide()
        self.column.failures = self.runner.failures
        self.column.refresh()
        for text in self.runner.failures.values():
            self.show_failure(text)
        self._show_detection()

    @Slot(str)
    def _work_started(self, text: str) -> None:
        self._busy_text = text
        self.bar.progress.setRange(0, 0)
        self._slow.start(250)

    def _show_busy(self) -> None:
        if self.worker.busy:
            self.bar.doing.setText(self._busy_text)
            self.bar.progress.show()
            self.bar.stop.show()

    @Slot(float, str)
    def _work_progressed(self, share: float, text: str) -> None:
        self.bar.progress.setRange(0, 1000)
        self.bar.progress.setValue(round(1000 * share))
        self._busy_text = text
        self._show_busy()

    @Slot()
    def _work_idle(self) -> None:
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
        self.notice.tell(text, wrong=True)

    def _show_title(self) -> None:
        name = self.study.recipe.name or self.tr("untitled")
        self.bar.title.setText(f"{name}{' •' if self.study.unsaved else ''}")
        self.bar.title.setToolTip(str(self.study.recipe_path or self.tr("not saved yet")))
        self.setWindowTitle(f"{name}{' *' if self.study.unsaved else ''} – Lucid Finch")

    def _show_empty(self) -> None:
        self.empty.setVisible(self.study.image is None)

    def _show_picture(self, picture: Picture) -> None:
        self.panes.put_picture(picture)
        self.strip.show_picture(picture)
        if picture.name == "source" and self._fit_wanted:
            self._fit_wanted = False
            for frame in self.frames:
                if frame is self.frames[0] or not self.panes.links["place"]:
                    frame.pane.fit()

    def _range_changed(self, name: str) -> None:
        picture = self.panes.pictures.get(name)
        if picture is not None:
            self.strip.show_picture(picture)

    def _stages(self) -> list[tuple[str, str]]:
        """Names and labels of all maps there are."""
        found = self.study.detection
        stages = [("source", self.tr("source"))]
        # The last step's result is what is called prepared.
        stages += [(card, self.study.stage_title(card)) for card, _ in self.study.stages[:-1]]
        stages.append(("prepared", self.tr("prepared")))
        if found is not None:
            stages += [(m.name, m.label) for m in found.evidence.values()]
        return stages

    def _show_detection(self) -> None:
        found = self.study.detection
        fresh = [name for name, _ in self._stages()] != list(self.strip.stages)
        self.strip.show_stages(self._stages())
        if fresh:
            for picture in self.panes.pictures.values():
                self.strip.show_picture(picture)
        if found is not None:
            self.panes.use_maps([name for name, _ in self._stages()])
        self._show_active_maps()
        # Overlay first, tables once it is painted: no turn of the event loop is longer than a frame.
        if not self._tables_due.isActive():
            self._tables_due.start(12)
        self.tabs.setTabText(0, self.tr("Findings {}").format(len(found.findings) if found is not None else ""))
        self.tabs.setTabText(1, self.tr("Near misses {}").format(len(found.near_misses) if found is not None else ""))
        count = len(self.images.entries)
        self.tabs.setTabText(2, self.tr("Images {}").format(count or ""))
        self.show_marks()
        self._follow_profile()

    def _fill_tables(self) -> None:
        found = self.study.detection
        labels = {}
        if found is not None:
            labels = _labels(found)
            for table in (self.findings, self.near_misses):
                table.hidden = set(self.preferences.hidden_columns.get(found.kind, []))
        counted = found.work.detector.named_by if found is not None else ""
        self.findings_page.show_table(found.findings if found is not None else None, labels, counted)
        self.near_page.show_table(found.near_misses if found is not None else None, labels)
        self._show_merged()

    def _show_merged(self) -> None:
        # The group of the chosen detector, else the first.
        groups = sorted(self.study.merged(), key=lambda one: self.study.detector not in one[0])
        merged = groups[0][1] if groups else None
        self.merged_page.show_merged(merged)
        self.tabs.setTabVisible(_MERGED_TAB, merged is not None)
        if merged is not None:
            self.tabs.setTabText(_MERGED_TAB, self.tr("Merged {}").format(len(merged.findings)))
            if self.tabs.currentWidget() is self.merged_page:
                self.show_marks()

    def _choose_merged(self, detector: str, number: int) -> None:
        """Show a merged finding as chosen, on the card of the detector that it is from."""
        self._picked_merged = detector, number
        self.study.choose(detector)
        self._tables_due.stop()
        self._fill_tables()
        row = self._picked_row()
        if row is not None:
            self.findings.choose([row])
            self.choose([row], [], centre=True)

    def _picked_row(self) -> int | None:
        """Row of the merged finding that was chosen, in the findings of the chosen detector."""
        detection, (detector, number) = self.study.detection, self._picked_merged
        if detection is None or detector != self.study.detector or number not in detection.findings["id"]:
            return None
        return int(np.flatnonzero(detection.findings["id"] == number)[0])

    def _keep_columns(self, hidden: set[str]) -> None:
        found = self.study.detection
        if found is not None:
            self.preferences.hidden_columns = {**self.preferences.hidden_columns, found.kind: sorted(hidden)}
            self.preferences_file.save(self.preferences)
            for table in (self.findings, self.near_misses):
                table.hidden = set(hidden)
                table.apply_hidden()

    def show_marks(self, extra: Sequence[Marks] = ()) -> None:
        marks: list[Marks] = []
        self._own_marks, self._peak_marks, self._vote_marks = [], [], []
        merged = self.merged_page.merged if self.tabs.currentWidget() is self.merged_page else None
        if merged is not None:
            colours = {entry.name: mark_colour(number) for number, entry in enumerate(self.study.recipe.detectors)}
            marks += merged_marks(merged, self.study.detections, colours)
        for number, entry in enumerate(self.study.recipe.detectors):
            found = self.study.detections.get(entry.name)
            if found is None:
                continue
            table, near = found.findings, found.near_misses
            own = Marks.of(found.outlines, table["x"], table["y"], table["id"], mark_colour(number))
            if found.places is not None:
                own = replace(own, at=np.asarray(found.places, float))
            named = found.work.detector.named_by
            if named:
                words = table.declared[named].names
                own = replace(own, names=tuple(words[code] for code in table[named].tolist()))
            guides = found.work.detector.guides(found.work)
            if guides and entry.name == self.study.detector:
                places = np.array([line[0] for line in guides])
                looked = Marks.of(Outlines.of(guides), places[:, 0], places[:, 1], np.zeros(len(guides)), _GUIDE_COLOUR)
                marks.append(replace(looked, nameless=True))
            if found.fit is not None:
                lines = found.work.detector.fit_outlines(found.work, found.fit)
                middles = np.array([line[len(line) // 2] for line in lines]).reshape(-1, 2)
                fit = Marks.of(Outlines.of(lines), middles[:, 0], middles[:, 1], np.zeros(len(lines)), _FIT_COLOUR)
                marks.append(replace(fit, nameless=True))
            if entry.name == self.study.detector:
                if self._colour_by in table.declared:
                    own = own.coloured(table[self._colour_by], table.declared[self._colour_by])
                numbers = np.arange(len(near))
                missed = Marks.of(found.near_outlines, near["x"], near["y"], numbers, _NEAR_COLOUR, dashed=True)
                self._own_marks = [own, missed]
                self._peak_marks = peak_marks(found, mark_colour(number))
                marks += [own, missed, *self._peak_marks] if merged is None else []
            elif merged is None or entry.name not in merged.of:
                marks.append(own)
        row = self._picked_row() if merged is not None else None
        if row is not None and self.study.detection is not None:
            marks.append(one_mark(self.study.detection, [row], self._own_marks[0].colour))
        self.panes.show_marks([*marks, *extra])

    def colour_by(self, column: str) -> None:
        """Colour the marks of the chosen detector by a column; "" for one colour."""
        self._colour_by = column
        self.show_marks()

    def show_map(self, name: str) -> None:
        """Show a map in the active pane."""
        self.panes.show_map(self.panes.active, name)
        self._show_active_maps()

    def _show_active_maps(self) -> None:
        self.strip.show_active({frame.map_name for frame in self.panes.shown})

    def activate_pane(self, number: int) -> None:
        self.panes.activate(number)

    def set_panes(self, count: int) -> None:
        """One, two or four panes."""
        self.panes.set_count(count)
        self._show_active_maps()

    def _chosen_changed(self) -> None:
        if self.study.detector != self._shown_detector:
            self._shown_detector = self.study.detector
            self._colour_by = ""
            self.runner.run()
        # What a step does is seen while it is chosen.
        step = self.study.chosen if step_place(self.study.chosen) is not None else ""
        self.panes.preview("prepared" if step and step == self.study.last_step else step)
        self._show_detection()

    # Choosing and asking

    def choose(self, found: list[int], near: list[int], centre: bool = False) -> None:
        """Show these rows' marks as chosen, and the profile that the first of them was found in."""
        if len(self._own_marks) != 2:
            return
        # A table follows what was found a moment later: until then it may have rows that are no more.
        found, near = (
            [row for row in rows if row < len(m.numbers)] for rows, m in zip((found, near), self._own_marks, strict=True)
        )
        self._show_profile(found, near)
        if found:
            self.near_misses.choose([])
        elif near:
            self.findings.choose([])
        chosen = [replace(m, chosen=frozenset(rows)) for m, rows in zip(self._own_marks, (found, near), strict=True)]
        chosen += [replace(m, chosen=frozenset(found)) for m in self._peak_marks]
        if self._merged_in_front:
            chosen = [one_mark(self.study.detection, found, self._own_marks[0].colour)] if self.study.detection and found else []
        known = {id(m.points) for m in chosen}
        others = [m for m in self.frames[0].pane.marks if id(m.points) not in known and not m.passing]
        self.panes.show_marks([*others, *chosen, *self._vote_marks])
        box = self._own_marks[0].box(found) if found else self._own_marks[1].box(near)
        if centre and box is not None:
            for frame in self.panes.shown:
                frame.pane.bring_into_sight(box)

    def _show_profile(self, found: list[int], near: list[int]) -> None:
        detection = self.study.detection
        if detection is None or not (found or near):
            return
        work = detection.work
        candidate = int(work.rows[found[0]] if found else work.near_rows[near[0]])
        seen = work.detector.profile_of(work, candidate)
        if seen is not None:
            x, y = (float(work.candidates.columns[n][candidate]) for n in ("x", "y"))
            self._profile_at = work.image.frame.to_source(x, y)
            self.measure.show_seen(*seen)

    def _follow_profile(self) -> None:
        """After something has changed: the profile of what is now nearest to the finding that was chosen."""
        if self._profile_at is None:
            return
        detection, seen = self.study.detection, None
        if detection is not None and len(detection.work.candidates):
            work = detection.work
            x, y = work.image.frame.from_source(*self._profile_at)
            away = work.detector.distances(work.candidates, float(x), float(y))
            seen = work.detector.profile_of(work, int(np.argmin(away)))
        if seen is None:
            self._profile_at = None
            self.measure.show_nothing_seen()
        else:
            self.measure.show_seen(*seen)

    def pick(self, frame: PaneFrame, x: float, y: float) -> None:
        """Choose what lies at a place of a pane: a mark of the image, or what voted for a cell."""
        within = max(6 / frame.view.scale, 1.0)
        detection, picture = self.study.detection, frame.pane.picture
        if len(self._own_marks) != 2 or detection is None or picture is None:
            return
        cell = cell_marks(detection, picture, x, y)
        if cell is not None:
            candidate, self._vote_marks = cell
            rows = (detection.work.rows, detection.work.near_rows)
            found, near = (next(iter(np.flatnonzero(r == candidate).tolist()), -1) for r in rows)
        elif picture.axes is not None:
            return
        else:
            found, near = (m.nearest(x, y, within) for m in self._own_marks)
            self._vote_marks = curve_marks(detection, x, y)
        if found >= 0:
            self.tabs.setCurrentIndex(0)
            self.findings.choose([found])
            self.choose([found], [])
        elif near >= 0:
            self.tabs.setCurrentIndex(1)
            self.near_misses.choose([near])
            self.choose([], [near])
        else:
            self.findings.choose([])
            self.near_misses.choose([])
            self.choose([], [])

    def zoom_to_chosen(self) -> None:
        for m in self.frames[0].pane.marks:
            box = m.box(sorted(m.chosen))
            if box is not None:
                self.active_frame.pane.show_box(box)
                return

    def one_to_one(self) -> None:
        view = self.active_frame.view
        view.set(view.x, view.y, 1.0 / self.devicePixelRatioF())

    def set_asking(self, asking: bool) -> None:
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
        pane = self.active_frame.pane
        place = pane.mapTo(self._whole, pane.from_source(x, y).toPoint())
        self.answer.show_answer(answer, place.x(), place.y(), _labels(found))
        self.actions_by_name["ask"].setChecked(False)

    # Drawing, measuring, comparing

    def _drawing_changed(self) -> None:
        for frame in self.panes.shown:
            frame.pane.update()

    def _say_what_to_draw(self, kind: str) -> None:
        if not kind:
            self.notice.hide()
            return
        how = {
            "polygon": self.tr("click its corners; a double click, Return or the first corner again ends it"),
            "circle": self.tr("click three points of its rim"),
            "angle": self.tr("click two points of one line, then two of the other"),
            "annulus": self.tr("drag from its centre to its outer rim"),
        }.get(kind, self.tr("drag it on the image"))
        self.notice.tell(self.tr("{}: {}. Esc gives up.").format(kind.capitalize(), how))

    def _tab_changed(self, index: int) -> None:
        """Tables of numbers and curves need some height; more than that is left as it is."""
        middle = self._splitters["middle"]
        above, below = middle.sizes()
        if self.tabs.widget(index) in (self.numbers, self.measure) and 0 < below < _ROOM and above + below > 2 * _ROOM:
            middle.setSizes([above + below - _ROOM, _ROOM])
        if self._merged_in_front != (self.tabs.currentWidget() is self.merged_page):
            self._merged_in_front = not self._merged_in_front
            self.show_marks()
        self._show_under_cursor()

    def _show_under_cursor(self) -> None:
        """Numbers and profile follow the pointer and the map of the active pane."""
        frame = self.active_frame
        page = self.tabs.currentWidget()
        if page is self.numbers:
            self.numbers.show_place(frame.pane.picture, frame.view.cursor, self.panes.pictures)
        elif page is self.measure:
            self.measure.show_picture(frame.pane.picture)

    def start_measuring(self, kind: str) -> None:
        """Have the user draw a shape, and show what it measures."""
        self.tabs.setCurrentWidget(self.measure)
        self.measure.start(kind)

    def show_numbers(self) -> None:
        self.tabs.setCurrentWidget(self.numbers)

    # Tables

    @property
    def _page_in_front(self) -> FilteredTable:
        return {1: self.near_page, _MERGED_TAB: self.merged_page}.get(self.tabs.currentIndex(), self.findings_page)

    def copy_table(self) -> None:
        self._page_in_front.table.copy()

    def go_to_filter(self) -> None:
        if self.tabs.currentWidget() not in (self.findings_page, self.near_page, self.merged_page):
            self.tabs.setCurrentIndex(0)
        self._page_in_front.field.setFocus()

    def open_column_menu(self) -> None:
        header = self._page_in_front.table.horizontalHeader()
        self._page_in_front.table.column_menu(-1).popup(header.mapToGlobal(header.rect().bottomLeft()))

    # Cards

    def with_card(self, what: Callable[[], None]) -> None:
        """Do something to the chosen card; the source has none of these."""
        if self.study.chosen != SOURCE:
            self.column.do(what)

    def switch_chosen(self) -> None:
        self.study.switch(self.study.chosen, not self.study.is_on(self.study.chosen))

    # The window itself

    def toggle_theme(self) -> None:
        self._apply_theme("dark" if current_theme().name == "light" else "light")
        self.preferences_file.save(self.preferences)

    def _apply_theme(self, name: str) -> None:
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        self.preferences.theme = name
        apply_theme(application, THEMES[name])

    def scale_text(self, factor: float) -> None:
        """Make all texts larger or smaller."""
        scale = min(max(self.preferences.text_scale * factor, 0.7), 2.0)
        self._apply_text_scale(scale)
        self.preferences.text_scale = scale
        self.preferences_file.save(self.preferences)

    def _apply_text_scale(self, scale: float) -> None:
        font = QApplication.font()
        font.setPointSizeF(font.pointSizeF() * scale / self.preferences.text_scale)
        QApplication.setFont(font)
        # With a style sheet, a new font reaches the widgets that are there only with it.
        self._apply_theme(current_theme().name)

    def show_help(self) -> None:
        if self.help is None:
            self.help = HelpWindow(self.actions_known)
        self.help.show()
        self.help.raise_()

    def _restore(self) -> None:
        """Look as it did when it was closed."""
        kept = self.preferences
        if self.preferences_file.path is None:
            return
        if kept.theme in THEMES and kept.theme != current_theme().name:
            self._apply_theme(kept.theme)
        if kept.geometry:
            self.restoreGeometry(QByteArray.fromHex(kept.geometry.encode()))
        for name, splitter in self._splitters.items():
            if len(kept.splitters.get(name, [])) == splitter.count():
                splitter.setSizes(kept.splitters[name])
        if kept.panes in (1, 2, 4):
            self.panes.set_count(kept.panes)

    def _keep_look(self) -> None:
        kept = self.preferences
        kept.geometry = bytes(self.saveGeometry().toHex().data()).decode()
        kept.splitters = {name: splitter.sizes() for name, splitter in self._splitters.items()}
        kept.panes = self.panes.count
        self.preferences_file.save(kept)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_H and not event.isAutoRepeat():
            for frame in self.frames:
                frame.pane.set_marks_hidden(True)
        elif event.key() == Qt.Key.Key_Escape:
            if self.finder.isVisible():
                self.finder.put_away()
            elif self.answer.isVisible():
                self.answer.put_away()
            elif self.spread.card.isVisible():
                self.spread.card.put_away()
            elif self.drawing.kind:
                self.drawing.stop()
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
    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.answer.put_away()
        self.spread.card.put_away()
        self.finder.hide()

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
        self._keep_look()
        self.images.close_worker()
        self.panes.close_worker()
        self.spread.worker.close()
        self.worker.close()
        if self.help is not None:
            self.help.close()
        if self.autosave is not None:
            self._keep_due.stop()
            self.autosave.close()
        self.runner.forget()
        self.panes.clear()
        # What is torn down after this must not call back into a half-gone window.
        self.study.undo.cleanChanged.disconnect(self._saved_or_not)
        if self in _others:
            _others.remove(self)
        event.accept()


_others: list[Bench] = []
"""Further windows of this process: something must hold them."""
