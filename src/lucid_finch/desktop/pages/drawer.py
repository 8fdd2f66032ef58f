"""The drawer: tables of findings and near misses, images, pixel values, measurements and merged findings."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QTabWidget

from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.pages.batch import BatchPage
from lucid_finch.desktop.pages.calibration import CalibrationPage
from lucid_finch.desktop.pages.image_list import ImageList
from lucid_finch.desktop.pages.kept import KeptPage
from lucid_finch.desktop.pages.measure import MeasurePage
from lucid_finch.desktop.pages.merged import MergedPage
from lucid_finch.desktop.pages.pixel_values import PixelValuesPage
from lucid_finch.desktop.pages.tables import FilteredTable
from lucid_finch.desktop.pages.trend import TrendPage
from lucid_finch.desktop.study.preferences import Preferences
from lucid_finch.desktop.study.study import Study


class Drawer(QTabWidget):
    """Pages of results; follows the study on request."""

    columns_chosen = Signal()
    """The columns that are shown have changed, and with them the preferences."""
    merged_in_front_changed = Signal()

    def __init__(self, study: Study, preferences: Preferences, drawing: Drawing) -> None:
        super().__init__()
        self.study, self.preferences = study, preferences
        self.findings_page = FilteredTable(self.tr("Findings"))
        self.near_page = FilteredTable(self.tr("Near misses"))
        self.merged_page = MergedPage(self.tr("Merged"))
        self.findings, self.near_misses = self.findings_page.table, self.near_page.table
        self.images = ImageList()
        self.values, self.measure = PixelValuesPage(), MeasurePage(drawing)
        self.kept, self.calibration = KeptPage(study), CalibrationPage(study, drawing)
        self.trend = TrendPage(study, self.images)
        self.trend.wanted.connect(self.images.select)
        self.batch = BatchPage(study, self.images)
        self.batch.image_wanted.connect(self.images.select)
        self.images.listed.connect(self.show_counts)
        self.images.added.connect(self.show_counts)
        self.calibration.listed = lambda: [entry.place for entry in self.images.entries]
        self.measure.calibration = lambda: study.calibration
        study.recipe_changed.connect(self.measure.refresh)
        for page, name in (
            (self.findings_page, self.tr("Findings")),
            (self.near_page, self.tr("Near misses")),
            (self.images, self.tr("Images")),
            (self.trend, self.tr("Trend")),
            (self.batch, self.tr("Batch")),
            (self.values, self.tr("Pixel values")),
            (self.measure, self.tr("Measure")),
            (self.calibration, self.tr("Calibration")),
            (self.kept, self.tr("Kept results")),
            (self.merged_page, self.tr("Merged")),
        ):
            self.addTab(page, name)
        self._merged_tab = self.indexOf(self.merged_page)
        self.setTabVisible(self._merged_tab, False)
        self.setDocumentMode(True)
        self.setAccessibleName(self.tr("Results"))
        self.tabBar().setAccessibleName(self.tr("Results"))
        for table in (self.findings, self.near_misses):
            table.columns_chosen.connect(lambda t=table: self._keep_columns(t.hidden))
        self._merged_in_front = False
        self.currentChanged.connect(self._page_changed)

    @property
    def merged_in_front(self) -> bool:
        """Whether the page of merged findings is the one in sight."""
        return self.currentWidget() is self.merged_page

    def _page_changed(self) -> None:
        if self._merged_in_front != self.merged_in_front:
            self._merged_in_front = self.merged_in_front
            self.merged_in_front_changed.emit()

    def show_counts(self) -> None:
        """Counts in the names of the pages; cheap, and at once."""
        found, images = self.study.detection, len(self.images.entries)
        counts = (len(found.findings), len(found.near_misses)) if found is not None else ("", "")
        self.setTabText(0, self.tr("Findings {}").format(counts[0]))
        self.setTabText(1, self.tr("Near misses {}").format(counts[1]))
        self.setTabText(2, self.tr("Images {}").format(images or ""))

    def show_tables(self) -> None:
        """Fill the tables with the current results."""
        found = self.study.detection
        if found is None:
            self.findings_page.show_table(None, {})
            self.near_page.show_table(None, {})
        else:
            for table in (self.findings, self.near_misses):
                table.hidden = set(self.preferences.hidden_columns.get(found.kind, []))
            self.findings_page.show_table(found.findings, found.labels, found.named_by)
            self.near_page.show_table(found.near_misses, found.labels)
        self.show_merged()

    def show_merged(self) -> None:
        """The merged findings of the group of the detector in sight, else of the first group."""
        groups = sorted(self.study.merged(), key=lambda one: self.study.detector not in one[0])
        merged = groups[0][1] if groups else None
        self.merged_page.show_merged(merged)
        self.setTabVisible(self._merged_tab, merged is not None)
        if merged is not None:
            self.setTabText(self._merged_tab, self.tr("Merged {}").format(len(merged.findings)))
            if self.merged_in_front:
                self.merged_in_front_changed.emit()

    def _keep_columns(self, hidden: set[str]) -> None:
        found = self.study.detection
        if found is not None:
            self.preferences.hidden_columns = {**self.preferences.hidden_columns, found.kind: sorted(hidden)}
            for table in (self.findings, self.near_misses):
                table.hidden = set(hidden)
                table.apply_hidden()
            self.columns_chosen.emit()

    @property
    def _page_in_front(self) -> FilteredTable:
        page = self.currentWidget()
        return page if isinstance(page, FilteredTable) else self.findings_page

    def keep_result(self) -> None:
        """Keep the result of now, and show what follows against it."""
        self.kept.keep_now()
        self.setCurrentWidget(self.kept)

    def copy_table(self) -> None:
        """Copy the table in front, or the findings."""
        self._page_in_front.table.copy()

    def go_to_filter(self) -> None:
        """Put the cursor into the filter of the table in front, or of the findings."""
        if not isinstance(self.currentWidget(), FilteredTable):
            self.setCurrentIndex(0)
        self._page_in_front.field.setFocus()

    def open_column_menu(self) -> None:
        """The menu of columns of the table in front."""
        header = self._page_in_front.table.horizontalHeader()
        self._page_in_front.table.column_menu(-1).popup(header.mapToGlobal(header.rect().bottomLeft()))

    def start_measuring(self, kind: str) -> None:
        """Have the user draw a shape, and show what it measures."""
        self.setCurrentWidget(self.measure)
        self.measure.start(kind)

    def show_calibration(self) -> None:
        """Show the page of the calibration."""
        self.setCurrentWidget(self.calibration)

    def show_trend(self) -> None:
        """Show the page of trends."""
        self.setCurrentWidget(self.trend)

    def show_batch(self) -> None:
        """Show the page of batches."""
        self.setCurrentWidget(self.batch)

    def show_values(self) -> None:
        """Show the page of pixel values."""
        self.setCurrentWidget(self.values)
