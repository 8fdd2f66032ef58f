"""The recipe cards: one for the source, each preparation step and each detector, with their menus."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction, QContextMenuEvent, QKeyEvent, QMouseEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QScrollArea,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from lucid_finch.core.detectors import KINDS
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.prepare import STEPS, step_of
from lucid_finch.desktop.study.study import SOURCE, Study, step_place
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.labels import Elided


class Card(QFrame):
    """A card that can be chosen with the pointer or the keyboard."""

    chosen = Signal()
    switched = Signal(bool)
    renamed = Signal(str)
    menu_wanted = Signal(object)
    """Where it shall open, on the screen."""
    stepped = Signal(int)
    """To the card below (1) or above (-1)."""

    def __init__(self, name: str, fixed: bool = False) -> None:
        """A `fixed` card cannot be switched off or moved."""
        super().__init__()
        self.setObjectName("card")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(name)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 2, 3, 2)
        layout.setSpacing(0)
        head = QHBoxLayout()
        head.setSpacing(5)
        self.on = QCheckBox()
        self.on.setToolTip(self.tr("Switched on: what is off stays in the recipe and does nothing."))
        self.on.setAccessibleName(self.tr("{} switched on").format(name))
        self.on.setVisible(not fixed)
        self.on.clicked.connect(self.switched)
        self.name = Elided(name)
        self.name.setObjectName("title")
        self.field = QLineEdit()
        self.field.setObjectName("rename")
        self.field.setAccessibleName(self.tr("Name"))
        self.field.hide()
        self.field.editingFinished.connect(self._end_rename)
        self.brief = Elided("")
        self.brief.setObjectName("quiet")
        self.brief.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.count = QLabel()
        self.count.setObjectName("title")
        self.misses = QLabel()
        self.misses.setObjectName("quiet")
        self.more = QToolButton()
        self.more.setObjectName("bare")
        self.more.setText("⋮")
        self.more.setToolTip(self.tr("What can be done with this card"))
        self.more.setAccessibleName(self.tr("Actions for {}").format(name))
        self.more.setVisible(not fixed)
        self.more.clicked.connect(lambda: self.menu_wanted.emit(self.more.mapToGlobal(self.more.rect().bottomLeft())))
        head.addWidget(self.on)
        head.addWidget(self.name)
        # The name has the room that it needs, the rest is for what it is.
        self.brief.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        head.addWidget(self.field, 1)
        head.addWidget(self.brief, 1)
        head.addWidget(self.count)
        head.addWidget(self.misses)
        head.addWidget(self.more)
        self.about = QLabel()
        self.about.setObjectName("quiet")
        self.about.setWordWrap(True)
        layout.addLayout(head)
        layout.addWidget(self.about)

    def show_state(
        self, brief: str, about: str = "", counts: tuple[str, str] = ("", ""), wrong: bool = False, on: bool = True, tip: str = ""
    ) -> None:
        """What it is in a word or two, what has to be said besides, findings and near misses."""
        self.brief.setText(brief)
        self.about.setText(about)
        self.about.setVisible(bool(about))
        self.setToolTip(tip)
        self.setAccessibleDescription(tip or brief)
        name = "bad" if wrong else "quiet"
        if self.about.objectName() != name:
            self.about.setObjectName(name)
            self.about.style().unpolish(self.about)
            self.about.style().polish(self.about)
        self.count.setText(counts[0])
        self.misses.setText(counts[1])
        self.misses.setVisible(bool(counts[1]) and self.field.isHidden())
        self.on.setChecked(on)
        self.name.setEnabled(on)

    def show_chosen(self, chosen: bool) -> None:
        if self.property("chosen") == chosen:
            return
        self.setProperty("chosen", chosen)
        self.style().unpolish(self)
        self.style().polish(self)

    def start_rename(self) -> None:
        self.field.setText(self.name.text())
        # The field has the whole row, which stays as high as it is.
        self.field.setFixedHeight(self.name.height())
        for shown in (self.name, self.brief, self.count, self.misses):
            shown.hide()
        self.field.show()
        self.field.selectAll()
        self.field.setFocus()

    def _end_rename(self) -> None:
        if not self.field.isHidden():
            self.field.hide()
            for shown in (self.name, self.brief, self.count):
                shown.show()
            self.misses.setVisible(bool(self.misses.text()))
            self.setFocus()
            if self.field.text().strip() != self.name.text():
                self.renamed.emit(self.field.text())

    @guarded
    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.chosen.emit()

    @guarded
    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.chosen.emit()
        if self.more.isVisible():
            self.menu_wanted.emit(event.globalPos())

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self.field.isHidden():
            self.stepped.emit(1 if event.key() == Qt.Key.Key_Down else -1)
        elif event.key() == Qt.Key.Key_Escape and not self.field.isHidden():
            self.field.setText(self.name.text())
            self._end_rename()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self.field.isHidden():
            self.chosen.emit()
        else:
            super().keyPressEvent(event)


class RecipeCards(QWidget):
    """Follows the study."""

    refused = Signal(str)
    kinds_wanted = Signal()
    """What each kind of detector finds shall be shown."""

    def __init__(self, study: Study) -> None:
        super().__init__()
        self.setObjectName("column")
        self.study = study
        self.cards: dict[str, Card] = {}
        outer = QVBoxLayout(self)
        outer.setContentsMargins(10, 8, 8, 6)
        outer.setSpacing(4)
        head = QHBoxLayout()
        heading = QLabel(self.tr("RECIPE"))
        heading.setObjectName("heading")
        head.addWidget(heading, 1)
        outer.addLayout(head)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setAccessibleName(self.tr("Cards of the recipe"))
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        page = QWidget()
        self._layout = QVBoxLayout(page)
        self._layout.setContentsMargins(0, 0, 2, 0)
        self._layout.setSpacing(3)
        self.add_step = self._adding(
            self.tr("+ Step"), self.tr("A preparation step that changes the image before every detector"),
            {name: step.purpose for name, step in STEPS.items()}, study.add_step,
        )  # fmt: skip
        self.add_detector = self._adding(
            self.tr("+ Detector"), self.tr("Add another detector"),
            {kind: detector.purpose for kind, detector in KINDS.items()}, study.add_detector,
        )  # fmt: skip
        for button in (self.add_step, self.add_detector):
            head.addWidget(button)
        self.merged = QLabel()
        self.merged.setObjectName("about")
        self.merged.setWordWrap(True)
        self.merged.setToolTip(self.tr("What more than one detector found is listed once, as the most significant finding"))
        self._layout.addWidget(self.merged)
        menu = self.add_detector.menu()
        menu.insertAction(menu.actions()[0], look := QAction(self.tr("Show what each finds on this image"), menu))
        menu.insertSeparator(menu.actions()[1])
        look.triggered.connect(self.kinds_wanted)
        self._layout.addStretch(1)
        scroll.setWidget(page)
        outer.addWidget(scroll, 1)
        for signal in (study.recipe_changed, study.image_changed, study.chosen_changed):
            signal.connect(self.refresh)
        study.detection_changed.connect(lambda name: self.refresh())
        self.failures: dict[str, str] = {}
        """Card to what went wrong there."""
        self.refresh()

    def _adding(self, text: str, tip: str, offered: dict[str, str], add: Callable[[str], None]) -> QToolButton:
        button = QToolButton()
        button.setObjectName("tight")
        button.setText(text)
        button.setToolTip(tip)
        button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(button)
        for name, purpose in offered.items():
            menu.addAction(f"{name}: {purpose}", partial(add, name))
        button.setMenu(menu)
        return button

    def do(self, what: Callable[[], None]) -> None:
        """Do something to a card; what is not allowed is shown."""
        try:
            what()
        except ParameterError as error:
            self.refused.emit(str(error))
            self.refresh()

    def do_to_chosen(self, what: Callable[[], None]) -> None:
        """Do something to the selected card; the source has none of these."""
        if self.study.chosen != SOURCE:
            self.do(what)

    def rename_chosen(self) -> None:
        card = self.study.chosen
        if card in self.cards and card != SOURCE and step_place(card) is None:
            self.cards[card].start_rename()

    def _step(self, card: str, by: int) -> None:
        names = list(self.cards)
        name = names[min(max(names.index(card) + by, 0), len(names) - 1)]
        self.study.choose(name)
        self.cards[name].setFocus()

    def card_menu(self, card: str) -> QMenu:
        """What can be done with a card; the same is in the list of all actions, for the selected one."""
        study = self.study
        menu = QMenu(self)
        if step_place(card) is None:
            menu.addAction(self.tr("Rename"), lambda: self.cards[card].start_rename())
            own = menu.addMenu(self.tr("Own preparation"))
            own.setToolTipsVisible(True)
            for name, step in STEPS.items():
                own.addAction(name, partial(study.add_step, name, card)).setToolTip(step.purpose)
            others = [entry.name for entry in study.recipe.detectors if entry.name != card]
            merge = menu.addMenu(self.tr("Merge findings with"))
            merge.setEnabled(bool(others))
            for other in others:
                action = merge.addAction(other)
                action.setCheckable(True)
                action.setChecked(other in study.merges(card))
                action.triggered.connect(lambda on, other=other: self.do(lambda: study.merge(card, other, on)))
        menu.addAction(self.tr("Duplicate"), lambda: self.do(lambda: study.duplicate(card)))
        menu.addAction(self.tr("Move up"), lambda: self.do(lambda: study.move(card, -1)))
        menu.addAction(self.tr("Move down"), lambda: self.do(lambda: study.move(card, 1)))
        on = study.is_on(card)
        menu.addAction(self.tr("Switch off") if on else self.tr("Switch on"), lambda: self.do(lambda: study.switch(card, not on)))
        menu.addSeparator()
        menu.addAction(self.tr("Remove"), lambda: self.do(lambda: study.remove(card)))
        return menu

    def refresh(self) -> None:
        wanted = self.study.cards
        if wanted != list(self.cards):
            self._build(wanted)
        image = self.study.image
        if image is None:
            self.cards[SOURCE].show_state(self.tr("no image yet"))
        else:
            kind = "RGB" if image.is_colour else self.tr("grey")
            self.cards[SOURCE].show_state(
                f"{image.width} × {image.height} {kind} {8 * image.pixels.itemsize} bit", tip=image.name
            )
        for name, card in self.cards.items():
            place = step_place(name)
            if place is not None:
                step = self.study.steps_of(place[0])[place[1]]
                card.name.setText(str(step["step"]))
                card.show_state(step_of(step["step"]).summary(step), on=bool(step.get("on", True)))
        for entry in self.study.recipe.detectors:
            card = self.cards[entry.name]
            found = self.study.detections.get(entry.name)
            if found is None:
                card.show_state(entry.kind if entry.on else self.tr("{}, off").format(entry.kind), on=entry.on)
                continue
            near = len(found.near_misses)
            misses = self.tr("{} near miss") if near == 1 else self.tr("{} near misses")
            unmet = entry.unmet(found)
            count = len(found.findings)
            findings = self.tr("{} finding") if count == 1 else self.tr("{} findings")
            tip = f"{entry.kind}: {findings.format(count)}, {misses.format(near)}, {found.seconds * 1000:.0f} ms"
            known = found.task.image.notes if found.task.image is not None else ()
            notes = [note for note in found.notes if note not in known]
            outside = [note for note in notes if note.startswith("the region")]
            about = [found.fit_text] if found.fit is not None else []
            # The reason is in the tip: it has numbers, which change from frame to frame.
            about += [note.split(", since ")[0] for note in notes[:2]]
            tip = "\n".join([tip, *notes])
            if unmet:
                about.append(self.tr("{} {}, expected {}").format(unmet[0].what, unmet[0].measured, unmet[0].expected))
            brief = entry.kind if entry.kind != entry.name else ""
            counts = str(count), f"+{near}" if near else ""
            card.show_state(brief, "\n".join(about), counts, wrong=bool(unmet or outside), tip=tip)
        for name, text in self.failures.items():
            if name in self.cards:
                self.cards[name].show_state("", text, ("!", ""), wrong=True, on=self.study.is_on(name))
        for name, card in self.cards.items():
            card.show_chosen(name == self.study.chosen)
        self.merged.setText("\n".join(self._merged_texts()))
        self.merged.setVisible(bool(self.merged.text()))

    def _merged_texts(self) -> list[str]:
        """What each group of merged detectors comes to."""
        texts = []
        for group, merged in self.study.merged():
            name = " + ".join(group)
            if merged is None:
                texts.append(self.tr("{}: merged when the recipe is run").format(name))
            else:
                texts.append(self.tr("{}: {} merged, {} duplicates").format(name, len(merged.findings), merged.duplicates))
        return texts

    def _build(self, wanted: list[str]) -> None:
        # A name that is being typed would die with its card.
        for card in self.cards.values():
            self._layout.removeWidget(card)
            card.hide()
            card.deleteLater()
        self.cards = {}
        for place, name in enumerate(wanted):
            card = Card(self.tr("Source") if name == SOURCE else self.study.title(name), fixed=name == SOURCE)
            step = step_place(name)
            if step is not None and step[0]:
                # What belongs to one detector alone hangs below it.
                card.setContentsMargins(14, 0, 0, 0)
            card.chosen.connect(partial(self.study.choose, name))
            card.switched.connect(lambda on, n=name: self.do(lambda: self.study.switch(n, on)))
            card.renamed.connect(lambda text, n=name: self.do(lambda: self.study.rename(n, text)))
            card.menu_wanted.connect(lambda at, n=name: self.card_menu(n).popup(at))
            card.stepped.connect(partial(self._step, name))
            self.cards[name] = card
            self._layout.insertWidget(place, card)
