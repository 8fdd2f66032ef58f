"""What the keyboard does beyond Qt's own: Enter presses buttons, and the focus goes from one part of a window to the next."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractButton, QAbstractItemView, QApplication, QToolButton, QWidget


def press_button(widget: QWidget | None) -> None:
    """Do what a click on the button does, which may be to open its menu; another widget is left alone."""
    if not isinstance(widget, QAbstractButton) or not widget.isEnabled():
        return
    opens = isinstance(widget, QToolButton) and widget.popupMode() == QToolButton.ToolButtonPopupMode.InstantPopup
    if opens and isinstance(widget, QToolButton):
        widget.showMenu()
    else:
        widget.click()


def focus_part(parts: Sequence[QWidget], by: int) -> None:
    """Give the focus to the part after (1) or before (-1) the one that has it; parts out of sight are left out."""
    shown = [(part, stop) for part in parts if part.isVisible() and (stop := _first_stop(part)) is not None]
    if not shown:
        return
    focus = QApplication.focusWidget()
    here = [n for n, (part, _) in enumerate(shown) if focus is not None and (part is focus or part.isAncestorOf(focus))]
    start = here[0] if here else (-1 if by > 0 else 0)
    shown[(start + by) % len(shown)][1].setFocus(Qt.FocusReason.TabFocusReason)


def _first_stop(part: QWidget) -> QWidget | None:
    """Where the focus goes in a part: what is chosen in it, a table, else the first widget that Tab stops at."""
    stops = [w for w in (part, *part.findChildren(QWidget)) if w.isVisible() and w.isEnabled() and _is_stop(w)]
    chosen = [w for w in stops if w.property("chosen")]
    tables = [w for w in stops if isinstance(w, QAbstractItemView)]
    return next(iter(chosen or tables or stops), None)


def _is_stop(widget: QWidget) -> bool:
    return bool(widget.focusPolicy() & Qt.FocusPolicy.TabFocus)
