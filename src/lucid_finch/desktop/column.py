"""The recipe column: cards for the source, the shared preparation and each detector."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from lucid_finch.desktop.document import Study
from lucid_finch.desktop.guard import guarded


class Card(QFrame):
    """A card that can be chosen with the pointer or the keyboard."""

    chosen = Signal()

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(11, 7, 11, 8)
        layout.setSpacing(1)
        head = QHBoxLayout()
        self.name = Elided(name)
        self.name.setObjectName("title")
        self.count = QLabel()
        self.count.setObjectName("title")
        head.addWidget(self.name, 1)
        head.addWidget(self.count)
        self.about = QLabel()
        self.about.setObjectName("quiet")
        self.about.setWordWrap(True)
        layout.addLayout(head)
        layout.addWidget(self.about)

    def show_state(self, about: str, count: str = "", wrong: bool = False) -> None:
        self.about.setText(about)
        name = "bad" if wrong else "quiet"
        if self.about.objectName() != name:
            self.about.setObjectName(name)
            self.about.style().unpolish(self.about)
            self.about.style().polish(self.about)
        self.count.setText(count)

    def show_chosen(self, chosen: bool) -> None:
        if self.property("chosen") == chosen:
            return
        self.setProperty("chosen", chosen)
        self.style().unpolish(self)
        self.style().polish(self)

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.chosen.emit()

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.chosen.emit()
        else:
            super().keyPressEvent(event)


class Elided(QLabel):
    """A label that shortens its text to the room there is; the whole text is its tooltip."""

    def minimumSizeHint(self) -> QSize:
        return QSize(20, super().minimumSizeHint().height())

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        from PySide6.QtGui import QPainter

        painter = QPainter(self)
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideMiddle, self.width())
        self.setToolTip(self.text() if text != self.text() else "")
        painter.drawText(self.rect(), self.alignment() | Qt.AlignmentFlag.AlignVCenter, text)
        painter.end()


class RecipeColumn(QWidget):
    """Follows the study."""

    def __init__(self, study: Study) -> None:
        super().__init__()
        self.setObjectName("column")
        self.study = study
        self.cards: dict[str, Card] = {}
        outer = QVBoxLayout(self)
        outer.setContentsMargins(10, 12, 10, 8)
        heading = QLabel(self.tr("RECIPE"))
        heading.setObjectName("heading")
        outer.addWidget(heading)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        page = QWidget()
        self._layout = QVBoxLayout(page)
        self._layout.setContentsMargins(0, 4, 0, 0)
        self._layout.setSpacing(8)
        self._layout.addStretch(1)
        scroll.setWidget(page)
        outer.addWidget(scroll, 1)
        for signal in (study.recipe_changed, study.image_changed, study.chosen_changed):
            signal.connect(self.refresh)
        study.detection_changed.connect(lambda name: self.refresh())
        self.failures: dict[str, str] = {}
        """Card to what went wrong there."""
        self.refresh()

    def refresh(self) -> None:
        wanted = ["source", "preparation", *(entry.name for entry in self.study.recipe.detectors)]
        if wanted != list(self.cards):
            for card in self.cards.values():
                self._layout.removeWidget(card)
                card.deleteLater()
            titles = {"source": self.tr("Source"), "preparation": self.tr("Preparation")}
            self.cards = {name: Card(titles.get(name, name)) for name in wanted}
            for number, (name, card) in enumerate(self.cards.items()):
                card.chosen.connect(lambda n=name: self.study.choose(n))
                self._layout.insertWidget(number, card)
        image = self.study.image
        if image is None:
            self.cards["source"].show_state(self.tr("no image yet"))
        else:
            kind = "RGB" if image.is_colour else self.tr("grey")
            self.cards["source"].show_state(f"{image.width} × {image.height} · {kind} · {8 * image.pixels.itemsize} bit")
        steps = self.study.recipe.prepare
        self.cards["preparation"].show_state(" → ".join(_step_text(s.plain()) for s in steps) or self.tr("none"))
        for entry in self.study.recipe.detectors:
            card = self.cards[entry.name]
            found = self.study.detections.get(entry.name)
            if found is None:
                card.show_state(entry.kind)
                continue
            near = len(found.near_misses)
            misses = self.tr("{} near miss") if near == 1 else self.tr("{} near misses")
            card.show_state(
                f"{entry.kind} · {misses.format(near)} · {found.seconds * 1000:.0f}\u00a0ms", str(len(found.findings))
            )
        for name, text in self.failures.items():
            if name in self.cards:
                self.cards[name].show_state(text, "!", wrong=True)
        for name, card in self.cards.items():
            card.show_chosen(name == self.study.chosen)


def _step_text(step: dict[str, object]) -> str:
    name = str(step["step"])
    if name == "channel":
        return str(step["take"])
    if name == "smooth":
        return f"smooth {step['sigma']:g} px" if step["method"] == "gaussian" else f"{step['method']} {step['size']} px"
    return name
