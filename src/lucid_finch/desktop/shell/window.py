"""The main window: puts study, runner, panes, recipe cards, settings and drawer together."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QKeySequence, QResizeEvent
from PySide6.QtWidgets import QMenu, QSplitter, QToolButton, QVBoxLayout, QWidget

from lucid_finch.core.execution.combining import Combined
from lucid_finch.core.image import Image
from lucid_finch.demo import SCENES
from lucid_finch.desktop.canvas.arrow_marks import arrow_marks
from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.canvas.evidence_strip import EvidenceStrip
from lucid_finch.desktop.canvas.overlays import Overlays
from lucid_finch.desktop.canvas.panes import PaneFrame, PaneGroup
from lucid_finch.desktop.canvas.stages import Stages
from lucid_finch.desktop.frames.camera import CameraBar
from lucid_finch.desktop.frames.timeline import Timeline
from lucid_finch.desktop.pages.asking import Asking
from lucid_finch.desktop.pages.comparison_marks import comparison_marks
from lucid_finch.desktop.pages.drawer import Drawer
from lucid_finch.desktop.pages.explanation_card import ExplanationCard
from lucid_finch.desktop.pages.kept import Comparison
from lucid_finch.desktop.recipe_panel.parameter_sweep import Look, Sweep
from lucid_finch.desktop.recipe_panel.recipe_cards import RecipeCards
from lucid_finch.desktop.recipe_panel.region_shapes import RegionShapes
from lucid_finch.desktop.recipe_panel.settings import SettingsPanel
from lucid_finch.desktop.shell.actions import ActionFinder
from lucid_finch.desktop.shell.appearance import Appearance
from lucid_finch.desktop.shell.apply_to_parameters import Applier
from lucid_finch.desktop.shell.commands import window_actions
from lucid_finch.desktop.shell.documents import Documents
from lucid_finch.desktop.shell.exporting import Exporter
from lucid_finch.desktop.shell.help import HelpWindow
from lucid_finch.desktop.shell.hints import show_drawing_hint, tour_stops
from lucid_finch.desktop.shell.parts import Parts
from lucid_finch.desktop.shell.teaching import Teaching
from lucid_finch.desktop.shell.work_status import WorkStatus
from lucid_finch.desktop.study.preferences import PreferencesFile
from lucid_finch.desktop.study.rectified_pictures import RECTIFIED
from lucid_finch.desktop.study.runner import Runner
from lucid_finch.desktop.study.selection import Selection
from lucid_finch.desktop.study.study import Study, step_place
from lucid_finch.desktop.toolkit.bars import NoticeBar, TopBar
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.keyboard import press_button
from lucid_finch.desktop.toolkit.theme import dress
from lucid_finch.desktop.welcome.empty import EmptyBench
from lucid_finch.desktop.welcome.tour import Tour

_ROOM = 270
"""Least height of the pages of values and curves, px."""


_TABLES_LATER = 250
"""Milliseconds between fillings of the tables while images follow one another."""


class Bench(Parts):
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
        self.selection = Selection(self)
        self.preferences_file = preferences or PreferencesFile(None)
        self.failure = ""
        """The last error that was shown."""
        self._shown_detector = ""
        self.help: HelpWindow | None = None
        self._build(kept)
        self._make_actions()
        self._connect()
        dress(self)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.appearance.restore()
        self._show_title()
        self._show_empty()
        self._show_mode()

    # Building

    def _build(self, kept: Path | None) -> None:
        self.panes = PaneGroup()
        self.strip = EvidenceStrip()
        self.recipe_cards = RecipeCards(self.study)
        self.recipe_cards.failures = self.runner.failures
        self.settings = SettingsPanel(self.study)
        self.drawing = Drawing()
        self.regions = RegionShapes(self.study, self.drawing, self.settings)
        for part in (self.drawing, self.regions):
            part.setParent(self)
        middle, body = QSplitter(Qt.Orientation.Vertical), QSplitter(Qt.Orientation.Horizontal)
        self.column = QSplitter(Qt.Orientation.Vertical)
        self.appearance = Appearance(
            self, self.preferences_file, self.panes, {"body": body, "middle": middle, "column": self.column}
        )
        self.preferences = self.appearance.preferences
        self.drawer = Drawer(self.study, self.preferences, self.drawing)
        self.findings, self.near_misses, self.images = self.drawer.findings, self.drawer.near_misses, self.drawer.images
        self.timeline = Timeline(self.images)
        self.timeline.busy = lambda: self.worker.busy or not self._shows_current()
        self.camera = CameraBar()
        self.camera.busy = lambda: self.worker.busy
        upper = self._column(self.panes, self.timeline, self.camera, self.strip)
        upper.setObjectName("panes")
        for widget in (upper, self.drawer):
            middle.addWidget(widget)
        middle.setSizes([545, 215])
        middle.setStretchFactor(0, 1)
        column = self.column
        for above_or_below in (self.recipe_cards, self.settings):
            column.addWidget(above_or_below)
        column.setSizes([200, 530])
        column.setStretchFactor(1, 1)
        column.setChildrenCollapsible(False)
        column.setMinimumWidth(240)
        for widget in (column, middle):
            body.addWidget(widget)
        body.setSizes([282, 998])
        body.setStretchFactor(1, 1)
        body.setChildrenCollapsible(False)
        self._middle = middle
        self.bar, self.notice = TopBar(), NoticeBar()
        whole = self._column(self.bar, body)
        self.notice.float_over(whole, self.bar)
        self.setCentralWidget(whole)
        self._whole, self._upper = whole, upper
        self.appearance.parts = {"column": self.column, "strip": self.strip, "drawer": self.drawer}
        self.explanation = ExplanationCard(whole)
        self.status = WorkStatus(self.bar, self.runner)
        self.stages = Stages(self.study, self.runner, self.panes, self.strip)
        self.asking = Asking(self.study, self.panes, self.explanation, whole)
        self.overlays = Overlays(self.study, self.selection, self.panes, self._merged_in_front)
        self.documents = Documents(
            self, self.study, self.runner, self.images, self.notice, self.preferences, self.preferences_file, kept
        )
        self.timeline.playing_changed = self.documents.reader.go_ahead
        self.exporter, self.applier = Exporter(self), Applier(self)
        self.sweep = Sweep(whole, upper, self.study, self.runner.engine)
        self.teaching = Teaching(self)
        self._tables_due = QTimer(self)
        self._tables_due.setSingleShot(True)
        self._tables_due.timeout.connect(self.drawer.show_tables)

    @staticmethod
    def _column(*widgets: QWidget) -> QWidget:
        """Widgets one below the other without gaps; splitters and panes take the room."""
        box = QWidget()
        layout = QVBoxLayout(box)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        for widget in widgets:
            layout.addWidget(widget, 1 if isinstance(widget, (QSplitter, PaneGroup)) else 0)
        return box

    def _merged_in_front(self) -> Combined | None:
        return self.drawer.merged_page.merged if self.drawer.merged_in_front else None

    def _make_actions(self) -> None:
        self.finder: ActionFinder
        actions = self.actions_known = window_actions(self, self.exporter, self.applier)
        window, keys = self.tr("Window"), QKeySequence.StandardKey
        for name, text, call, shortcut in (
            ("find", self.tr("Search all actions"), self._search, "Ctrl+K"),
            ("help", self.tr("Help"), self.show_help, keys.HelpContents),
            ("tour", self.tr("Tour of the window"), self.start_tour, "Shift+F1"),
            ("theme", self.tr("Light or dark"), self.appearance.toggle_theme, "Ctrl+T"),
            ("larger", self.tr("Larger text"), lambda: self.appearance.scale_text(1.1), keys.ZoomIn),
            ("smaller", self.tr("Smaller text"), lambda: self.appearance.scale_text(1 / 1.1), keys.ZoomOut),
            ("another", self.tr("Another window"), self.open_another, "Ctrl+Shift+N"),
            ("cancel", self.tr("Cancel the work"), self.status.cancel, None),
            ("quit", self.tr("Quit"), self.close, keys.Quit),
        ):
            actions.add(window, name, text, call, shortcut)
        tip = self.tr("Draw around a pattern on the image: where it occurs is searched")
        actions.add(self.tr("Recipe"), "teach", self.tr("Teach a template"), lambda: self.teaching.start(), "Ctrl+Shift+T", tip)
        tip = self.tr("The picture in the clipboard, or rows of numbers")
        actions.add(self.tr("Recipe"), "paste_template", self.tr("Paste a template"), lambda: self.teaching.paste(), None, tip)
        tip = self.tr("Replace the picture by the mean of the matches found in this image, each turned upright")
        actions.add(self.tr("Recipe"), "average", self.tr("Average a template"), lambda: self.teaching.average(), None, tip)
        tip = self.tr("Paint over the template what does not count")
        actions.add(self.tr("Recipe"), "paint_mask", self.tr("Paint a mask"), lambda: self.teaching.paint(), None, tip)
        tip = self.tr("Pixels that differ from match to match no longer count")
        mask = self.tr("Mask what differs")
        actions.add(self.tr("Recipe"), "differences", mask, lambda: self.teaching.mask_differences(), None, tip)
        tip = self.tr("A strip of results over one parameter, or a grid over two, with counts and a curve")
        actions.add(self.tr("Recipe"), "sweep", self.tr("Sweep a parameter"), self._start_sweep, "Ctrl+P", tip)
        tip = self.tr("A small picture of each kind of detector on this image")
        kinds = self.tr("Show what each detector finds")
        actions.add(self.tr("Recipe"), "kinds", kinds, lambda: self.sweep.open_kinds(), "Ctrl+Shift+D", tip)
        self.actions_by_name = actions.by_name
        self.appearance.switches = {name: actions[f"show_{name}"] for name in self.appearance.parts}
        self.finder = ActionFinder(actions, self._whole)
        self.tour = Tour(self._whole, tour_stops(self))
        scenes = {name: actions["demo" if number == 0 else f"demo_{name}"] for number, name in enumerate(SCENES)}
        self.empty = EmptyBench(
            self._upper, [actions["open"], actions["open_folder"], actions["tour"]], scenes, self.documents.open_path
        )
        for name, text in (("open", self.tr("Open…")), ("ask", self.tr("Ask why")), ("export", self.tr("Export…"))):
            button = QToolButton()
            button.setDefaultAction(actions[name])
            button.setText(text)
            self.bar.add_button(button)
            if name == "open":
                button.setPopupMode(QToolButton.ToolButtonPopupMode.MenuButtonPopup)
                self.recent_menu = QMenu(button)
                self.recent_menu.aboutToShow.connect(self._fill_open_menu)
                button.setMenu(self.recent_menu)
        search = QToolButton()
        search.setDefaultAction(actions["find"])
        search.setText(self.tr("Search…"))
        self.bar.add_button(search)
        more = QToolButton()
        more.setText(self.tr("Menu"))
        more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        more.setToolTip(self.tr("Every action with its shortcut (Ctrl+K searches them)"))
        more.setMenu(actions.menu(more))
        self.bar.add_button(more)

    def _fill_open_menu(self) -> None:
        self.documents.fill_recent(self.recent_menu)
        self.recent_menu.addSeparator()
        self.camera.fill_cameras(self.recent_menu.addMenu(self.tr("Camera")))

    def _search(self) -> None:
        self.finder.open()

    def _connect(self) -> None:
        self._connect_study()
        self._connect_tools()
        for frame in self.frames:
            frame.pane.clicked.connect(partial(self.pick, frame))
            frame.pane.drawing = self.drawing
            frame.pane.asked.connect(self.asking.ask)
        self.panes.activate(1)

    def _connect_study(self) -> None:
        study, runner = self.study, self.runner
        study.recipe_changed.connect(self._recipe_changed)
        study.image_changed.connect(self._image_changed)
        study.chosen_changed.connect(self._chosen_changed)
        study.detection_changed.connect(lambda name: self._show_detection())
        study.detection_changed.connect(lambda name: self.camera.answered())
        runner.hurried = lambda: self.timeline.playing or self.camera.is_live
        self.camera.rested.connect(runner.run)
        self.timeline.rested.connect(runner.run)
        self.camera.seen.connect(lambda image: study.open_image(image, None, self.camera.is_live))
        self.camera.captured.connect(self.documents.list_captured)
        self.documents.opening.connect(self.camera.give_way)
        self.camera.open_changed.connect(self.timeline.give_way)
        runner.failures_changed.connect(self._failures_changed)
        runner.failed.connect(self.show_failure)
        runner.message.connect(self.notice.tell)
        self.documents.refused.connect(self.show_failure)
        self.documents.title_changed.connect(self._show_title)
        self.documents.image_opened.connect(self._show_place)
        self.documents.empty_title.connect(self.empty.say)
        self.selection.changed.connect(self._selection_changed)

    def _connect_tools(self) -> None:
        drawer, applier, sweep = self.drawer, self.applier, self.sweep
        self.bar.stepped.connect(self.images.step)
        self.settings.region_wanted.connect(applier.give_region_in_view)
        for part in (self.settings, self.recipe_cards, sweep, self.asking):
            part.refused.connect(self.show_failure)
        self.asking.answered.connect(lambda: self.actions_by_name["ask"].setChecked(False))
        self.settings.page_wanted.connect(self.documents.open_page)
        self.settings.sweep_wanted.connect(sweep.open)
        sweep.applied.connect(applier.take_value)
        sweep.look = self._look
        self.bar.add_mode("tune", self.tr("Tune"), self.tr("Change the recipe and see what follows"), sweep.card.put_away)
        self.bar.add_mode("sweep", self.tr("Sweep"), self.tr("Compare values of one parameter or two"), self._start_sweep)
        sweep.card.opened.connect(self._show_mode)
        sweep.card.closed.connect(self._show_mode)
        sweep.kind_chosen.connect(self.study.add_detector)
        self.recipe_cards.kinds_wanted.connect(sweep.open_kinds)
        self.images.others_busy = lambda: self.worker.busy
        self.findings.rows_chosen.connect(lambda rows: self.choose(rows, [], centre=True))
        self.near_misses.rows_chosen.connect(lambda rows: self.choose([], rows, centre=True))
        drawer.merged_page.picked.connect(self._choose_merged)
        drawer.columns_chosen.connect(lambda: self.preferences_file.save(self.preferences))
        drawer.merged_in_front_changed.connect(self.overlays.show)
        drawer.calibration.arrows_changed.connect(self._show_arrows)
        drawer.calibration.refused.connect(self.show_failure)
        drawer.calibration.said.connect(self.notice.tell)
        drawer.batch.refused.connect(self.show_failure)
        self.panes.maps_changed.connect(self._map_changed)
        drawer.currentChanged.connect(self._page_changed)
        drawer.kept.compared.connect(self._show_comparison)
        drawer.kept.wanted.connect(self.panes.bring_into_sight)
        for table in (self.findings, self.near_misses):
            table.colour_wanted.connect(self.overlays.set_colour_by)
        self.explanation.wanted.connect(applier.admit)
        self.explanation.previewed.connect(applier.preview)
        drawer.measure.use_wanted.connect(applier.take_value)
        drawer.measure.lengths = self.settings.lengths
        self.drawing.shown.connect(self.panes.refresh)
        self.drawing.drawing_changed.connect(lambda kind: show_drawing_hint(self.notice, kind))
        self.drawing.changed.connect(applier.ruled)
        self.panes.looked.connect(self._show_under_cursor)

    # Opening

    def open_image(self, image: Image, path: Path | None = None) -> None:
        """Show an image."""
        self.study.open_image(image, path)

    def open_another(self) -> Bench:
        """A second window, with a study of its own."""
        autosave = self.documents.autosave
        other = Bench(self.preferences_file, autosave.folder if autosave is not None else None)
        other.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        _others.append(other)
        other.show()
        return other

    @guarded
    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.setDropAction(Qt.DropAction.CopyAction)
            event.accept()

    @guarded
    def dropEvent(self, event: QDropEvent) -> None:
        self.documents.open_paths([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])
        # Never a move, which would have the sender delete its file.
        event.setDropAction(Qt.DropAction.CopyAction)
        event.accept()

    # Running

    @property
    def answering(self) -> bool:
        """Whether the window still owes the screen something that needs no worker."""
        return self.runner.answering or self._tables_due.isActive()

    @property
    def busy(self) -> bool:
        """Whether an answer is still under way, in the worker or on the screen."""
        calibrating = self.drawer.calibration.worker.busy
        looking = self.asking.worker.busy
        return self.worker.busy or self.answering or self.panes.busy or self.sweep.busy or calibrating or looking

    def _shows_current(self) -> bool:
        """Whether the image that the list is at is the one on the bench, or cannot be read."""
        image, entries, row = self.study.image, self.images.entries, self.images.current
        return image is None or not 0 <= row < len(entries) or image.page == entries[row].place.page

    def _recipe_changed(self) -> None:
        study = self.study
        self.panes.calibration = study.calibration
        self.panes.forget_maps(
            lambda name: (
                (step_place(name) is not None and name not in study.cards) or (name in RECTIFIED and name not in study.rectified)
            )
        )
        self.drawer.show_merged()

    def _image_changed(self) -> None:
        image = self.study.image
        if image is not None and self.runner.hurried() and not self.empty.isVisible():
            # What is in sight stays until the next of it is there: nothing flickers.
            self.bar.image_name.setText(self._image_title(image))
            self._show_place()
            return
        self.panes.clear()
        self.panes.calibration = self.study.calibration
        self.explanation.put_away()
        self._show_empty()
        self.bar.image_name.setText(self._image_title(image) if image is not None else "")
        self._show_title()
        self._show_place()
        self._show_detection()

    def _image_title(self, image: Image) -> str:
        if image.pages < 2:
            return image.name
        what = self.tr("{} · frame {} of {}") if self.timeline.is_clip else self.tr("{} · picture {} of {}")
        return what.format(image.name, image.page + 1, image.pages)

    def _show_place(self) -> None:
        self.bar.show_place(self.images.current + 1, len(self.images.entries))

    def _failures_changed(self) -> None:
        gone = set(self.recipe_cards.failures.values()) - set(self.runner.failures.values())
        if self.notice.text.text() in gone:
            self.notice.hide()
        self.recipe_cards.failures = self.runner.failures
        self.recipe_cards.refresh()
        for text in self.runner.failures.values():
            self.show_failure(text)
        self._show_detection()

    # Showing

    def show_failure(self, text: str) -> None:
        self.failure = text
        if self.study.image is None and self.empty.isVisible() and self.documents.reading_failed:
            # Said where the image would be.
            self.empty.say(self.empty.labels[0].text(), text)
            return
        super().show_failure(text)

    def _show_title(self) -> None:
        name = self.study.recipe.name or self.tr("untitled")
        self.bar.title.setText(f"{name}{' •' if self.study.unsaved else ''}")
        self.bar.title.setToolTip(str(self.study.recipe_path or self.tr("not saved yet")))
        file = self.study.recipe_path.name if self.study.recipe_path is not None else name
        image = f" · {self.study.image.name}" if self.study.image is not None and self.study.image.name else ""
        self.setWindowTitle(f"{file}{' *' if self.study.unsaved else ''}{image} – Lucid Finch")

    def _show_empty(self) -> None:
        if self.study.image is None:
            self.empty.show_recent(self.preferences.recent)
        elif (focus := self.focusWidget()) is not None and self.empty.isAncestorOf(focus):
            self.active_frame.pane.setFocus()
        self.empty.setVisible(self.study.image is None)

    def _show_detection(self) -> None:
        self.stages.refresh()
        # Overlay first, tables once it is painted: no turn of the event loop is longer than a frame.
        if not self._tables_due.isActive():
            self._tables_due.start(_TABLES_LATER if self.runner.hurried() else 12)
        self.drawer.show_counts()
        self.selection.forget_rows()
        self.overlays.show()
        self._follow_profile()

    def _chosen_changed(self) -> None:
        if self.study.detector != self._shown_detector:
            self._shown_detector = self.study.detector
            self.overlays.colour_by = ""
            self.runner.run()
        # The result of a step is shown while it is chosen.
        step = self.study.chosen if step_place(self.study.chosen) is not None else ""
        self.panes.preview("prepared" if step and step == self.study.last_step else step)
        self._show_detection()

    def _show_arrows(self) -> None:
        """The residuals of the calibration that its page shows."""
        page = self.drawer.calibration
        self.overlays.arrows = arrow_marks(page.view, page.times) if page.view is not None else []
        self.overlays.show()

    def _map_changed(self) -> None:
        """Marks follow to a rectified picture."""
        if any(frame.map_name in RECTIFIED for frame in self.panes.shown):
            self.overlays.show()

    def _show_comparison(self, comparison: Comparison | None) -> None:
        """What was gained and lost against a kept result, while its page is in front."""
        in_front = self.drawer.currentWidget() is self.drawer.kept
        self.overlays.standing = comparison_marks(comparison) if comparison is not None and in_front else []
        self.overlays.show()

    # Selecting and asking

    def choose(self, found: list[int], near: list[int], centre: bool = False) -> None:
        """Select rows of the findings or near misses of the detector in sight."""
        self.selection.select(self.study.detection, found, near, centre)

    def _selection_changed(self, centre: bool) -> None:
        selection, detection = self.selection, self.study.detection
        if selection.found:
            self.near_misses.choose([])
        elif selection.near:
            self.findings.choose([])
        candidate = selection.candidate(detection)
        seen = detection.profile(candidate) if detection is not None and candidate >= 0 else None
        if seen is not None:
            self.drawer.measure.show_seen(*seen)

    def _follow_profile(self) -> None:
        """After a change: the profile of what is now nearest to the finding that was selected."""
        detection, place = self.study.detection, self.selection.place
        if place is None:
            return
        candidate = detection.candidate_near(*place) if detection is not None else -1
        seen = detection.profile(candidate) if detection is not None and candidate >= 0 else None
        if seen is None:
            self.selection.place = None
            self.drawer.measure.show_nothing_seen()
        else:
            self.drawer.measure.show_seen(*seen)

    def _choose_merged(self, detector: str, number: int) -> None:
        """Show a merged finding as selected, on the card of the detector that it comes from."""
        self.selection.merged = detector, number
        self.study.choose(detector)
        self._tables_due.stop()
        self.drawer.show_tables()
        row = self.selection.merged_row(self.study.detector, self.study.detection)
        if row is not None:
            self.findings.choose([row])
            self.choose([row], [], centre=True)

    def pick(self, frame: PaneFrame, x: float, y: float) -> None:
        """Select what is at a place of a pane: a mark of the image, or the finding behind a cell of an accumulator."""
        rows = self.overlays.at(frame, x, y)
        if rows is None:
            return
        found, near = rows
        if found >= 0:
            self.drawer.setCurrentIndex(0)
        elif near >= 0:
            self.drawer.setCurrentIndex(1)
        self.findings.choose([found] if found >= 0 else [])
        self.near_misses.choose([near] if near >= 0 > found else [])
        self.choose([found] if found >= 0 else [], [near] if near >= 0 > found else [])

    # Drawing and pages

    def _page_changed(self, index: int) -> None:
        """Pages of values and curves need some height; more than that is left as it is."""
        above, below = self._middle.sizes()
        tall = self.drawer.widget(index) in (self.drawer.values, self.drawer.measure, self.drawer.calibration)
        if tall and 0 < below < _ROOM and above + below > 2 * _ROOM:
            self._middle.setSizes([above + below - _ROOM, _ROOM])
        self._show_comparison(self.drawer.kept.comparison)
        self._show_under_cursor()

    def _show_under_cursor(self) -> None:
        """Values and profile follow the pointer and the map of the active pane."""
        frame, drawer = self.active_frame, self.drawer
        if drawer.currentWidget() is drawer.values:
            drawer.values.show_place(frame.pane.picture, frame.view.cursor, self.panes.pictures)
        elif drawer.currentWidget() is drawer.measure:
            drawer.measure.show_picture(frame.pane.picture)

    def _start_sweep(self) -> None:
        """Sweep the parameter that was swept last, or the first of the selected card that can be."""
        self.sweep.open_first()
        self._show_mode()

    def _show_mode(self) -> None:
        self.bar.show_mode("sweep" if self.sweep.card.isVisible() else "tune")

    def _look(self) -> Look:
        """The map and the part of the image that the active pane shows."""
        frame, image = self.active_frame, self.study.image
        pane = frame.pane
        if image is None or pane.apart or pane.view.fitted:
            return Look(frame.map_name)
        left, top = pane.to_source(pane.rect().topLeft().toPointF())
        right, bottom = pane.to_source(pane.rect().bottomRight().toPointF())
        return Look(frame.map_name, (left, top, right, bottom))

    # The window itself

    def start_tour(self) -> None:
        """Show what is where, one thing after the other; on the demo if there is no image."""
        if self.study.image is None:
            self.documents.open_demo()
        self.tour.start()

    def show_help(self) -> None:
        """Open the guide."""
        if self.help is None:
            self.help = HelpWindow(self.actions_known)
        self.help.show()
        self.help.raise_()

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_H and not event.isAutoRepeat():
            self.panes.set_marks_hidden(True)
        elif event.key() == Qt.Key.Key_Escape:
            self._escape()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not event.isAutoRepeat():
            press_button(self.focusWidget())
        else:
            super().keyPressEvent(event)

    def _escape(self) -> None:
        """Close what is open, else give up what runs."""
        for card in (self.finder, self.tour, self.explanation, self.sweep.card):
            if card.isVisible():
                card.put_away()
                break
        else:
            if self.drawing.kind:
                self.drawing.stop()
            elif self.worker.busy:
                self.status.cancel()
        self.actions_by_name["ask"].setChecked(False)

    @guarded
    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_H and not event.isAutoRepeat():
            self.panes.set_marks_hidden(False)
        else:
            super().keyReleaseEvent(event)

    @guarded
    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.explanation.put_away()
        self.sweep.card.put_away()
        self.finder.hide()
        self.tour.put_away()

    @guarded
    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.documents.may_replace():
            event.ignore()
            return
        self.appearance.keep()
        self.images.close_worker()
        self.camera.close_worker()
        self.drawer.batch.close_worker()
        self.drawer.calibration.worker.close()
        self.asking.worker.close()
        self.panes.close_worker()
        self.sweep.worker.close()
        self.status.close_worker()
        self.worker.close()
        if self.help is not None:
            self.help.close()
        self.documents.close()
        self.runner.forget()
        self.panes.clear()
        if self in _others:
            _others.remove(self)
        event.accept()


_others: list[Bench] = []
"""Further windows of this process: something must hold them."""
