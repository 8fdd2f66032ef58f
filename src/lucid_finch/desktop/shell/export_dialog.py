"""Asks what is exported, of which images and where, and shows what would be written over."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QRadioButton,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.study.preferences import Preferences
from lucid_finch.pipeline.sinks import DEFAULT_OUTPUTS, OUTPUTS, Outputs, planned_files
from lucid_finch.pipeline.sources import SUMMARY_NAME, Place

_SHOWN = 4
"""Names of files that are listed."""


@dataclass(frozen=True)
class ExportWish:
    """What shall be written."""

    folder: Path
    outputs: Outputs
    everything: bool
    """Whether of all images of the list."""


class ExportDialog(QDialog):
    """Begins with what was chosen the last time."""

    def __init__(self, parent: QWidget, recipe: Recipe, places: Sequence[Place], preferences: Preferences) -> None:
        """`places`: the image that is open, then the images of the list."""
        super().__init__(parent)
        self.setWindowTitle(self.tr("Export"))
        self._recipe, self._places, self._preferences = recipe, places, preferences
        layout = QVBoxLayout(self)
        layout.setSpacing(6)
        self.kinds: dict[str, QCheckBox] = {}
        before = preferences.export.get("outputs", list(DEFAULT_OUTPUTS))
        layout.addWidget(self._heading(self.tr("WHAT")))
        for kind, text in (
            ("findings", self.tr("Findings with near misses and outlines (JSON)")),
            ("csv", self.tr("A table per detector (CSV)")),
            ("parquet", self.tr("A table per detector (Parquet)")),
            ("annotated", self.tr("The picture with marks (PNG)")),
            ("svg", self.tr("Marks over the picture (SVG)")),
            ("maps", self.tr("Main evidence maps of each detector (PNG)")),
            ("crops", self.tr("Squares of 32 px around findings (TIFF pages)")),
        ):
            assert kind in OUTPUTS
            box = QCheckBox(text)
            box.setChecked(kind in before)
            box.toggled.connect(self._show)
            self.kinds[kind] = box
            layout.addWidget(box)
        layout.addWidget(self._heading(self.tr("OF")))
        self.one = QRadioButton(self.tr("This image: {}").format(places[0].result_name))
        self.all = QRadioButton(self.tr("All {} images of the list").format(len(places) - 1))
        self.one.setChecked(True)
        self.all.setVisible(len(places) > 2)
        self.all.toggled.connect(self._show)
        layout.addWidget(self.one)
        layout.addWidget(self.all)
        layout.addWidget(self._heading(self.tr("WHERE")))
        row = QHBoxLayout()
        self.folder = QLineEdit((preferences.export.get("folder") or [str(Path.home())])[0])
        self.folder.setAccessibleName(self.tr("Folder"))
        self.folder.textChanged.connect(self._show)
        browse = QPushButton(self.tr("Choose..."))
        browse.clicked.connect(self._browse)
        row.addWidget(self.folder, 1)
        row.addWidget(browse)
        layout.addLayout(row)
        self.about = QLabel()
        self.about.setWordWrap(True)
        self.about.setMinimumHeight(4 * self.fontMetrics().lineSpacing())
        self.about.setAlignment(Qt.AlignmentFlag.AlignTop)
        layout.addWidget(self.about)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.write = self.buttons.addButton(self.tr("Export"), QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        layout.addWidget(self.buttons)
        self.setMinimumWidth(460)
        self._show()

    @staticmethod
    def _heading(text: str) -> QLabel:
        label = QLabel(text)
        label.setObjectName("heading")
        return label

    def _browse(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, self.tr("Folder for the results"), self.folder.text())
        if folder:
            self.folder.setText(folder)

    def wish(self) -> ExportWish:
        """What is chosen now."""
        chosen = tuple(kind for kind, box in self.kinds.items() if box.isChecked())
        # What would be written over was shown.
        return ExportWish(Path(self.folder.text()).expanduser(), Outputs(chosen, overwrite=True), self.all.isChecked())

    def written_over(self) -> list[str]:
        """Names of the files in the folder that would be replaced."""
        wish = self.wish()
        places = self._places[1:] if wish.everything else self._places[:1]
        names = [name for place in places for name in planned_files(self._recipe, place.result_name, wish.outputs)]
        names += [SUMMARY_NAME] if wish.everything else []
        return [name for name in names if (wish.folder / name).exists()]

    def _show(self) -> None:
        wish = self.wish()
        usable = bool(wish.outputs.kinds) and bool(self.folder.text().strip())
        over = self.written_over() if usable else []
        if not wish.outputs.kinds:
            text = self.tr("Nothing is chosen.")
        elif not usable:
            text = self.tr("Choose a folder.")
        elif over:
            listed = ", ".join(over[:_SHOWN]) + (self.tr(" and {} more").format(len(over) - _SHOWN) if len(over) > _SHOWN else "")
            text = self.tr("Replaces {} files: {}").format(len(over), listed)
        else:
            text = self.tr("No file is replaced.")
        self.about.setText(text)
        self.about.setObjectName("bad" if over else "quiet")
        self.about.style().unpolish(self.about)
        self.about.style().polish(self.about)
        self.write.setEnabled(usable)
        self.write.setText(self.tr("Replace and export") if over else self.tr("Export"))

    def accept(self) -> None:
        """Remember what was chosen."""
        wish = self.wish()
        self._preferences.export = {"outputs": list(wish.outputs.kinds), "folder": [self.folder.text()]}
        super().accept()
