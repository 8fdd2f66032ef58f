"""Writes what is on the bench: findings, tables and pictures, and the map of the active pane, alone or for every image."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog

from lucid_finch.core.errors import FileError, ParameterError
from lucid_finch.desktop.shell.export_dialog import ExportDialog, ExportWish
from lucid_finch.desktop.shell.parts import Parts
from lucid_finch.desktop.study.study import step_place
from lucid_finch.desktop.study.worker import Job
from lucid_finch.files.maps import write_image, write_map
from lucid_finch.pipeline.batch import Batch
from lucid_finch.pipeline.run import run_images
from lucid_finch.pipeline.sinks import Outputs, write_results
from lucid_finch.pipeline.sources import Place
from lucid_finch.pipeline.whole_run import Report, run_all

_USUAL = ("findings", "csv", "svg", "annotated")


class Exporter(QObject):
    """The worker does all of it and reports when it is done."""

    def __init__(self, parts: Parts) -> None:
        super().__init__(parts)
        self.parts = parts

    def export_dialog(self) -> None:
        """Ask what is written, of which images and where."""
        if self.parts.study.image is None:
            self.parts.show_failure(self.tr("There is nothing to export: open an image first."))
            return
        dialog = ExportDialog(self.parts, self.parts.study.recipe, self._places(), self.parts.appearance.preferences)
        if dialog.exec():
            wish = dialog.wish()
            self.parts.appearance.file.save(self.parts.appearance.preferences)
            if wish.everything:
                self._export_all(wish)
            else:
                self.export_to(wish.folder, wish.outputs)

    def _places(self) -> list[Place]:
        """The image that is open, then the others of the list."""
        study = self.parts.study
        name = study.image.name if study.image is not None else ""
        page = study.image.page if study.image is not None else 0
        own = Place(study.image_path or Path(name or "image"), page)
        return [own, *(entry.place for entry in self.parts.drawer.images.entries)]

    def export_to(self, folder: Path, outputs: Outputs = Outputs(_USUAL)) -> None:  # noqa: B008
        """Write what the command line would write for this image and recipe."""
        image, path, recipe = self.parts.study.image, self.parts.study.image_path, self.parts.study.recipe
        if image is None:
            self.parts.show_failure(self.tr("There is nothing to export: open an image first."))
            return
        name = self._places()[0].result_name

        def work(job: Job) -> str:
            run = self.parts.runner.engine.run(recipe, image, cancelled=job.cancelled)
            written = write_results(run, folder, name, path, outputs)
            return self.tr("{} files written to {}").format(len(written), folder)

        self.parts.runner.do(work, self.tr("writing to {}").format(folder.name))

    def _export_all(self, wish: ExportWish) -> None:
        """The same of every image of the list, with the summary of a run."""
        recipe = self.parts.study.recipe
        places = [entry.place for entry in self.parts.drawer.images.entries]
        batch = Batch(recipe, wish.folder, wish.outputs, kept=[place.path for place in places])

        def work(job: Job) -> str:
            failed: list[str] = []
            report = Report()
            records = run_all(batch, [places], report=report)
            try:
                for record in records:
                    failed += [record.failure] if record.failure else []
                    job.emit_progress(report.done / len(places), record.place.path.name)
                    if job.cancelled():
                        break
            finally:
                records.close()
            done = report.done - report.failed
            text = self.tr("{} of {} images written to {}").format(done, len(places), wish.folder)
            return "; ".join([text, *failed[:3], *report.failures])

        self.parts.runner.do(work, self.tr("writing to {}").format(wish.folder.name))

    def save_map_dialog(self) -> None:
        picture = self.parts.active_frame.pane.picture
        if picture is None:
            self.parts.show_failure(self.tr("There is no map to save: open an image first."))
            return
        kinds = f"{self.tr('Picture, with its range beside it')} (*.png);;{self.tr('Float TIFF')} (*.tif);;NumPy (*.npy)"
        path, _ = QFileDialog.getSaveFileName(self.parts, self.tr("Save this map"), f"{_file_name(picture.title)}.png", kinds)
        if path:
            self.save_map(Path(path if Path(path).suffix else f"{path}.png"))

    def save_map(self, path: Path) -> None:
        """Write the map of the active pane, a picture with the display range that it is shown with."""
        frame = self.parts.active_frame
        picture, found, study = frame.pane.picture, self.parts.study.detection, self.parts.study
        if picture is None:
            return
        images = dict(study.stages) | ({"prepared": study.prepared} if study.prepared is not None else {})
        image = study.image if frame.map_name == "source" else images.get(frame.map_name)
        evidence = found.evidence[frame.map_name] if found is not None and frame.map_name in found.evidence else None
        span = picture.low, picture.high

        def work(job: Job) -> str:
            if evidence is not None:
                write_map(path, evidence, span)
            elif image is not None:
                write_image(path, image)
            return self.tr("written to {}").format(path)

        self.parts.runner.do(work, self.tr("writing {}").format(path.name))

    def save_maps_dialog(self) -> None:
        folder = QFileDialog.getExistingDirectory(self.parts, self.tr("Folder for this map of every image"))
        if folder:
            self.save_maps(Path(folder))

    def save_maps(self, folder: Path, ending: str = "png") -> None:
        """Write the map of the active pane for every image of the list, or for the one that is open."""
        name, detector, recipe = self.parts.active_frame.map_name, self.parts.study.detector, self.parts.study.recipe
        places = [entry.place for entry in self.parts.drawer.images.entries]
        if not places and self.parts.study.image_path is not None:
            places = [
                Place(self.parts.study.image_path, self.parts.study.image.page if self.parts.study.image is not None else 0)
            ]
        if name == "source" or step_place(name) is not None or not places or not detector:
            self.parts.show_failure(
                self.tr("Choose a map of a detector, or what it was prepared to, and open image files first.")
            )
            return
        outputs = Outputs((), (f"{detector}.{name}",), ending)

        def work(job: Job) -> str:
            failed = []
            done = run_images(recipe, places, self.parts.runner.engine, job.cancelled)
            for number, one in enumerate(done):
                job.emit_progress(number / len(places), one.place.path.name)
                try:
                    if one.run is not None:
                        write_results(one.run, folder, one.place.result_name, one.place.path, outputs)
                    else:
                        failed.append(one.failure)
                except (FileError, ParameterError) as error:
                    failed.append(str(error))
            text = self.tr("{} maps written to {}").format(len(places) - len(failed), folder)
            return "; ".join([text, *failed[:3]])

        self.parts.runner.do(work, self.tr("writing to {}").format(folder.name))


def _file_name(title: str) -> str:
    """A title as part of a file's name."""
    return "_".join("".join(c if c.isalnum() else " " for c in title).split()) or "map"
