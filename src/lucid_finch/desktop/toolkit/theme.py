"""Colours of the bench in light and dark, and the style sheet made from them."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtGui import QColor, QPalette
from PySide6.QtWidgets import QApplication, QWidget

from lucid_finch.core.viewing.mark_colours import MARK_COLOURS


@dataclass(frozen=True)
class Theme:
    """One set of colours, #rrggbb."""

    name: str
    shell: str
    card: str
    line: str
    text: str
    quiet: str
    faint: str
    accent: str
    accent_soft: str
    good: str
    bad: str
    # Around pixels it is dark and neutral in both themes.
    surround: str = "#23272a"
    surround_bar: str = "#1b1e21"
    surround_text: str = "#d9d7d0"
    surround_quiet: str = "#8f9590"


LIGHT = Theme(
    "light", "#ece7de", "#fbf9f5", "#d5cec2", "#23292c", "#6d6a62", "#a39e94", "#b87800", "#fcefcf", "#2b7a4b", "#b3321f"
)  # fmt: skip
DARK = Theme(
    "dark", "#2d2b28", "#393632", "#4d4943", "#ece8e0", "#b3ada2", "#7f7a71", "#f0b140", "#51431f", "#79c795", "#f08a72"
)  # fmt: skip
THEMES = {"light": LIGHT, "dark": DARK}


NEAR_COLOUR, FIT_COLOUR, SCAN_COLOUR = "#f2efe6", "#f4f2ec", "#78e8e2d6"
"""Near misses, fits and scan lines on the image; the last is translucent."""
VOTE_COLOUR, CURVE_COLOUR, GAIN_COLOUR, LOSS_COLOUR = "#f2e34c", "#7fd1ff", "#ff8fb1", "#9fe3c0"
"""Points that voted for a cell, votes of a point, what a change admits, and what it loses."""


def mark_colour(number: int) -> QColor:
    """The hue of the detector with that place in the recipe."""
    return QColor(MARK_COLOURS[number % len(MARK_COLOURS)])


def apply_theme(application: QApplication, theme: Theme) -> None:
    """Give the whole application these colours."""
    palette = QPalette()
    roles = QPalette.ColorRole
    for role, colour in (
        (roles.Window, theme.shell), (roles.Base, theme.card), (roles.AlternateBase, theme.shell), (roles.Button, theme.card),
        (roles.WindowText, theme.text), (roles.Text, theme.text), (roles.ButtonText, theme.text), (roles.ToolTipText, theme.text),
        (roles.ToolTipBase, theme.card), (roles.Highlight, theme.accent_soft), (roles.HighlightedText, theme.text),
        (roles.PlaceholderText, theme.faint), (roles.Mid, theme.line), (roles.Link, theme.accent), (roles.Accent, theme.accent),
    ):  # fmt: skip
        palette.setColor(role, QColor(colour))
    for role in (roles.WindowText, roles.Text, roles.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(theme.faint))
    application.setStyle("Fusion")
    application.setPalette(palette)
    _current[:] = [theme]
    for window in application.topLevelWidgets():
        if window.property(_DRESSED):
            window.setStyleSheet(_sheet(theme))


def dress(window: QWidget) -> None:
    """Give a window, once it is built, the style sheet of this theme and of those that follow.

    Not the application: a sheet that is there while widgets are put together is worked through at each step, and a
    start takes a third of a second longer.
    """
    window.setProperty(_DRESSED, True)
    window.setStyleSheet(_sheet(current_theme()))


def current_theme() -> Theme:
    """The theme that is in force."""
    return _current[-1]


_current = [LIGHT]
_DRESSED = "dressed"


def _sheet(t: Theme) -> str:
    return _controls(t) + _surround(t)


def _controls(t: Theme) -> str:
    """Everything that stands on the light or dark shell."""
    return f"""
    QMainWindow, QDialog, #help, #column, #settings, #topbar {{ background: {t.shell}; }}
    #topbar {{ border-bottom: 1px solid {t.line}; }}
    #column {{ border-right: 1px solid {t.line}; }}
    #settings {{ border-right: 1px solid {t.line}; border-top: 1px solid {t.line}; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
    QLabel#heading {{ color: {t.quiet}; font-weight: bold; letter-spacing: 1px; }}
    QLabel#quiet {{ color: {t.quiet}; }}
    QLabel#title {{ font-weight: bold; }}
    QLabel#bad {{ color: {t.bad}; }}
    QFrame#card {{ background: {t.card}; border: 1px solid {t.line}; border-radius: 6px; }}
    QFrame#card[chosen="true"] {{ border: 1px solid {t.accent}; background: {t.accent_soft}; }}
    QFrame#card:focus {{ border: 2px solid {t.accent}; }}
    QFrame#note {{ background: {t.card}; border: 1px solid {t.line}; border-radius: 10px; }}
    QPushButton, QToolButton {{ background: {t.card}; border: 1px solid {t.line}; border-radius: 6px; padding: 4px 10px; }}
    QPushButton:hover, QToolButton:hover {{ border-color: {t.accent}; }}
    QPushButton:focus, QToolButton:focus, QLineEdit:focus {{ border: 1px solid {t.accent}; }}
    QComboBox:focus, QListWidget:focus, QTableView:focus, QTextBrowser:focus {{ border: 1px solid {t.accent}; }}
    QCheckBox:focus, QRadioButton:focus {{ color: {t.accent}; }}
    QTabBar:focus {{ border-bottom: 1px solid {t.accent}; }}
    QPushButton:disabled, QToolButton:disabled, QLineEdit:disabled {{ color: {t.faint}; }}
    QPushButton:checked, QToolButton:checked {{ background: {t.accent_soft}; border-color: {t.accent}; }}
    QPushButton#bare {{ border: none; background: transparent; color: {t.quiet}; padding: 1px 4px; }}
    QPushButton#bare:hover {{ color: {t.accent}; }}
    QToolButton::menu-indicator {{ image: none; }}
    QLineEdit {{ background: {t.card}; border: 1px solid {t.line}; border-radius: 5px; padding: 3px 6px;
        selection-background-color: {t.accent_soft}; selection-color: {t.text}; }}
    QLineEdit#rename {{ padding: 0 4px; }}
    QLineEdit[wrong="true"] {{ border: 1px solid {t.bad}; }}
    QMenu {{ background: {t.card}; border: 1px solid {t.line}; }}
    QMenu::item {{ padding: 5px 22px; }}
    QMenu::item:selected {{ background: {t.accent_soft}; }}
    QMenu::item:disabled {{ color: {t.faint}; }}
    QToolTip {{ background: {t.card}; color: {t.text}; border: 1px solid {t.line}; padding: 4px; }}
    QTabBar {{ qproperty-drawBase: 0; }}
    QTabWidget::pane {{ border: none; background: {t.card}; }}
    QTabBar::tab {{ background: transparent; color: {t.quiet}; padding: 6px 12px; border: none; }}
    QTabBar::tab:selected {{ background: {t.card}; color: {t.text}; border-top-left-radius: 6px; border-top-right-radius: 6px; }}
    QHeaderView {{ background: {t.card}; }}
    QHeaderView::section {{ background: {t.card}; color: {t.quiet}; border: none; border-bottom: 1px solid {t.line};
        padding: 4px 6px; }}
    QTableCornerButton::section {{ background: {t.card}; border: none; }}
    QSlider::groove:horizontal {{ height: 3px; background: {t.line}; border-radius: 1px; }}
    QSlider::handle:horizontal {{ width: 11px; margin: -5px 0; border-radius: 5px; background: {t.accent}; }}
    QSlider::handle:horizontal:disabled {{ background: {t.faint}; }}
    QProgressBar {{ background: {t.line}; border: none; border-radius: 3px; max-height: 6px; }}
    QProgressBar::chunk {{ background: {t.accent}; border-radius: 3px; }}
    QSplitter::handle {{ background: {t.line}; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; min-width: 24px; margin: 2px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QToolButton#fold {{ border: none; background: transparent; color: {t.quiet}; padding: 2px 0; font-weight: bold; }}
    QToolButton#fold:hover, QToolButton#fold:focus {{ color: {t.accent}; }}
    QPushButton#mode {{ border-radius: 0; padding: 4px 12px; margin: 0; }}
    QToolButton#tight {{ padding: 3px 6px; }}
    QToolButton#bare {{ border: none; background: transparent; color: {t.quiet}; padding: 0 3px; }}
    QToolButton#bare:hover, QToolButton#bare:focus {{ color: {t.accent}; }}
    QToolButton::menu-button {{ border: none; width: 14px; }}
    QLabel:disabled {{ color: {t.faint}; }}
    QListWidget {{ background: {t.card}; color: {t.text}; }}
    QListWidget::item {{ padding: 4px 6px; }}
    QListWidget::item:selected {{ background: {t.accent_soft}; color: {t.text}; }}
    QListView {{ background: {t.card}; }}
    QFrame#tourframe {{ border: 3px solid {t.accent}; border-radius: 4px; background: transparent; }}
    """


def _surround(t: Theme) -> str:
    """Everything that stands on the dark surround of the pictures."""
    return f"""
    QToolButton#scene, QToolButton#recent {{ background: transparent; border: 1px solid transparent; color: {t.surround_text}; }}
    QToolButton#recent {{ color: {t.surround_quiet}; padding: 2px 8px; }}
    QToolButton#scene:hover, QToolButton#scene:focus, QToolButton#recent:hover, QToolButton#recent:focus {{
        border-color: #f0b140; color: #f0b140; }}
    QLabel#emptytitle {{ color: {t.surround_text}; font-size: 20px; }}
    QLabel#emptytext {{ color: {t.surround_quiet}; }}
    #strip, #panes {{ background: {t.surround}; }}
    #strip QLabel, #panebar QLabel, #timeline QLabel {{ color: {t.surround_text}; }}
    #panebar {{ background: {t.surround_bar}; }}
    QToolButton#panetitle {{ background: transparent; border: none; color: {t.surround_text}; padding: 1px 6px; }}
    QToolButton#panetitle:hover, QToolButton#panetitle:focus {{ color: #f0b140; }}
    #panebar[active="true"] QToolButton#panetitle {{ color: #f0b140; }}
    #panebar QLabel#paneinfo {{ color: {t.surround_quiet}; }}
    """
