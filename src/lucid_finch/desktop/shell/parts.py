"""The parts of a window, for tools that work with several of them."""

from __future__ import annotations

from PySide6.QtWidgets import QMainWindow

from lucid_finch.desktop.canvas.drawing import Drawing
from lucid_finch.desktop.canvas.evidence_strip import EvidenceStrip
from lucid_finch.desktop.canvas.overlays import Overlays
from lucid_finch.desktop.canvas.panes import PaneFrame, PaneGroup
from lucid_finch.desktop.canvas.stages import Stages
from lucid_finch.desktop.frames.camera import CameraBar
from lucid_finch.desktop.frames.timeline import Timeline
from lucid_finch.desktop.pages.asking import Asking
from lucid_finch.desktop.pages.drawer import Drawer
from lucid_finch.desktop.pages.explanation_card import ExplanationCard
from lucid_finch.desktop.recipe_panel.parameter_sweep import Sweep
from lucid_finch.desktop.recipe_panel.recipe_cards import RecipeCards
from lucid_finch.desktop.recipe_panel.settings import SettingsPanel
from lucid_finch.desktop.shell.appearance import Appearance
from lucid_finch.desktop.shell.documents import Documents
from lucid_finch.desktop.shell.work_status import WorkStatus
from lucid_finch.desktop.study.runner import Runner
from lucid_finch.desktop.study.selection import Selection
from lucid_finch.desktop.study.study import Study
from lucid_finch.desktop.toolkit.bars import NoticeBar, TopBar


class Parts(QMainWindow):
    """A window that has them; `window.Bench` makes and connects them."""

    study: Study
    runner: Runner
    selection: Selection
    panes: PaneGroup
    overlays: Overlays
    stages: Stages
    strip: EvidenceStrip
    recipe_cards: RecipeCards
    settings: SettingsPanel
    drawer: Drawer
    drawing: Drawing
    explanation: ExplanationCard
    asking: Asking
    sweep: Sweep
    bar: TopBar
    notice: NoticeBar
    status: WorkStatus
    documents: Documents
    timeline: Timeline
    camera: CameraBar
    appearance: Appearance

    @property
    def frames(self) -> list[PaneFrame]:
        """All four panes, in sight or not."""
        return self.panes.frames

    @property
    def active_frame(self) -> PaneFrame:
        """The active pane."""
        return self.panes.frames[self.panes.active]

    def show_failure(self, text: str) -> None:
        """Say what went wrong without a dialog in the way."""
        self.notice.tell(text, wrong=True)
