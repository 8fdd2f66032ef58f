"""Opening and saving: images, folders, recipes, demo scenes, recent files, and work that a crash left unsaved."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QFileDialog, QMenu, QMessageBox, QWidget

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.recipe import starter
from lucid_finch.desktop.frames.reading import AheadReader
from lucid_finch.desktop.pages.image_list import ImageList
from lucid_finch.desktop.study.autosave import Autosave, Leftover
from lucid_finch.desktop.study.pasting import pasted_image
from lucid_finch.desktop.study.preferences import Preferences, PreferencesFile
from lucid_finch.desktop.study.runner import Runner
from lucid_finch.desktop.study.study import Study
from lucid_finch.desktop.study.worker import Job
from lucid_finch.desktop.toolkit.bars import NoticeBar
from lucid_finch.desktop.welcome.recovery import RecoveryDialog
from lucid_finch.files.clips import ENDINGS as CLIP_ENDINGS
from lucid_finch.files.clips import is_clip
from lucid_finch.files.images import ENDINGS
from lucid_finch.files.recipes import ENDING, Recipe
from lucid_finch.pipeline.sources import Place, images_in

_AUTOSAVE_AFTER = 400
"""Milliseconds from a change to its being kept."""


class Documents(QObject):
    """Everything that replaces image or recipe by something from outside, and everything that saves."""

    refused = Signal(str)
    empty_title = Signal(str)
    """What is said where there is no image."""
    title_changed = Signal()
    image_opened = Signal()
    clip_made = Signal(object)
    clips_listed = Signal(object)
    opening = Signal()
    """Something else than the camera is about to be shown."""

    def __init__(
        self, window: QWidget, study: Study, runner: Runner, images: ImageList, notice: NoticeBar, preferences: Preferences,
        file: PreferencesFile, kept: Path | None,
    ) -> None:  # fmt: skip
        """`kept`: the folder for unsaved work, None for none."""
        super().__init__(window)
        self.window, self.study, self.runner, self.images, self.notice = window, study, runner, images, notice
        self.preferences, self.file = preferences, file
        self.autosave = Autosave(kept) if kept is not None else None
        self.recovery: RecoveryDialog | None = None
        self.reader = AheadReader()
        self.reading_failed = False
        """Whether the image that was asked for last could not be read, as far as is known."""
        self.ask_unsaved: Callable[[], QMessageBox.StandardButton] = self._ask_unsaved
        self._keep_due = QTimer(self)
        self._keep_due.setSingleShot(True)
        self._keep_due.timeout.connect(self._keep_work)
        study.recipe_changed.connect(self._recipe_changed)
        study.undo.cleanChanged.connect(self._saved_or_not)
        runner.image_read.connect(self._image_read)
        images.wanted.connect(self.open_place)
        self.clips_listed.connect(self._list)
        self.clip_made.connect(lambda path: self._open_images([path]))

    # Opening

    def open_path(self, path: str | Path) -> None:
        """Open an image, a folder of images or a recipe; the kind is seen from the content."""
        self.open_paths([Path(path)])

    def open_paths(self, paths: Sequence[Path]) -> None:
        """Open recipes, and images as one list. What cannot be opened is named, and everything stays as it was."""
        images = []
        for path in paths:
            if path.is_file() and (path.name.endswith(ENDING) or path.suffix == ".json"):
                self.open_recipe_file(path)
            else:
                images.append(path)
        if images and self._open_images(images):
            for path in images[:3]:
                self._remember(path)

    def _open_images(self, images: Sequence[Path]) -> bool:
        """Show files, folders and clips as one list; whether that could be done."""
        if any(is_clip(path) for path in images):
            # All of a clip has to be looked through, which may take seconds.
            self.runner.worker.submit(self.tr("looking through {}").format(images[0].name), partial(self._look_through, images))
            return True
        try:
            places = images_in(images)
        except FileError as error:
            self.refused.emit(str(error))
            return False
        self._list(places)
        return True

    def _look_through(self, images: Sequence[Path], job: Job) -> None:
        self.clips_listed.emit(images_in(images))

    def _list(self, places: list[Place]) -> None:
        if len(places) == 1:
            self.open_place(places[0])
            self.images.show_places([])
        else:
            self.images.show_places(places)
            self.images.use_recipe(self.study.recipe)

    def new_recipe(self) -> None:
        """Begin a recipe afresh; the image stays."""
        if self.may_replace():
            self.study.open_recipe(Recipe.make(starter()), None)

    def close_image(self) -> None:
        """Close the image, and the list that it is of; the recipe stays."""
        self.opening.emit()
        self.runner.worker.cancel_all()
        self.images.show_places([])
        self.study.close_image()
        self.reading_failed = False
        self.empty_title.emit("")

    def open_place(self, place: Place) -> None:
        """Show one picture of a file; one that cannot be read is shown as such, and not the one before it."""
        self.opening.emit()
        self.reading_failed = True
        self.empty_title.emit(self.tr("{} cannot be read").format(place.path.name))
        read = partial(self.reader.read, place)
        self.runner.read(read, self.tr("reading {}").format(place.path.name), place.path, keep=False)

    def list_captured(self, place: Place) -> None:
        """A frame of a camera joins the list; that of a clip, which is a row of frames in time, gives way to it."""
        if any(entry.place.is_frame and entry.place.image is None for entry in self.images.entries):
            self.images.show_places([])
        self.images.add(place)
        self.images.use_recipe(self.study.recipe)
        self.image_opened.emit()

    def open_page(self, page: int) -> None:
        """Another picture of the file that is open."""
        path = self.study.image_path
        if path is not None:
            row = self._row_of(path, page)
            if row is not None:
                self.images.select(row)
            else:
                self.open_place(Place(path, page))

    def _row_of(self, path: Path, page: int) -> int | None:
        """Where a picture of a file is in the list."""
        entries = self.images.entries
        return next((row for row, e in enumerate(entries) if e.place.page == page and e.place.path == path), None)

    def paste(self) -> None:
        """Show the picture of the clipboard, or the numbers in it as an image."""
        try:
            image = pasted_image()
        except ParameterError as error:
            self.refused.emit(str(error))
            return
        self.submit_image(lambda: image, self.tr("pasting"))

    def submit_image(self, make: Callable[[], Image], text: str, path: Path | None = None) -> None:
        """Have the worker make an image and show it; if that fails, everything stays as it was."""
        self.opening.emit()
        self.runner.read(make, text, path)

    def open_recipe_file(self, file: Path) -> None:
        """Replace the recipe by that of a file."""
        try:
            recipe = Recipe.load(file)
        except (FileError, ParameterError) as error:
            self.refused.emit(str(error))
            return
        if self.may_replace():
            self.study.open_recipe(recipe, file)
            self._remember(file)
            self._tell_unused(recipe)

    def _tell_unused(self, recipe: Recipe) -> None:
        if recipe.unused:
            text = self.tr("Kept in the recipe, but not applied by this version: {}.")
            self.notice.tell(text.format(", ".join(recipe.unused)))

    def _image_read(self, image: Image, path: Path | None) -> None:
        self.notice.hide()
        self.reading_failed = False
        self.study.open_image(image, path, self.runner.hurried())
        if image.pages > 1 and path is not None and self._row_of(path, image.page) is None:
            # A file with several pictures is a list of images of its own.
            self.images.show_places([Place(path, page) for page in range(image.pages)], image.page, quiet=True)
            self.images.use_recipe(self.study.recipe)
        self.image_opened.emit()

    def open_dialog(self) -> None:
        """Ask for images or a recipe."""
        endings = " ".join(f"*{e}" for e in (*ENDINGS, *CLIP_ENDINGS, ENDING))
        kinds = f"{self.tr('Images, clips and recipes')} ({endings});;*"
        paths, _ = QFileDialog.getOpenFileNames(self.window, self.tr("Open images, a clip or a recipe"), "", kinds)
        if paths:
            self.open_paths([Path(p) for p in paths])

    def open_folder_dialog(self) -> None:
        """Ask for a folder of images."""
        folder = QFileDialog.getExistingDirectory(self.window, self.tr("Open a folder of images"))
        if folder:
            self.open_path(folder)

    def open_demo(self, name: str = "") -> None:
        """Show a demo scene (the first if not named) with its recipe; the worker draws it."""
        from lucid_finch.demo import CLIPS, SCENES, recipe_text, scene

        chosen = name or next(iter(SCENES))
        if self.may_replace():
            self.study.open_recipe(Recipe.parse(recipe_text(chosen), chosen), None)
            if chosen in CLIPS:
                self._open_demo_clip(chosen)
                return
            self.submit_image(lambda: scene(chosen).image, self.tr("drawing {}").format(chosen))

    def _open_demo_clip(self, name: str) -> None:
        """A clip is made on first use, by the worker, and then opened as a file."""
        from lucid_finch.demo import CLIPS

        def work(job: Job) -> str:
            path = CLIPS[name].file()
            self.clip_made.emit(path)
            return self.tr("{} is in {}").format(path.name, path.parent)

        self.runner.do(work, self.tr("making the clip {}").format(name))

    def _remember(self, path: Path) -> None:
        self.preferences.remember(path)
        self.file.save(self.preferences)

    def fill_recent(self, menu: QMenu) -> None:
        """The files and folders that were opened last."""
        menu.clear()
        for text in self.preferences.recent:
            menu.addAction(text, partial(self.open_path, text))
        if not self.preferences.recent:
            menu.addAction(self.tr("nothing opened yet")).setEnabled(False)

    # Saving

    def save(self) -> bool:
        """Save the recipe to its file, or ask for one."""
        path = self.study.recipe_path
        return self.save_to(path) if path is not None else self.save_as()

    def save_as(self) -> bool:
        """Ask for a file and save the recipe to it."""
        name = f"{self.study.recipe.name}{ENDING}"
        path, _ = QFileDialog.getSaveFileName(self.window, self.tr("Save recipe as"), name, f"*{ENDING}")
        if not path:
            return False
        return self.save_to(Path(path if path.endswith(".json") else path + ENDING))

    def save_to(self, path: Path) -> bool:
        """Save the recipe; says so if that fails."""
        try:
            self.study.recipe.save(path)
        except FileError as error:
            self.refused.emit(str(error))
            return False
        self.study.mark_saved(path)
        self._remember(path)
        self._saved_or_not()
        return True

    def may_replace(self) -> bool:
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
            self.window, self.tr("Unsaved changes"), self.tr("The recipe has changes that are not saved."),
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip

    # Unsaved work

    def _recipe_changed(self) -> None:
        self.title_changed.emit()
        self.images.use_recipe(self.study.recipe)
        if self.autosave is not None and not self._keep_due.isActive():
            self._keep_due.start(_AUTOSAVE_AFTER)

    def _keep_work(self) -> None:
        """Keep what is not saved yet where a crash cannot reach it."""
        if self.autosave is not None and self.study.unsaved:
            study = self.study
            self.autosave.keep(study.recipe, study.recipe_path, study.image_path, study.image)

    def _saved_or_not(self, *_: Any) -> None:
        self.title_changed.emit()
        if self.autosave is not None and not self.study.unsaved:
            self.autosave.forget()

    def offer_recovery(self) -> list[Leftover]:
        """List what windows that crashed have left, if anything, until it is recovered or discarded."""
        if self.autosave is None:
            return []
        left = self.autosave.leftovers()
        if left:
            self.recovery = RecoveryDialog(self.window, left)
            self.recovery.recovered.connect(self.recover)
            self.recovery.discarded.connect(self.autosave.discard)
            self.recovery.show()
        return left

    def recover(self, leftover: Leftover) -> None:
        """Continue where a window that crashed was; the work counts as unsaved."""
        if not self.may_replace():
            return
        saved = self.study.recipe
        if leftover.recipe_path is not None and leftover.recipe_path.exists():
            try:
                saved = Recipe.load(leftover.recipe_path)
            except (FileError, ParameterError):
                saved = self.study.recipe
        self.study.open_recipe(saved, leftover.recipe_path)
        self.study.edit(leftover.recipe.plain(), self.tr("recover unsaved work"))
        if self.autosave is not None:
            self.autosave.discard(leftover)
            self.autosave.keep(self.study.recipe, self.study.recipe_path, leftover.image_path)
        if self.recovery is not None:
            self.recovery.remove(leftover)
        if leftover.image_path is not None:
            self.open_path(leftover.image_path)
            return
        from lucid_finch.demo import SCENES, scene

        # A scene of the demo is a file of no folder: it is drawn again.
        name = Path(leftover.image_name).stem
        if name in SCENES:
            self.submit_image(lambda: scene(name).image, self.tr("drawing {}").format(name))

    def close(self) -> None:
        """The window closes."""
        self.reader.close()
        if self.autosave is not None:
            self._keep_due.stop()
            self.autosave.close()
        # What is torn down after this must not call back into a half-gone window.
        self.study.undo.cleanChanged.disconnect(self._saved_or_not)
