"""Parameter sweep: the results at several values of one parameter, as small pictures with counts; a click applies a value."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QRect, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from lucid_finch.core.detectors import KINDS, detector_of
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.execution.engine import Detected, Engine, Failed, StepDone
from lucid_finch.core.execution.plan import Plan
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.rendering.viewing import strokes, tint
from lucid_finch.core.parameters import Declaration
from lucid_finch.core.prepare import step_of
from lucid_finch.core.prepare.step import PreparationStep
from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.recipe_panel.count_views import CountCurve, CountGrid
from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.study.study import SOURCE, Study, step_place
from lucid_finch.desktop.study.worker import Coordinator, Job
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme, mark_colour

WIDTH, HEIGHT = 176, 118
_MOST_A_SIDE = 8
"""Values of each parameter of a grid."""
_KINDS = "+ kind"
"""Stands for a parameter where kinds of detectors are compared."""


@dataclass
class Sample:
    """One value and its result."""

    value: Any
    title: str
    pixels: NDArray[np.uint32] | None = None
    text: str = ""


@dataclass(frozen=True)
class Look:
    """What of the results is shown."""

    map_name: str = "source"
    """The map of the active pane."""
    box: tuple[float, float, float, float] | None = None
    """The part of the source that the active pane shows; None: all of it."""
    marks: bool = True


def thumbnail_of(
    picture: Picture, marks: Sequence[Marks], box: tuple[float, float, float, float] | None = None
) -> NDArray[np.uint32]:
    """A small picture of a map, or of a part of it, with marks over it."""
    out = np.empty((HEIGHT, WIDTH), np.uint32)
    left, top, right, bottom = box or picture.box
    scale = min(WIDTH / (right - left), HEIGHT / (bottom - top))
    x, y = (left + right) / 2 - WIDTH / scale / 2, (top + bottom) / 2 - HEIGHT / scale / 2
    picture.draw(x, y, scale, out)
    line, halo = np.zeros(out.shape, np.uint8), np.zeros(out.shape, np.uint8)
    for one in marks:
        rows = np.arange(len(one.start) - 1)
        strokes(one.points, x, y, scale, one.start, rows, one.closed, 0.0, 0.6, 1.1, line, halo)
        tint(halo, 13, 15, 16, 0.5, out)
        tint(line, one.colour.red(), one.colour.green(), one.colour.blue(), 1.0, out)
    return out


@dataclass(frozen=True)
class Question:
    """What is compared: one parameter of one card, on the image that is open."""

    image: Image
    recipe: Recipe
    detector: str
    place: tuple[str, int] | None
    """Owner and number of the preparation step whose result is shown; None: the source is, under the findings."""
    colour: QColor
    look: Look = Look()


def answered(
    engine: Engine, asked: Question, recipe: Recipe, cancelled: Callable[[], bool]
) -> tuple[NDArray[np.uint32] | None, str]:
    """Picture and words of what `recipe` gives; words alone if it is refused."""
    image, marks, text = asked.image, [], ""
    seen: Picture | None = None
    # The owner of the step runs too: its preparation is what is shown.
    only = {asked.detector, asked.place[0] if asked.place is not None else asked.detector}
    try:
        for event in engine.events(Plan.of(recipe), image, cancelled, tuple(only)):
            match event:
                case Failed(_, error):
                    return None, str(error)
                case StepDone(step, result) if (step.owner, step.number) == asked.place:
                    image = result
                case Detected(name, found) if name == asked.detector:
                    table = found.findings
                    own = Marks.of(found.outlines, table["x"], table["y"], table["id"], asked.colour)
                    marks = [own] if asked.look.marks else []
                    text = f"{len(table)} found"
                    shown = asked.look.map_name if asked.place is None else ""
                    if shown in found.evidence and found.evidence[shown].axes is None:
                        seen = Picture.of_map(found.evidence[shown])
                    elif shown == "prepared":
                        image = found.task.image
    except ParameterError as error:
        return None, str(error)
    return thumbnail_of(seen or Picture.of_image(image, "", ""), marks, asked.look.box), text


def counted(engine: Engine, asked: Question, recipe: Recipe, cancelled: Callable[[], bool]) -> int:
    """How many findings a recipe gives; -1 if it is refused."""
    only = {asked.detector, asked.place[0] if asked.place is not None else asked.detector}
    try:
        for event in engine.events(Plan.of(recipe), asked.image, cancelled, tuple(only)):
            if isinstance(event, Detected) and event.name == asked.detector:
                return len(event.detection.findings)
    except ParameterError:
        pass
    return -1


class SampleView(QWidget):
    """One small picture with its value and count."""

    chosen = Signal(object)

    def __init__(self, sample: Sample, current: bool) -> None:
        super().__init__()
        self.sample, self.current = sample, current
        self.setFixedSize(WIDTH + 6, HEIGHT + 2 * self.fontMetrics().height() + 12)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(sample.title)
        self.setToolTip(self.tr("Apply {}").format(sample.title))

    def show_sample(self, sample: Sample) -> None:
        self.sample = sample
        self.setAccessibleName(f"{sample.title} {sample.text}")
        if sample.pixels is None and sample.text:
            self.setToolTip(sample.text)
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        theme = current_theme()
        painter = QPainter(self)
        box = QRect(3, 3, WIDTH, HEIGHT)
        painter.fillRect(box, QColor(theme.surround))
        metrics = self.fontMetrics()
        pixels = self.sample.pixels
        if pixels is not None:
            painter.drawImage(box, QImage(pixels.data, WIDTH, HEIGHT, 4 * WIDTH, QImage.Format.Format_RGB32))
        elif self.sample.text:
            painter.setPen(QColor(theme.surround_text))
            painter.drawText(
                box.adjusted(6, 6, -6, -6), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.sample.text
            )
        if self.current or self.hasFocus():
            painter.setPen(QPen(QColor(theme.accent), 2))
            painter.drawRect(box)
        painter.setPen(QColor(theme.text))
        first = QRect(5, HEIGHT + 5, WIDTH - 4, metrics.height() + 2)
        painter.drawText(first, Qt.AlignmentFlag.AlignLeft, self.sample.title)
        if pixels is not None:
            painter.setPen(QColor(theme.quiet))
            painter.drawText(first.translated(0, metrics.height() + 1), Qt.AlignmentFlag.AlignLeft, self.sample.text)
        painter.end()

    @guarded
    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.chosen.emit(self.sample.value)

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.chosen.emit(self.sample.value)
        else:
            super().keyPressEvent(event)


class SweepCard(QFrame):
    """Lies over the panes; Escape or the cross closes it."""

    applied = Signal(str, object)
    """Parameter and value."""
    closed = Signal()
    opened = Signal()
    second_wanted = Signal(str)
    """A second parameter that is varied too; "" for none."""
    marks_wanted = Signal(bool)

    def __init__(self, parent: QWidget, over: QWidget) -> None:
        super().__init__(parent)
        self._parent, self._over = parent, over
        self.setObjectName("note")
        self.parameter = ""
        self.views: list[SampleView] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(13, 9, 13, 11)
        head = QHBoxLayout()
        self.title = QLabel()
        self.title.setObjectName("title")
        cross = QPushButton("×")
        cross.setObjectName("bare")
        cross.setAccessibleName(self.tr("Close"))
        cross.clicked.connect(self.put_away)
        self.second = QComboBox()
        self.second.setToolTip(self.tr("Vary a second parameter too: a grid of counts"))
        self.second.setAccessibleName(self.tr("Second parameter"))
        self.second.currentIndexChanged.connect(lambda index: self.second_wanted.emit(self.second.currentData() or ""))
        self.marks = QCheckBox(self.tr("Findings"))
        self.marks.setChecked(True)
        self.marks.setToolTip(self.tr("Draw the findings over the pictures"))
        self.marks.toggled.connect(self.marks_wanted)
        head.addWidget(self.title, 1)
        for widget in (self.second, self.marks, cross):
            head.addWidget(widget)
        layout.addLayout(head)
        self._grid = QGridLayout()
        self._grid.setSpacing(4)
        layout.addLayout(self._grid)
        self.curve = CountCurve()
        layout.addWidget(self.curve)
        self.pairs = CountGrid()
        layout.addWidget(self.pairs)
        self.hide()

    def offer_second(self, offered: Sequence[tuple[str, str]], chosen: str = "") -> None:
        """Names and labels of the parameters that may be varied too."""
        self.second.blockSignals(True)
        self.second.clear()
        self.second.addItem(self.tr("one parameter"), "")
        for name, label in offered:
            self.second.addItem(self.tr("and {}").format(label), name)
        self.second.setCurrentIndex(max(self.second.findData(chosen), 0))
        self.second.setVisible(bool(offered))
        self.second.blockSignals(False)

    def open(self, parameter: str, title: str, samples: Sequence[Sample], current: Any, pairs: bool = False) -> None:
        """Show places for so many samples, which `show_sample` fills; or with `pairs` the grid of counts."""
        self.parameter = parameter
        self.title.setText(title)
        self.marks.setVisible(bool(samples))
        self.curve.show_counts([sample.title for sample in samples] if parameter and parameter != _KINDS else [])
        self.pairs.setVisible(pairs)
        for view in self.views:
            self._grid.removeWidget(view)
            view.hide()
            view.deleteLater()
        self.views = []
        columns = max(2, min(4, self._over.width() // (WIDTH + 12)))
        for number, sample in enumerate(samples):
            view = SampleView(sample, sample.value == current)
            view.chosen.connect(lambda value: self.applied.emit(self.parameter, value))
            self._grid.addWidget(view, number // columns, number % columns)
            self.views.append(view)
        self.adjustSize()
        corner = self._over.mapTo(self._parent, self._over.rect().topLeft())
        x = corner.x() + (self._over.width() - self.width()) // 2
        y = min(corner.y() + 26, self._parent.height() - self.height() - 8)
        self.move(min(max(x, 4), max(self._parent.width() - self.width() - 4, 4)), max(y, 4))
        self.show()
        self.raise_()
        self.opened.emit()
        if self.views:
            next((v for v in self.views if v.current), self.views[0]).setFocus()

    def put_away(self) -> None:
        if self.isVisible():
            self.hide()
            self.closed.emit()

    @guarded
    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.put_away()
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down):
            forward = event.key() in (Qt.Key.Key_Right, Qt.Key.Key_Down)
            self.focusNextPrevChild(forward)
        else:
            super().keyPressEvent(event)


class Sweep(QObject):
    """Computes the results at several values one after the other, and lets one value be applied."""

    refused = Signal(str)
    applied = Signal(str, object)
    """A parameter and the value that it shall have."""
    kind_chosen = Signal(str)
    """A kind of detector that shall be added."""

    def __init__(self, parent: QWidget, over: QWidget, study: Study, engine: Engine) -> None:
        """The card is a child of `parent` and is shown over the middle of `over`."""
        super().__init__(parent)
        self.study, self.engine = study, engine
        self.card = SweepCard(parent, over)
        self.card.closed.connect(self._closed)
        self.card.applied.connect(self._take)
        self.worker = Coordinator()
        """Its own, so that the other work of the window goes on."""
        self.worker.setParent(self)
        self.worker.part_done.connect(self._part_done)
        self._generation = 0
        self.look: Callable[[], Look] = Look
        """What the active pane shows."""
        self._parameter = ""
        self._pair: tuple[str, str, list[Any], list[Any]] = "", "", [], []
        """Two parameters and their values."""
        self.card.second_wanted.connect(self._vary_too)
        self.card.marks_wanted.connect(lambda on: self.open(self._parameter))
        self.card.pairs.chosen.connect(self._take_pair)
        self._steps: dict[Any, dict[str, Any]] = {}
        """Steps that stand for values, where more than one parameter changes."""

    def open(self, parameter: str) -> None:
        """Compare values of a parameter of the selected card; "" compares a step with its alternatives."""
        study = self.study
        place = step_place(study.chosen)
        if study.image is None:
            self.refused.emit(self.tr("Open an image first."))
            return
        self._parameter = parameter
        self.card.offer_second([])
        if place is not None:
            given = study.steps_of(place[0])[place[1]]
            step = step_of(str(given["step"]))
            if not parameter or (step.separates and step.Parameters.declarations()[parameter].choices):
                self._open_alternatives(step, given, place)
                return
            declared, current = step.Parameters.declarations()[parameter], given[parameter]
        else:
            entry = next((e for e in study.recipe.detectors if e.name == study.chosen), None)
            if entry is None:
                self.refused.emit(self.tr("Only parameters of steps and detectors can be swept."))
                return
            declared = detector_of(entry.kind).Parameters.declarations()[parameter]
            current = entry.made_parameters().plain()[parameter]
        values = self._values(declared, current)
        samples = [Sample(value, f"{declared.label} {_shown(value)} {declared.unit}") for value in values]
        if not samples:
            self.refused.emit(self.tr("{} has no range to sweep.").format(declared.label))
            return
        title = self.tr("Sweep of {}: a click applies the value").format(declared.label)
        self.card.offer_second(self._others(parameter))
        self._ask(parameter, title, samples, current, place, {})

    def _declared(self) -> tuple[dict[str, Declaration], dict[str, Any]]:
        """Declarations and values of the parameters of the selected card."""
        place = step_place(self.study.chosen)
        if place is not None:
            given = self.study.steps_of(place[0])[place[1]]
            return step_of(str(given["step"])).Parameters.declarations(), given
        entry = next(e for e in self.study.recipe.detectors if e.name == self.study.chosen)
        return detector_of(entry.kind).Parameters.declarations(), entry.made_parameters().plain()

    def _others(self, parameter: str) -> list[tuple[str, str]]:
        """Names and labels of the other parameters that have values to compare."""
        declared, given = self._declared()
        return [(n, d.label) for n, d in declared.items() if n != parameter and len(self._values(d, given.get(n))) > 1]

    def _vary_too(self, second: str) -> None:
        """A grid of counts over two parameters, or one parameter again."""
        if not second:
            self.open(self._parameter)
            return
        study, first = self.study, self._parameter
        image = study.image
        if image is None:
            return
        declared, given = self._declared()
        across, down = (list(self._values(declared[name], given.get(name)))[:_MOST_A_SIDE] for name in (first, second))
        self._pair = first, second, across, down
        now = (
            across.index(given[first]) if given.get(first) in across else -1,
            (down.index(given[second]) if given.get(second) in down else -1),
        )
        title = self.tr("Sweep of {} and {}: a click applies both").format(declared[first].label, declared[second].label)
        self.card.offer_second(self._others(first), second)
        labels = tuple(f"{declared[name].label} {declared[name].unit}".strip() for name in (first, second))
        self.card.pairs.show_axes(
            (labels[0], labels[1]), [_shown(v) for v in across], [_shown(v) for v in down],
            now if min(now) >= 0 else None,
        )  # fmt: skip
        self.card.open(first, title, [], None, pairs=True)
        asked = Question(image, study.recipe, study.detector, step_place(study.chosen), QColor())
        chosen = study.chosen

        def work(job: Job) -> None:
            for column, row in itertools.product(range(len(across)), range(len(down))):
                if job.cancelled():
                    return
                try:
                    recipe = changed_recipe(asked.recipe, chosen, {first: across[column], second: down[row]})
                    count = counted(self.engine, asked, recipe, job.cancelled)
                except ParameterError:
                    count = -1
                job.emit_part(("pair", column, row, count))

        self._generation = self.worker.submit("comparing", work)

    def _take_pair(self, column: int, row: int) -> None:
        first, second, across, down = self._pair
        values = {first: across[column], second: down[row]}
        self.card.put_away()
        place = step_place(self.study.chosen)
        text = self.tr("sweep of two parameters")
        try:
            if place is None:
                self.study.edit_detector(self.study.chosen, values, text)
            else:
                self.study.edit_step(place[1], values, text, "", place[0])
        except ParameterError as error:
            self.refused.emit(str(error))

    def open_first(self) -> None:
        """Sweep the parameter of the selected card that was swept last, else the first that has values to compare."""
        if self.study.image is None or self.study.chosen == SOURCE:
            self.open("")
            return
        declared, given = self._declared()
        usual = [n for n, d in declared.items() if not d.more and not d.is_region and len(self._values(d, given.get(n))) > 1]
        names = [self._parameter] if self._parameter in usual else usual
        if names:
            self.open(names[0])
        else:
            self.refused.emit(self.tr("The selected card has no parameter to sweep."))

    def open_kinds(self) -> None:
        """Show what each kind of detector finds on this image; a click adds it."""
        study = self.study
        if study.image is None:
            self.refused.emit(self.tr("Open an image first."))
            return
        self._steps = {}
        self.card.offer_second([])
        samples = [Sample(kind, f"{kind}") for kind in KINDS]
        self.card.open(_KINDS, self.tr("What each detector finds on this image; a click adds it"), samples, None)
        for view in self.card.views:
            view.setToolTip(KINDS[view.sample.value].purpose)
        plain = study.recipe.plain()
        asked = [Question(study.image, study.recipe, kind, None, mark_colour(n)) for n, kind in enumerate(KINDS)]

        def work(job: Job) -> None:
            for n, (kind, question) in enumerate(zip(KINDS, asked, strict=True)):
                if job.cancelled():
                    return
                recipe = Recipe.make({**plain, "combine": [], "detectors": [{"name": kind, "kind": kind}]})
                job.emit_part((n, *answered(self.engine, question, recipe, job.cancelled)))

        self._generation = self.worker.submit("looking", work)

    def _take(self, parameter: str, value: Any) -> None:
        if parameter == _KINDS:
            self.card.put_away()
            self.kind_chosen.emit(str(value))
        else:
            self.applied.emit(parameter, value)

    def _values(self, declared: Declaration, current: Any) -> list[Any]:
        found = self.study.detections.get(self.study.chosen)
        measured: list[float] = []
        if declared.criterion and found is not None:
            measured = found.measured(declared.criterion).tolist()
        elif current is None and found is not None:
            resolved = found.resolved.get(declared.name)
            current = resolved if isinstance(resolved, float) else None
        return declared.type.sweep(declared, current, measured)

    def _open_alternatives(self, step: PreparationStep, given: dict[str, Any], place: tuple[str, int]) -> None:
        """Steps that could take the place of this one, the best separation of sampled areas first."""
        image, samples = self.study.image, step.sampled(given) or self.study.samples
        assert image is not None
        try:
            offered = step.alternatives(image, given, samples)
        except ParameterError as error:
            self.refused.emit(str(error))
            offered = step.alternatives(image, given, None)
        current = next((a.value for a in offered if all(given.get(k) == v for k, v in a.step.items())), None)
        title = self.tr("All channels; the best separation of object and surroundings first")
        if samples is None:
            title = self.tr("All channels; sample object and surroundings to order them by separation")
        shown = [Sample(a.value, a.label) for a in offered if a.value != current or a.step["step"] == given["step"]]
        self._ask("", title, shown, current, place, {a.value: a.step for a in offered})

    def _ask(
        self, parameter: str, title: str, samples: list[Sample], current: Any, place: tuple[str, int] | None,
        whole: dict[str, dict[str, Any]],
    ) -> None:  # fmt: skip
        """`whole` has the steps that stand for values, where it is not one parameter that is changed."""
        study = self.study
        image = study.image
        assert image is not None
        self._steps = whole
        self.card.open(parameter, title, samples, current)
        number = next((n for n, e in enumerate(study.recipe.detectors) if e.name == study.detector), 0)
        look = replace(self.look(), marks=self.card.marks.isChecked())
        asked = Question(image, study.recipe, study.detector, place, mark_colour(number), look)
        chosen = study.chosen

        def work(job: Job) -> None:
            for n, sample in enumerate(samples):
                if job.cancelled():
                    return
                try:
                    step = whole.get(sample.value)
                    recipe = changed_recipe(asked.recipe, chosen, {} if step else {parameter: sample.value}, step)
                except ParameterError as error:
                    job.emit_part((n, None, str(error)))
                    continue
                job.emit_part((n, *answered(self.engine, asked, recipe, job.cancelled)))

        self._generation = self.worker.submit("comparing", work)

    def _part_done(self, generation: int, part: tuple[Any, ...]) -> None:
        if part[0] == "pair":
            if generation == self._generation:
                self.card.pairs.put(*part[1:])
            return
        number, pixels, text = part
        if generation == self._generation:
            self.card.curve.put(number, text)
        if generation == self._generation and number < len(self.card.views):
            self.card.views[number].show_sample(replace(self.card.views[number].sample, pixels=pixels, text=text))

    def step_for(self, value: Any) -> dict[str, Any] | None:
        """The step that replaces the selected one if this value is applied; None if only a parameter changes."""
        return self._steps.get(value)

    def _closed(self) -> None:
        self.worker.cancel_all()

    @property
    def busy(self) -> bool:
        return self.worker.busy


def changed_recipe(recipe: Recipe, card: str, values: dict[str, Any], step: dict[str, Any] | None = None) -> Recipe:
    """A recipe with parameters of one card changed, or a preparation step exchanged. Raises `ParameterError`."""
    plain = recipe.plain()
    place = step_place(card)
    if place is None:
        entry = next(e for e in plain["detectors"] if e["name"] == card)
        entry["parameters"] = {**entry["parameters"], **values}
    else:
        owner, number = place
        steps = plain["prepare"] if not owner else next(e["prepare"] for e in plain["detectors"] if e["name"] == owner)
        steps[number] = step if step is not None else {**steps[number], **values}
    return Recipe.make(plain)


def _shown(value: Any) -> str:
    return f"{value:.4g}" if isinstance(value, float) else str(value)
