"""Show over a range: what comes out at several values of one parameter, as small pictures with counts; a click adopts one."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, get_args

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QRect, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from lucid_finch.core.detectors import detector_of
from lucid_finch.core.engine import Engine
from lucid_finch.core.errors import ParameterError
from lucid_finch.core.image import Image
from lucid_finch.core.numerics.rendering.viewing import strokes, tint
from lucid_finch.core.parameters import SCALES, Declaration, Length, Parameters
from lucid_finch.core.prepare import step_of
from lucid_finch.core.prepare.colour import Take
from lucid_finch.core.prepare.contrast import channel_separations
from lucid_finch.core.recipe import Recipe
from lucid_finch.desktop.canvas.pane import Marks
from lucid_finch.desktop.canvas.picture import Picture
from lucid_finch.desktop.study.study import Study, step_place
from lucid_finch.desktop.study.worker import Coordinator, Job
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.theme import current_theme, mark_colour

WIDTH, HEIGHT = 176, 118
COUNT = 7
_AXIS = "contrast axis"
"""What `channel_separations` calls the direction between both samples."""


@dataclass
class Sample:
    """One value and what comes out of it."""

    value: Any
    title: str
    pixels: NDArray[np.uint32] | None = None
    text: str = ""


def values_over(declared: Declaration, current: Any, criterion: NDArray[np.float64] | None = None) -> list[Any]:
    """Up to nine values worth comparing, the current one among them.

    Choices: all of them. A limit whose `criterion` has been measured on candidates: their quantiles. Else over the usual
    range, in equal factors where that spans more than a factor of 15.
    """
    if declared.choices:
        return [c for c in declared.choices if c != "weights"]
    if criterion is not None and np.isfinite(criterion).sum() >= 2:
        finite = np.unique(criterion[np.isfinite(criterion)])
        # Towards the upper end: below, limits let everything in.
        limits = np.quantile(finite, np.linspace(0.02, 0.995, COUNT))
        given: list[float] = []
        for limit in limits.tolist():
            try:
                given.append(SCALES[declared.scale].from_limit(limit))
            except OverflowError:
                continue
        return _tidied(given, declared, current)
    unit = 1.0
    if isinstance(current, str):
        length = Length.parse(current)
        current, unit = length.value, length.value or 1.0
    number = float(current) if isinstance(current, (int, float)) and not isinstance(current, bool) else None
    low, high = declared.usual or (None, None)
    if low is None or high is None:
        middle = number if number else unit
        low, high = middle / 3, middle * 3
        if declared.type is float and number is not None and number < 0:
            low, high = high, low
    least = low if low > 0 else high / 20
    if high / max(least, 1e-12) > 15 and low >= 0:
        given = [low] if low == 0 else []
        given += np.geomspace(max(least, 1e-9), high, COUNT - len(given)).tolist()
    else:
        given = np.linspace(low, high, COUNT).tolist()
    return _tidied(given, declared, number)


def _tidied(given: Sequence[float], declared: Declaration, current: Any) -> list[Any]:
    """Rounded, allowed, in order and without doubles, with the current value."""
    found: set[float] = set()
    for value in given:
        number = float(f"{value:.2g}")
        if declared.least is not None:
            number = max(number, declared.least)
        if declared.most is not None:
            number = min(number, declared.most)
        if declared.above is not None and number <= declared.above:
            continue
        if not math.isfinite(number) or (declared.type is Length and number < 0):
            continue
        if declared.type is int:
            # Sizes are odd; where a parameter takes even ones too, odd ones do no harm.
            number = float(max(int(number) | 1, int(declared.least or 1)))
        found.add(number)
    if isinstance(current, (int, float)) and not isinstance(current, bool):
        found.add(float(current))
    ordered = sorted(found)
    return [int(v) if declared.type is int else v for v in ordered]


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
    """Picture and words of what `recipe` gives; words alone where it is refused."""
    try:
        image, marks, text = asked.image, [], ""
        common = engine.prepared(image, [s.plain() for s in recipe.prepare], cancelled)
        entry = next((e for e in recipe.running if e.name == asked.detector), None)
        if asked.place is not None:
            owner, number = asked.place
            steps = recipe.prepare if not owner else next(e.prepare for e in recipe.detectors if e.name == owner)
            image = engine.prepared(common if owner else image, [s.plain() for s in steps[: number + 1]], cancelled)
        if entry is not None:
            found = engine.run_entry(entry, common, cancelled, recipe.region)
            marks = [Marks.of(found.outlines, found.findings["x"], found.findings["y"], found.findings["id"], asked.colour)]
            text = f"{len(found.findings)} found"
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
        self.setToolTip(self.tr("Adopt {}").format(sample.title))

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


class SpreadCard(QFrame):
    """Lies over the panes; Escape or the cross closes it."""

    adopted = Signal(str, object)
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
            view.chosen.connect(lambda value: self.adopted.emit(self.parameter, value))
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


class Spread(QObject):
    """Asks, has the answers computed one after the other, and lets one be adopted."""

    refused = Signal(str)

    def __init__(self, parent: QWidget, over: QWidget, study: Study, engine: Engine) -> None:
        """The card is a child of `parent` and lies over the middle of `over`."""
        super().__init__(parent)
        self.study, self.engine = study, engine
        self.card = SpreadCard(parent, over)
        self.card.closed.connect(self._closed)
        self.adopted = self.card.adopted
        self.worker = Coordinator()
        """Its own: what the bench computes goes on."""
        self.worker.setParent(self)
        self.worker.part_done.connect(self._part_done)
        self._generation = 0

    def open(self, parameter: str) -> None:
        """Compare values of a parameter of the chosen card."""
        study = self.study
        place = step_place(study.chosen)
        if study.image is None:
            self.refused.emit(self.tr("Open an image first."))
            return
        model: type[Parameters]
        if place is not None:
            step = study.steps_of(place[0])[place[1]]
            if parameter == "take" and step["step"] == "contrast_axis":
                self._open_channels(place, None)
                return
            model, current = step_of(str(step["step"])).Parameters, step[parameter]
        else:
            entry = next((e for e in study.recipe.detectors if e.name == study.chosen), None)
            if entry is None:
                self.refused.emit(self.tr("Only parameters of steps and detectors can be shown over a range."))
                return
            model, current = detector_of(entry.kind).Parameters, entry.made_parameters().plain()[parameter]
        if parameter == "take":
            self._open_channels(place, current)
            return
        declared = model.declarations()[parameter]
        samples = [
            Sample(value, f"{declared.label} {_shown(value)} {declared.unit}") for value in self._values(declared, current)
        ]
        if not samples:
            self.refused.emit(self.tr("{} has no range to be shown over.").format(declared.label))
            return
        title = self.tr("{} over a range: a click adopts the value, numbers are counts of findings").format(declared.label)
        self._ask(parameter, title, samples, current, place, {})

    def _values(self, declared: Declaration, current: Any) -> list[Any]:
        found = self.study.detections.get(self.study.chosen)
        if declared.criterion and found is not None:
            candidates = found.work.candidates
            values = np.asarray(candidates.columns[declared.criterion], float)
            plausible = found.work.detector.plausible(candidates)
            return values_over(declared, current, values[plausible] if plausible.sum() >= 5 else values)
        if current is None and found is not None:
            resolved = found.resolved.get(declared.name)
            current = resolved if isinstance(resolved, float) else None
        return values_over(declared, current)

    def _open_channels(self, place: tuple[str, int] | None, current: Any) -> None:
        """All channels, those first that tell the sampled areas apart best."""
        image, sampled = self.study.image, self.study.sampled
        order: list[tuple[str, str]] = [(name, "") for name in get_args(Take) if name != "weights"]
        if image is not None and sampled is not None:
            try:
                found = channel_separations(image, *sampled)
            except ParameterError as error:
                self.refused.emit(str(error))
            else:
                order = [(n, self.tr("{:.1f} apart").format(apart)) for n, apart in found if n in dict(order) or n == _AXIS]
                order = [pair for pair in order if pair[0] != _AXIS or current is not None]
        samples = [Sample(name, f"{name}  {text}".strip()) for name, text in order]
        whole: dict[str, dict[str, Any]] = {}
        if current is None:
            whole = {name: {"step": "channel", "take": name} for name, _ in order}
        elif image is not None and image.is_colour and self.study.samples is not None:
            # The axis of the two areas stands beside the plain channels.
            whole[_AXIS] = {"step": "contrast_axis", "inside": self.study.samples[0], "outside": self.study.samples[1]}
        title = self.tr("All channels; those first that separate object and surroundings best")
        if sampled is None:
            title = self.tr("All channels; sample object and surroundings to have them ordered")
        self._ask("take", title, samples, current, place, whole)

    def _ask(
        self, parameter: str, title: str, samples: list[Sample], current: Any, place: tuple[str, int] | None,
        whole: dict[str, dict[str, Any]],
    ) -> None:  # fmt: skip
        """`whole` has the steps that stand for values, where it is not one parameter that is changed."""
        study = self.study
        image = study.image
        assert image is not None
        self._replaces = whole
        self.card.open(parameter, title, samples, current)
        number = next((n for n, e in enumerate(study.recipe.detectors) if e.name == study.detector), 0)
        asked = Question(image, study.recipe, study.detector, place, mark_colour(number))
        chosen = study.chosen

        def work(job: Job) -> None:
            for n, sample in enumerate(samples):
                if job.cancelled():
                    return
                try:
                    recipe = changed_recipe(asked.recipe, chosen, {parameter: sample.value}, whole.get(sample.value))
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
        """The step that takes the place of the chosen one if this value is adopted, if it is more than a parameter."""
        return self._replaces.get(value)

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
