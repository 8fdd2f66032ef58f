"""The answer to "why?": a card over the pane with criteria, and a button for each change that would admit a candidate."""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from lucid_finch.core.explanation.explaining import Explanation, Near
from lucid_finch.core.explanation.proposing import Change
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme

WIDTH = 350


class ExplanationCard(QFrame):
    """Lies over the panes; Escape or the cross closes it."""

    wanted = Signal(dict)
    """Parameter values to apply."""
    previewed = Signal(object)
    """The `Change` under the pointer, or None."""
    closed = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._over = parent
        self.setObjectName("note")
        self.setFixedWidth(WIDTH)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(13, 9, 13, 11)
        self._layout.setSpacing(5)
        self._content: QWidget | None = None
        self.explanation: Explanation | None = None
        self._changes: dict[QPushButton, Change] = {}
        self.hide()

    def show_answer(self, answer: Explanation, near_x: int, near_y: int, looking: bool = False) -> None:
        """Beside a place of the parent; `looking`: a change that helps is still looked for."""
        self.explanation = answer
        self._changes.clear()
        if self._content is not None:
            self._layout.removeWidget(self._content)
            self._content.deleteLater()
        self._content = QWidget()
        layout = QVBoxLayout(self._content)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        head = QHBoxLayout()
        title = QLabel(self.tr("Why? ({:.0f}, {:.0f}) px").format(*answer.at))
        title.setObjectName("title")
        head.addWidget(title, 1)
        cross = QPushButton("×")
        cross.setObjectName("bare")
        cross.setAccessibleName(self.tr("Close"))
        cross.clicked.connect(self.put_away)
        head.addWidget(cross)
        layout.addLayout(head)
        summary = QLabel(answer.summary[0].upper() + answer.summary[1:] + ".")
        summary.setWordWrap(True)
        # A layout that is asked for its size does not ask what text needs that is broken into lines.
        margins = self._layout.contentsMargins()
        summary.setMinimumHeight(summary.heightForWidth(WIDTH - margins.left() - margins.right() - 2 * self.frameWidth()))
        layout.addWidget(summary)
        for near in answer.candidates[:2]:
            self._add_candidate(layout, near)
        if answer.change is not None:
            layout.addWidget(self._change_button(answer.change))
        if looking:
            still = QLabel(self.tr("Looking for a change that helps …"))
            still.setObjectName("quiet")
            layout.addWidget(still)
        self._layout.addWidget(self._content)
        self._content.show()
        parent = self._over
        # As wide as the rows of criteria need, with large text too.
        needed = self._content.minimumSizeHint().width() + margins.left() + margins.right() + 2 * self.frameWidth()
        self.setFixedWidth(min(max(WIDTH, needed), parent.width() - 12))
        self.adjustSize()
        x = min(max(near_x + 18, 6), max(parent.width() - self.width() - 6, 6))
        y = min(max(near_y + 12, 6), max(parent.height() - self.height() - 6, 6))
        self.move(x, y)
        self.show()
        self.raise_()

    def _add_candidate(self, layout: QVBoxLayout, near: Near) -> None:
        theme = current_theme()
        what = f"{self.tr('finding')} {near.id}" if near.id else self.tr("candidate, {}").format(near.outcome)
        head = QLabel(self.tr("{}, {:.1f} px away").format(what, near.distance))
        head.setObjectName("quiet")
        layout.addWidget(head)
        grid = QGridLayout()
        grid.setHorizontalSpacing(9)
        grid.setVerticalSpacing(1)
        for row, c in enumerate(near.criteria):
            grid.addWidget(QLabel(c.label), row, 0)
            # A long unit stands with the limit alone.
            unit = c.limit_text.partition(" ")[2]
            measured = c.measured_text.removesuffix(unit).rstrip() if len(unit) > 4 else c.measured_text
            grid.addWidget(QLabel(measured), row, 1)
            wanted = QLabel(f"{c.sense} {c.limit_text}")
            wanted.setObjectName("quiet")
            grid.addWidget(wanted, row, 2)
            verdict = QLabel(f'<b style="color:{theme.good if c.passed else theme.bad}">{"passed" if c.passed else "failed"}</b>')
            grid.addWidget(verdict, row, 3)
        layout.addLayout(grid)
        if near.change is not None:
            layout.addWidget(self._change_button(near.change))
        elif near.unchanged:
            why = QLabel(near.unchanged[0].upper() + near.unchanged[1:] + ".")
            why.setObjectName("quiet")
            why.setWordWrap(True)
            layout.addWidget(why)

    def _change_button(self, change: Change) -> QPushButton:
        button = self._button(change.text, change.values)
        button.installEventFilter(self)
        self._changes[button] = change
        return button

    def _button(self, text: str, values: dict[str, object]) -> QPushButton:
        button = QPushButton()
        label = QLabel(text, button)
        label.setWordWrap(True)
        label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        inner = QVBoxLayout(button)
        inner.setContentsMargins(9, 5, 9, 5)
        inner.addWidget(label)
        button.setMinimumHeight(label.heightForWidth(WIDTH - 48) + 12)
        button.setAccessibleName(text)
        button.clicked.connect(lambda: self.wanted.emit(values))
        return button

    @guarded
    def eventFilter(self, watched: object, event: object) -> bool:
        if isinstance(event, QEvent) and isinstance(watched, QPushButton):
            if event.type() in (QEvent.Type.Enter, QEvent.Type.FocusIn):
                self.previewed.emit(self._changes.get(watched))
            elif event.type() in (QEvent.Type.Leave, QEvent.Type.FocusOut):
                self.previewed.emit(None)
        return False

    def put_away(self) -> None:
        if self.isVisible():
            self.hide()
            self.previewed.emit(None)
            self.closed.emit()

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.put_away()
        else:
            super().keyPressEvent(event)
