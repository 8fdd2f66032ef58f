"""Parameter sweep: the results at several values of one parameter, as small pictures with counts; a click applies a value."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QRect, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

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
from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.study.study import Study, step_place
from lucid_finch.desktop.study.worker import Coordinator, Job
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme, mark_colour

WIDTH, HEIGHT = 176, 118
_KINDS = "+ kind"
"""Stands for a parameter where kinds of detectors are compared."""


@dataclass
class Sample:
    """One value and its result."""

    value: Any
    title: str
    pixels: NDArray[np.uint32] | None = None
    text: str = ""


def thumbnail_of(picture: Picture, marks: Sequence[Marks]) -> NDArray[np.uint32]:
    """A small picture of a map with marks over it."""
    out = np.empty((HEIGHT, WIDTH), np.uint32)
    left, top, right, bottom = picture.box
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


def answered(
    engine: Engine, asked: Question, recipe: Recipe, cancelled: Callable[[], bool]
) -> tuple[NDArray[np.uint32] | None, str]:
    """Picture and words of what `recipe` gives; words alone if it is refused."""
    image, marks, text = asked.image, [], ""
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
                    marks = [Marks.of(found.outlines, table["x"], table["y"], table["id"], asked.colour)]
                    text = f"{len(table)} found"
    except ParameterError as error:
        return None, str(error)
    return thumbnail_of(Picture.of_image(image, "", ""), marks), text


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
        head.addWidget(self.title, 1)
        head.addWidget(cross)
        layout.addLayout(head)
        self._grid = QGridLayout()
        self._grid.setSpacing(4)
        layout.addLayout(self._grid)
        self.hide()

    def open(self, parameter: str, title: str, samples: Sequence[Sample], current: Any) -> None:
        """Show places for so many samples; `show_sample` fills them."""
        self.parameter = parameter
        self.title.setText(title)
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
        self._steps: dict[Any, dict[str, Any]] = {}
        """Steps that stand for values, where more than one parameter changes."""

    def open(self, parameter: str) -> None:
        """Compare values of a parameter of the selected card; "" compares a step with its alternatives."""
        study = self.study
        place = step_place(study.chosen)
        if study.image is None:
            self.refused.emit(self.tr("Open an image first."))
            return
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
        title = self.tr("Sweep of {}: a click applies the value, numbers are counts of findings").format(declared.label)
        self._ask(parameter, title, samples, current, place, {})

    def open_kinds(self) -> None:
        """Show what each kind of detector finds on this image; a click adds it."""
        study = self.study
        if study.image is None:
            self.refused.emit(self.tr("Open an image first."))
            return
        self._steps = {}
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
        asked = Question(image, study.recipe, study.detector, place, mark_colour(number))
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

    def _part_done(self, generation: int, part: tuple[int, NDArray[np.uint32] | None, str]) -> None:
        number, pixels, text = part
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
