"""A part of the settings that is shown on request, under a button that says how much of it was changed."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QToolButton, QVBoxLayout, QWidget


class Fold(QWidget):
    """What is folded away; `button` opens and closes it."""

    toggled = Signal(bool)

    def __init__(self, unfolded: bool) -> None:
        super().__init__()
        self.content = QVBoxLayout(self)
        self.content.setContentsMargins(0, 0, 0, 0)
        self.content.setSpacing(6)
        self.button = QToolButton()
        self.button.setObjectName("fold")
        self.button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.button.setCheckable(True)
        self.button.setChecked(unfolded)
        self.button.setToolTip(self.tr("Parameters that are rarely changed"))
        self.button.toggled.connect(self._toggled)
        self._show(unfolded)

    def _toggled(self, unfolded: bool) -> None:
        self._show(unfolded)
        self.toggled.emit(unfolded)

    def _show(self, unfolded: bool) -> None:
        self.setVisible(unfolded)
        self.button.setArrowType(Qt.ArrowType.DownArrow if unfolded else Qt.ArrowType.RightArrow)

    def show_changed(self, count: int, changed: Sequence[str]) -> None:
        """How many parameters there are, and labels of those that are not at their defaults."""
        text = self.tr("{} more").format(count)
        self.button.setText(self.tr("{}, {} changed").format(text, len(changed)) if changed else text)
        self.button.setAccessibleName(self.button.text())
        names = self.tr("Changed: {}").format(", ".join(changed)) if changed else ""
        self.button.setToolTip("\n".join(filter(None, [self.tr("Parameters that are rarely changed"), names])))
