"""Which maps there are, from the source to the findings, and where they are shown: panes and evidence strip."""

from __future__ import annotations

from PySide6.QtCore import QObject

from lucid_finch.desktop.canvas.evidence_strip import EvidenceStrip
from lucid_finch.desktop.canvas.panes import PaneGroup
from lucid_finch.desktop.study.picture import Picture
from lucid_finch.desktop.study.runner import Runner
from lucid_finch.desktop.study.study import Study


class Stages(QObject):
    """Follows the runner's pictures; `refresh` follows the study."""

    def __init__(self, study: Study, runner: Runner, panes: PaneGroup, strip: EvidenceStrip) -> None:
        super().__init__(panes)
        self.study, self.panes, self.strip = study, panes, strip
        self._fit_size: tuple[int, int] | None = None
        """Size of the image that the panes were fitted to."""
        runner.picture_made.connect(self._show_picture)
        runner.wanted_maps = lambda: [name for frame in panes.shown for name in (frame.map_name, frame.other_name)]
        panes.range_changed.connect(self._range_changed)
        panes.activated.connect(lambda number: self._show_active())
        strip.chosen.connect(self.show_map)
        for frame in panes.frames:
            frame.offered = self.listed

    def listed(self) -> list[tuple[str, str]]:
        """Names and labels of all maps there are, in their order."""
        stages = [("source", self.tr("source"))]
        # The last step's result is what is called prepared.
        stages += [(card, self.study.stage_title(card)) for card, _ in self.study.stages[:-1]]
        stages.append(("prepared", self.tr("prepared")))
        found = self.study.detection
        stages += [(m.name, m.label) for m in found.evidence.values()] if found is not None else []
        return stages + [(name, self.study.stage_title(name)) for name in self.study.rectified]

    def refresh(self) -> None:
        """Show the stages of the detector in sight."""
        stages, found = self.listed(), self.study.detection
        fresh = stages != [(stage.name, stage.label) for stage in self.strip.stages.values()]
        self.strip.show_stages(stages)
        if fresh:
            for picture in self.panes.pictures.values():
                self.strip.show_picture(picture)
        if found is not None:
            self.panes.use_maps([name for name, _ in stages], found.main_maps)
        self._show_active()

    def show_map(self, name: str) -> None:
        """Show a map in the active pane."""
        self.panes.show_map(self.panes.active, name)
        self._show_active()

    def set_panes(self, count: int) -> None:
        """One, two or four panes."""
        self.panes.set_count(count)
        self._show_active()

    def _show_active(self) -> None:
        self.strip.show_active({frame.map_name for frame in self.panes.shown})

    def _show_picture(self, picture: Picture) -> None:
        self.panes.put_picture(picture)
        self.strip.show_picture(picture)
        size = self.study.image.source_size if self.study.image is not None else None
        if picture.name == "source" and size != self._fit_size:
            self._fit_size = size
            self.panes.fit_all()

    def _range_changed(self, name: str) -> None:
        picture = self.panes.pictures.get(name)
        if picture is not None:
            self.strip.show_picture(picture)
