"""The Enter key on buttons outside dialogs: Qt presses them by the space bar only."""

from __future__ import annotations

from PySide6.QtWidgets import QAbstractButton, QToolButton, QWidget


def press_button(widget: QWidget | None) -> None:
    """Do what a click on the button does, which may be to open its menu; another widget is left alone."""
    if not isinstance(widget, QAbstractButton) or not widget.isEnabled():
        return
    opens = isinstance(widget, QToolButton) and widget.popupMode() == QToolButton.ToolButtonPopupMode.InstantPopup
    if opens and isinstance(widget, QToolButton):
        widget.showMenu()
    else:
        widget.click()
