"""One, two or four panes side by side: which map each shows, how they are linked, and what is computed for them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QSizePolicy, QSplitter, QToolButton, QVBoxLayout, QWidget

from lucid_finch.core.inspection.calibration import Calibration
from lucid_finch.desktop.canvas.display_range import ColourBar, RangeCard
from lucid_finch.desktop.canvas.pane import Marks, Pane, View
from lucid_finch.desktop.study.picture import Box, Detail, Difference, Picture
from lucid_finch.desktop.study.worker import Coordinator, Job
from lucid_finch.desktop.toolkit.guard import guarded
from lucid_finch.desktop.toolkit.labels import Elided

MOST = 4
_FIRST_MAPS = ("source", "prepared", "prepared", "prepared")


class PaneFrame(QWidget):
    """A pane under its bar: what is shown and compared with what, its range, the value under the cursor."""

    wanted = Signal(str)
    """Map that was chosen in the menu."""
    apart_changed = Signal(bool)
    """What is shown has places of its own now, or those of the image again."""
    compared = Signal(str, str)
    """How ("divide", "difference" or "") and with which map."""

    def __init__(self, name: str, map_name: str) -> None:
        super().__init__()
        self.pane = Pane(View())
        self.map_name = map_name
        self.calibration: Calibration | None = None
        self.other_name = ""
        self.how = ""
        self.offered: Callable[[], list[tuple[str, str]]] = list
        """Names and labels of the maps there are."""
        self.setAccessibleName(name)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.bar = QFrame()
        self.bar.setObjectName("panebar")
        row = QHBoxLayout(self.bar)
        row.setContentsMargins(4, 2, 8, 2)
        row.setSpacing(6)
        self.title = QToolButton()
        self.title.setObjectName("panetitle")
        self.title.setToolTip(self.tr("Choose the map of this pane, or compare it with another"))
        self.title.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self.title)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.title.setMenu(self.menu)
        # Its text follows every frame and every move: the window must not be laid out anew for it.
        self.info = Elided("")
        self.info.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.info.setObjectName("paneinfo")
        self.info.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.colours = ColourBar()
        row.addWidget(self.title)
        row.addWidget(self.info, 1)
        row.addWidget(self.colours)
        layout.addWidget(self.bar)
        layout.addWidget(self.pane, 1)
        self.card = RangeCard(self)
        self.colours.pressed.connect(self.open_range)
        self.pane.view.cursor_moved.connect(self.show_info)
        self.pane.view.changed.connect(self.show_info)

    @guarded
    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.show_info()

    @property
    def view(self) -> View:
        return self.pane.view

    def _fill_menu(self) -> None:
        self.menu.clear()
        divide, difference = QMenu(self.tr("Divide with"), self.menu), QMenu(self.tr("Less another map"), self.menu)
        for name, label in self.offered():
            action = self.menu.addAction(label, partial(self.wanted.emit, name))
            action.setCheckable(True)
            action.setChecked(name == self.map_name)
            if name != self.map_name:
                divide.addAction(label, partial(self.compared.emit, "divide", name))
                difference.addAction(label, partial(self.compared.emit, "difference", name))
        self.menu.addSeparator()
        self.menu.addMenu(divide)
        self.menu.addMenu(difference)
        if self.how:
            self.menu.addAction(self.tr("Alone again"), partial(self.compared.emit, "", ""))

    def show_pictures(self, pictures: dict[str, Picture]) -> None:
        """Take what this pane shows from the pictures there are."""
        picture, other = pictures.get(self.map_name), pictures.get(self.other_name)
        title = picture.title if picture is not None else self.map_name
        if self.how == "difference" and picture is not None and other is not None:
            picture, other = Difference.of(picture, other), None
            title = picture.title
        elif self.how == "divide" and other is not None:
            title = f"{title} | {other.title}"
        else:
            other = None
        self.pane.set_only_chosen(self.map_name not in ("source", "prepared") or self.how == "difference")
        was_apart = self.pane.apart
        self.pane.show_picture(picture, other)
        if self.pane.apart != was_apart:
            self.apart_changed.emit(self.pane.apart)
        self.title.setText(f"{title} ▾" if picture is not None else "")
        self.show_info()

    def show_info(self) -> None:
        picture, view = self.pane.picture, self.view
        value = picture.value_at(*view.cursor) if picture is not None and view.cursor is not None else None
        number = float(np.mean(value)) if value is not None else None
        self.colours.show_picture(picture, number)
        if picture is None:
            self.info.setText("")
        elif value is not None and view.cursor is not None:
            parts = [f"{float(v):.4g}" for v in np.atleast_1d(value)]
            place = self._place(picture, *view.cursor)
            self.info.setText(f"{place}  {' '.join(parts)} {picture.unit}")
        else:
            zoom = f"{100 * view.scale:.0f} %"
            whole = f"{picture.low:.4g} … {picture.high:.4g} {picture.unit}   {zoom}"
            # Where there is no room for it, the colour bar's tooltip has the range.
            self.info.setText(whole if self.fontMetrics().horizontalAdvance(whole) < self.info.width() else zoom)

    def _place(self, picture: Picture, x: float, y: float) -> str:
        if picture.axes is None and self.calibration is not None:
            across_mm, down_mm = self.calibration.to_plane(x, y)
            return f"({x:.1f}, {y:.1f}) px = ({across_mm:.3f}, {down_mm:.3f}) mm"
        if picture.axes is None:
            return f"({x:.1f}, {y:.1f})"
        across, down, _, _ = picture.axes
        column, row = (np.clip(round(v), 0, len(a) - 1) for v, a in ((x, across), (y, down)))
        return f"({across[column]:.4g}, {down[row]:.4g})"

    def open_range(self) -> None:
        """The card with the histogram of the display range."""
        if self.pane.picture is not None:
            self.card.show_picture(self.pane.picture)
            self.card.adjustSize()
            corner = self.bar.mapToGlobal(self.bar.rect().bottomRight())
            self.card.move(corner.x() - self.card.width(), corner.y() + 2)
            self.card.show()

    def show_active(self, active: bool) -> None:
        self.bar.setProperty("active", active)
        self.pane.setProperty("chosen", active)
        for widget in (self.bar, self.title):
            widget.style().unpolish(widget)
            widget.style().polish(widget)


class PaneGroup(QWidget):
    """Up to four panes. Zoom, place and cursor follow each other where they are linked."""

    activated = Signal(int)
    range_changed = Signal(str)
    maps_changed = Signal()
    """Other maps are shown."""
    looked = Signal()
    """The cursor or the map of the active pane is another."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panes")
        self.links = {"zoom": True, "place": True, "cursor": True}
        self.ranges: dict[str, tuple[float, float]] = {}
        """Display ranges that were set by hand, by map."""
        self.pictures: dict[str, Picture] = {}
        self._calibration: Calibration | None = None
        self.active = 1
        self._previewed: tuple[int, str, str] | None = None
        """Pane, its map before, and the map that is previewed in it."""
        self.count = 2
        names = (self.tr("First pane"), self.tr("Second pane"), self.tr("Third pane"), self.tr("Fourth pane"))
        self.frames = [PaneFrame(name, map_name) for name, map_name in zip(names, _FIRST_MAPS, strict=True)]
        self._chosen: set[int] = set()
        """Panes whose map was chosen by hand."""
        self._following = False
        self._looker = Coordinator()
        """Computes what comes into sight of maps that are too large to be computed whole."""
        self._looker.setParent(self)
        self._looker.part_done.connect(self._detail_done)
        self._wishes: list[tuple[Picture, int, Box]] = []
        self._look = QTimer(self)
        self._look.setSingleShot(True)
        self._look.timeout.connect(self._compute_details)
        self._fit = QTimer(self)
        self._fit.setSingleShot(True)
        self._fit.setInterval(0)
        self._fit.timeout.connect(self.fit_fitted)
        self._rows = [QSplitter(Qt.Orientation.Horizontal) for _ in range(2)]
        self._column = QSplitter(Qt.Orientation.Vertical)
        for number, frame in enumerate(self.frames):
            self._rows[number // 2].addWidget(frame)
            frame.pane.activated.connect(partial(self.activate, number))
            frame.pane.detail_wanted.connect(self._look_soon)
            frame.pane.resized.connect(self._fit_soon)
            frame.view.changed.connect(partial(self._follow, number))
            frame.view.cursor_moved.connect(partial(self._follow_cursor, number))
            frame.apart_changed.connect(partial(self._part, number))
            frame.wanted.connect(partial(self.show_map, number))
            frame.compared.connect(partial(self.compare, number))
            frame.card.changed.connect(self._set_range)
        for row in self._rows:
            row.setObjectName("panes")
            row.setSizes([500, 500])
            self._column.addWidget(row)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self._column)
        self.set_count(2)

    @property
    def calibration(self) -> Calibration | None:
        """What makes millimetres of the places of the image."""
        return self._calibration

    @calibration.setter
    def calibration(self, calibration: Calibration | None) -> None:
        self._calibration = calibration
        for frame in self.frames:
            frame.calibration = calibration
            frame.show_info()

    @property
    def shown(self) -> list[PaneFrame]:
        """The panes in sight."""
        return self.frames[: self.count]

    def set_count(self, count: int) -> None:
        """One, two or four panes."""
        self.count = count
        for number, frame in enumerate(self.frames):
            frame.setVisible(number < count)
        self._rows[1].setVisible(count > 2)
        self.arrange()
        if self.active >= count:
            self.activate(0)
        self._show_all()

    def activate(self, number: int) -> None:
        self.active = number
        for n, frame in enumerate(self.frames):
            frame.show_active(n == number)
        self.activated.emit(number)
        self.looked.emit()

    # Links

    def _part(self, number: int, apart: bool) -> None:
        """A map that is no image is shown whole in its pane; an image again follows the others."""
        frame = self.frames[number]
        if apart:
            frame.pane.fit()
            return
        other = next((f for f in self.frames if f is not frame and not f.pane.apart and f.pane.picture is not None), None)
        if other is not None:
            frame.view.set(other.view.x, other.view.y, other.view.scale)
        else:
            frame.pane.fit()

    def set_linked(self, what: str, linked: bool) -> None:
        """Link or part "zoom", "place" or "cursor"; what is linked again follows the active pane."""
        self.links[what] = linked
        if linked:
            self._follow(self.active)

    def _follow(self, number: int) -> None:
        if self._following or self.frames[number].pane.apart:
            return
        self._following = True
        view = self.frames[number].view
        for other in self.frames:
            if other.view is not view and not other.pane.apart:
                scale = view.scale if self.links["zoom"] else other.view.scale
                x, y = (view.x, view.y) if self.links["place"] else (other.view.x, other.view.y)
                if (x, y, scale) != (other.view.x, other.view.y, other.view.scale):
                    other.view.set(x, y, scale, view.fitted)
                other.view.fitted = view.fitted
        self._following = False

    def _follow_cursor(self, number: int) -> None:
        if number == self.active or self.links["cursor"]:
            self.looked.emit()
        if self._following or not self.links["cursor"]:
            return
        self._following = True
        apart = self.frames[number].pane.apart
        place = None if apart else self.frames[number].view.cursor
        for other in self.shown:
            if other is not self.frames[number] and not other.pane.apart and other.view.cursor != place:
                other.view.set_cursor(place)
        self._following = False

    # Maps

    def show_map(self, number: int, name: str) -> None:
        """Show a map in a pane, chosen by hand."""
        self.frames[number].map_name = name
        self._chosen.add(number)
        self._show_all()
        self.activate(number)

    def preview(self, name: str) -> None:
        """Show a map in the active pane until another is previewed or, with "", what was there before."""
        if self._previewed is not None:
            number, before, shown = self._previewed
            if self.frames[number].map_name == shown:
                self.frames[number].map_name = before
            self._previewed = None
        if name:
            frame = self.frames[self.active]
            self._previewed = self.active, frame.map_name, name
            frame.map_name = name
        self._show_all()

    def forget_maps(self, gone: Callable[[str], bool]) -> None:
        """Maps that are no more: what showed them shows the prepared image."""
        lost = [name for name in (*self.pictures, *(frame.map_name for frame in self.frames)) if gone(name)]
        if not lost:
            return
        for frame in self.frames:
            if frame.map_name in lost:
                frame.map_name = "prepared"
        self.pictures = {name: picture for name, picture in self.pictures.items() if name not in lost}
        self._show_all()

    def use_maps(self, names: list[str], main: Sequence[str]) -> None:
        """The maps there are, in the order of the stages, and the `main` ones. A pane whose map was not chosen by hand shows a
        main one; a map that was chosen and is not there gives way to the last."""
        before = [frame.map_name for frame in self.frames]
        for number, frame in enumerate(self.frames):
            if self._previewed is not None and self._previewed[0] == number and frame.map_name in names:
                continue
            if number > 0 and number not in self._chosen and main:
                frame.map_name = main[min(number, len(main)) - 1]
            if frame.map_name not in names:
                frame.map_name = names[-1]
                self._chosen.discard(number)
        if before != [frame.map_name for frame in self.frames]:
            self._show_all()

    def zoom_to_chosen(self) -> None:
        """Zoom the active pane to what is selected."""
        for m in self.frames[0].pane.marks:
            box = m.box(sorted(m.chosen))
            if box is not None:
                self.frames[self.active].pane.show_box(box)
                return

    def bring_into_sight(self, x: float, y: float) -> None:
        """Centre a place of the source where it is not in sight; maps with axes of their own stay."""
        for frame in self.shown:
            if not frame.pane.apart:
                frame.pane.bring_into_sight((x, y, x, y))

    def one_to_one(self) -> None:
        """One pixel of the image to one of the screen."""
        view = self.frames[self.active].view
        view.set(view.x, view.y, 1.0 / self.devicePixelRatioF())

    @guarded
    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.arrange()

    def arrange(self) -> None:
        """Two panes lie side by side or stacked, whichever shows the image larger."""
        row, picture = self._rows[0], self.frames[0].pane.picture
        wanted = Qt.Orientation.Horizontal
        if self.count == 2 and picture is not None:
            left, top, right, bottom = picture.box
            bar = self.frames[0].bar.height()
            across, down = self.width() / (right - left), (self.height() - bar) / (bottom - top)
            beside = min(0.5 * across, down)
            stacked = min(across, 0.5 * (self.height() - 2 * bar) / (bottom - top))
            # What hardly differs stays as it is.
            gain = 1.05 if row.orientation() == Qt.Orientation.Horizontal else 0.95
            wanted = Qt.Orientation.Vertical if stacked > gain * beside else wanted
        if row.orientation() != wanted:
            row.setOrientation(wanted)
            row.setSizes([500, 500])

    def _fit_soon(self) -> None:
        # Not the timer's own method: a connection to it would keep the panes for ever.
        self._fit.start()

    def fit_fitted(self) -> None:
        """Fit the image again where the whole of it is shown."""
        for number, frame in enumerate(self.shown):
            # Where panes share the place, the others follow the first.
            own = number == 0 or not self.links["place"]
            if frame.pane.apart or (own and frame.view.fitted):
                frame.pane.fit()

    def fit_all(self) -> None:
        """Fit the image into every pane; one is enough where they share the place."""
        for frame in self.frames if not self.links["place"] else self.frames[:1]:
            frame.pane.fit()

    def refresh(self) -> None:
        """Paint the panes in sight again."""
        for frame in self.shown:
            frame.pane.update()

    def set_marks_hidden(self, hidden: bool) -> None:
        """Hide all marks, or show them again."""
        for frame in self.frames:
            frame.pane.set_marks_hidden(hidden)

    def compare(self, number: int, how: str, name: str) -> None:
        """Divide a pane between its map and another ("divide"), or show their "difference"; "" for its map alone."""
        frame = self.frames[number]
        frame.how, frame.other_name = how, name
        self._show_all()

    def put_picture(self, picture: Picture) -> None:
        """A map was computed."""
        if picture.name in self.ranges:
            picture.low, picture.high = self.ranges[picture.name]
        self.pictures[picture.name] = picture
        for frame in self.shown:
            if picture.name in (frame.map_name, frame.other_name):
                frame.show_pictures(self.pictures)
        if picture.name == self.frames[0].map_name:
            self.arrange()
        self.looked.emit()

    def clear(self) -> None:
        """Another image comes."""
        self.pictures = {}
        self._looker.cancel_all()

    def _show_all(self) -> None:
        for frame in self.shown:
            frame.show_pictures(self.pictures)
        self.maps_changed.emit()
        self.looked.emit()

    def set_shaded(self, shaded: bool) -> None:
        """Shade where results depend on values beyond the border."""
        for frame in self.frames:
            frame.pane.shade_unsure = shaded
            frame.pane.update()

    def show_marks(self, marks: list[Marks]) -> None:
        for frame in self.frames:
            frame.pane.show_marks(marks)

    def _set_range(self, name: str, span: object) -> None:
        if isinstance(span, tuple):
            self.ranges[name] = span
        else:
            self.ranges.pop(name, None)
        for frame in self.shown:
            frame.pane.update()
            frame.show_info()
        self.range_changed.emit(name)

    # What comes into sight

    def _look_soon(self) -> None:
        """Once the view rests: else panning would be slowed by what is out of sight again."""
        wishes = [wish for frame in self.shown for wish in frame.pane.wishes()]
        if wishes != self._wishes or not (self._look.isActive() or self._looker.busy):
            self._wishes = wishes
            self._look.start(120)

    def _compute_details(self) -> None:
        wishes = self._wishes

        def work(job: Job) -> None:
            for picture, number, box in wishes:
                if job.cancelled():
                    return
                job.emit_part((picture, picture.compute(number, box, job.cancelled)))

        self._looker.submit("looking closer", work)

    def _detail_done(self, generation: int, part: tuple[Picture, Detail]) -> None:
        picture, detail = part
        picture.add_detail(detail)
        for frame in self.shown:
            frame.pane.update()

    @property
    def busy(self) -> bool:
        return self._looker.busy or self._look.isActive()

    def close_worker(self) -> None:
        self._looker.close()
        for frame in self.frames:
            frame.pane.let_go()
