"""Lists what windows that crashed have left, with time, image and picture, until each is recovered or discarded."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QDialog, QFrame, QGridLayout, QLabel, QMessageBox, QPushButton, QScrollArea, QVBoxLayout, QWidget

from lucid_finch.desktop.study.autosave import Leftover

_PICTURE = 96
"""px of the side of a picture."""


class RecoveryDialog(QDialog):
    """Stays beside the work; what is not answered is offered again at the next start."""

    recovered = Signal(object)
    discarded = Signal(object)

    def __init__(self, parent: QWidget, left: Sequence[Leftover]) -> None:
        super().__init__(parent)
        self.setWindowTitle(self.tr("Unsaved work"))
        self.ask_discard: Callable[[Leftover], bool] = self._ask_discard
        self.rows: dict[str, QFrame] = {}
        layout = QVBoxLayout(self)
        heading = QLabel(self.tr("These windows did not end as they should. Their changes were kept."))
        heading.setWordWrap(True)
        layout.addWidget(heading)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        inner = QWidget()
        self._list = QVBoxLayout(inner)
        for leftover in left:
            self._add(leftover)
        self._list.addStretch(1)
        area.setWidget(inner)
        layout.addWidget(area, 1)
        later = QPushButton(self.tr("Decide later"))
        later.clicked.connect(self.close)
        layout.addWidget(later, 0, Qt.AlignmentFlag.AlignRight)
        self.resize(560, min(130 + 120 * len(left), 520))

    def _add(self, leftover: Leftover) -> None:
        row = QFrame()
        row.setObjectName("card")
        grid = QGridLayout(row)
        picture = QLabel(self.tr("no image"))
        picture.setFixedSize(_PICTURE, _PICTURE)
        picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        pixmap = QPixmap()
        if leftover.thumbnail and pixmap.loadFromData(leftover.thumbnail):
            mode = Qt.TransformationMode.SmoothTransformation
            picture.setPixmap(pixmap.scaled(_PICTURE, _PICTURE, Qt.AspectRatioMode.KeepAspectRatio, mode))
        grid.addWidget(picture, 0, 0, 3, 1)
        name = QLabel(leftover.recipe.name or self.tr("untitled"))
        name.setObjectName("title")
        grid.addWidget(name, 0, 1, 1, 2)
        image = leftover.image_name or (leftover.image_path.name if leftover.image_path is not None else self.tr("no image"))
        about = QLabel(f"{image}  \u00b7  {time.strftime('%Y-%m-%d %H:%M', time.localtime(leftover.saved))}")
        about.setObjectName("quiet")
        about.setToolTip(str(leftover.image_path or ""))
        grid.addWidget(about, 1, 1, 1, 2)
        recover, discard = QPushButton(self.tr("Recover")), QPushButton(self.tr("Discard..."))
        recover.setAccessibleName(self.tr("Recover {}").format(name.text()))
        discard.setAccessibleName(self.tr("Discard {}").format(name.text()))
        recover.clicked.connect(lambda: self.recovered.emit(leftover))
        discard.clicked.connect(lambda: self.discard(leftover))
        grid.addWidget(recover, 2, 1)
        grid.addWidget(discard, 2, 2)
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(2, 1)
        self.rows[str(leftover.path)] = row
        self._list.addWidget(row)

    def discard(self, leftover: Leftover) -> None:
        """Delete kept work, after asking."""
        if self.ask_discard(leftover):
            self.discarded.emit(leftover)
            self.remove(leftover)

    def remove(self, leftover: Leftover) -> None:
        """One that is answered; the last one closes the list."""
        row = self.rows.pop(str(leftover.path), None)
        if row is not None:
            row.deleteLater()
        if not self.rows:
            self.close()

    def _ask_discard(self, leftover: Leftover) -> bool:
        buttons = QMessageBox.StandardButton
        name = leftover.recipe.name or self.tr("untitled")
        answer = QMessageBox.question(
            self, self.tr("Discard unsaved work"), self.tr('Delete the kept changes of "{}"?').format(name),
            buttons.Discard | buttons.Cancel, buttons.Cancel,
        )  # fmt: skip
        return answer == buttons.Discard
