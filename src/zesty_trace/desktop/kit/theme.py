"""Colours, fonts and the style sheet: paper-warm light, and dark."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication, QWidget

FAMILY = "Inter"
_log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Theme:
    """Colours by use, as #rrggbb."""

    name: str
    paper: str
    panel: str
    sheet: str
    line: str
    ink: str
    muted: str
    copper: str
    bottom: str
    inner1: str
    inner2: str
    lemon: str
    lime: str
    teal: str
    stop: str
    fix: str
    note: str
    ground: str
    board: str
    part: str
    faint: str
    on_accent: str

    def color(self, name: str, alpha: int = 255) -> QColor:
        """Return one of the colours, with an alpha; the value is shared, so it is not to be changed."""
        return _color(getattr(self, name), alpha)


@cache
def _color(text: str, alpha: int) -> QColor:
    color = QColor(text)
    color.setAlpha(alpha)
    return color


LIGHT = Theme(
    "light",
    paper="#faf7ee",
    panel="#ffffff",
    sheet="#fffdf7",
    line="#e2dcc8",
    ink="#26312f",
    muted="#5f6965",
    copper="#d9620f",
    bottom="#0f7b80",
    inner1="#8a3d6b",
    inner2="#4b5aa8",
    lemon="#f2a900",
    lime="#4c7a1d",
    teal="#0b7377",
    stop="#b3261e",
    fix="#f2a900",
    note="#4c7a1d",
    ground="#5d6870",
    board="#f0e6cc",
    part="#f3eedc",
    faint="#efe9d8",
    on_accent="#ffffff",
)
DARK = Theme(
    "dark",
    paper="#1c2120",
    panel="#252b2a",
    sheet="#212726",
    line="#3d4644",
    ink="#ece7d8",
    muted="#a7b0ab",
    copper="#f08a3c",
    bottom="#4fb7b5",
    inner1="#d78fb8",
    inner2="#98a5e6",
    lemon="#f6bf3b",
    lime="#9cc95f",
    teal="#5cc4c2",
    stop="#f0766b",
    fix="#f6bf3b",
    note="#9cc95f",
    ground="#98a4ab",
    board="#3a352a",
    part="#2f3634",
    faint="#2c3331",
    on_accent="#1c2120",
)
THEMES = {"light": LIGHT, "dark": DARK}


def load_fonts(app: QApplication) -> None:
    """Make the shipped family the application's font."""
    folder = files("zesty_trace") / "data" / "fonts"
    for path in sorted((f for f in folder.iterdir() if f.name.endswith(".otf")), key=lambda f: f.name):
        if QFontDatabase.addApplicationFontFromData(path.read_bytes()) < 0:
            _log.warning("the font %s cannot be read", path.name)
    font = plain_font()
    font.setPixelSize(14)
    app.setFont(font)


def plain_font() -> QFont:
    """Return the shipped family with each letter as it is written: it would make 0x45 a multiplication."""
    font = QFont(FAMILY)
    font.setFeature(QFont.Tag("calt"), 0)
    return font


def style_sheet(t: Theme) -> str:
    """Return the Qt style sheet of a theme."""
    return f"""
    * {{ color: {t.ink}; font-family: "{FAMILY}"; }}
    QDialog {{ border: 2px solid {t.copper}; }}
    QMainWindow, QWidget#page, QScrollArea, QWidget#scrolled {{ background: {t.paper}; border: none; }}
    QDialog {{ background: {t.paper}; }}
    QWidget#header {{ background: {t.panel}; border-bottom: 1px solid {t.line}; }}
    QFrame#card {{ background: {t.panel}; border: 1px solid {t.line}; border-radius: 8px; }}
    QFrame#sheet {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 10px; }}
    QLabel#ask {{ font-size: 19px; font-weight: 600; padding: 4px 0; }}
    QFrame#notice {{ background: {t.faint}; border: 1px solid {t.fix}; border-left: 6px solid {t.fix};
        border-radius: 6px; }}
    QLabel {{ background: transparent; }}
    QLabel#title {{ font-size: 20px; font-weight: 700; }}
    QLabel#heading {{ font-size: 15px; font-weight: 700; }}
    QLabel#muted {{ color: {t.muted}; font-size: 13px; }}
    QLabel#caution {{ background: {t.faint}; border-left: 5px solid {t.lemon}; padding: 8px; border-radius: 4px; }}
    QLabel#big {{ font-size: 26px; font-weight: 700; }}
    QLabel#bad {{ color: {t.stop}; font-weight: 600; }}
    QLabel#good {{ color: {t.lime}; font-weight: 600; }}
    QPushButton {{ background: {t.panel}; border: 1px solid {t.line}; border-radius: 6px; padding: 7px 14px;
        min-height: 20px; font-weight: 600; }}
    QPushButton:hover {{ border-color: {t.copper}; }}
    QPushButton:focus {{ border: 2px solid {t.teal}; padding: 6px 13px; }}
    QPushButton:disabled {{ color: {t.muted}; background: {t.faint}; }}
    QPushButton#primary {{ background: {t.copper}; color: {t.on_accent}; border-color: {t.copper}; }}
    QPushButton#primary:disabled {{ background: {t.line}; color: {t.muted}; border-color: {t.line}; }}
    QPushButton#link {{ background: transparent; border: none; color: {t.teal}; padding: 2px 4px; text-align: left; }}
    QPushButton#link:hover {{ text-decoration: underline; }}
    QPushButton#link:focus {{ border: 1px solid {t.teal}; padding: 1px 3px; }}
    QPushButton#chip {{ padding: 5px 10px; min-height: 18px; font-size: 13px; }}
    QPushButton#chip:focus {{ padding: 4px 9px; }}
    QPushButton#chip::menu-indicator {{ width: 0; image: none; }}
    QWidget#drawer {{ background: {t.sheet}; }}
    QFrame#drawerFrame {{ background: {t.sheet}; border: none; border-left: 1px solid {t.line}; }}
    QMenu {{ background: {t.panel}; border: 1px solid {t.line}; padding: 4px; }}
    QMenu::item {{ padding: 8px 18px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {t.faint}; }}
    QSlider::groove:horizontal {{ background: {t.line}; height: 6px; border-radius: 3px; }}
    QSlider::handle:horizontal {{ background: {t.copper}; width: 20px; margin: -8px 0; border-radius: 10px; }}
    QTreeWidget {{ font-size: 13px; }}
    QTreeWidget::item {{ padding: 4px 2px; }}
    QPushButton:checked {{ background: {t.faint}; border-color: {t.copper}; }}
    QLineEdit, QAbstractSpinBox, QComboBox, QPlainTextEdit {{ background: {t.sheet};
        border: 1px solid {t.line}; border-radius: 6px; padding: 5px 8px; min-height: 22px;
        selection-background-color: {t.lemon}; selection-color: #26312f; }}
    QLineEdit:focus, QAbstractSpinBox:focus, QComboBox:focus {{ border: 2px solid {t.lime}; padding: 4px 7px; }}
    QAbstractSpinBox QLineEdit {{ border: none; padding: 0; background: transparent; min-height: 0; }}
    QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; height: 0; border: none; }}
    QComboBox::drop-down, QDateEdit::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow, QDateEdit::down-arrow {{ width: 0; height: 0; border-left: 5px solid {t.sheet};
        border-right: 5px solid {t.sheet}; border-top: 6px solid {t.muted}; }}
    QComboBox QAbstractItemView {{ background: {t.panel}; selection-background-color: {t.faint};
        selection-color: {t.ink}; }}
    QTableWidget, QListWidget, QTreeWidget {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 8px;
        gridline-color: {t.faint}; alternate-background-color: {t.paper}; }}
    QTableWidget, QListWidget {{ font-size: 13px; }}
    QTableWidget::item, QListWidget::item {{ padding: 3px 5px; }}
    QTableWidget::item:selected, QListWidget::item:selected {{ background: {t.faint}; color: {t.ink}; }}
    QHeaderView::section {{ background: {t.paper}; color: {t.muted}; border: none; border-bottom: 1px solid {t.line};
        padding: 5px 5px; font-weight: 600; font-size: 13px; }}
    QTableCornerButton::section {{ background: {t.paper}; border: none; }}
    QProgressBar {{ background: {t.faint}; border: 1px solid {t.line}; border-radius: 5px; height: 12px;
        text-align: center; font-size: 11px; }}
    QProgressBar::chunk {{ background: {t.lemon}; border-radius: 4px; }}
    QToolTip {{ background: {t.panel}; color: {t.ink}; border: 1px solid {t.line}; }}
    QSplitter::handle {{ background: transparent; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; }}
    QScrollBar::handle:vertical {{ background: {t.line}; border-radius: 5px; min-height: 30px; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; }}
    QScrollBar::handle:horizontal {{ background: {t.line}; border-radius: 5px; min-width: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QCheckBox {{ spacing: 8px; }}
    """


_current = LIGHT


def current() -> Theme:
    """Return the theme in use."""
    return _current


def use(app: QApplication, name: str) -> Theme:
    """Switch the application to a theme by name. What is on screen is then given its style by `dress`."""
    global _current
    _current = THEMES.get(name, LIGHT)
    app.setPalette(palette(_current))
    return _current


def dress(widget: QWidget) -> None:
    """Give a widget, with all in it, the style of the theme in use, unless it has it.

    One sheet for the whole application would be worked out anew for every widget of every station at each switch; so
    each piece has its own, and what is hidden gets it when it is shown.
    """
    if widget.property("dressed") != _current.name:
        widget.setProperty("dressed", _current.name)
        widget.setStyleSheet(_sheet(_current.name))


@cache
def _sheet(name: str) -> str:
    return style_sheet(THEMES[name])


def palette(t: Theme) -> QPalette:
    """Return the colours of what has no style of its own: the ground between the pieces, dialogs of the system."""
    role = QPalette.ColorRole
    found = QPalette()
    for which, name in (
        (role.Window, "paper"),
        (role.WindowText, "ink"),
        (role.Base, "sheet"),
        (role.AlternateBase, "paper"),
        (role.Text, "ink"),
        (role.Button, "panel"),
        (role.ButtonText, "ink"),
        (role.Highlight, "lemon"),
        (role.ToolTipBase, "panel"),
        (role.ToolTipText, "ink"),
        (role.PlaceholderText, "muted"),
    ):
        found.setColor(which, t.color(name))
    return found


def voltage_color(volt: float | None, is_ground: bool) -> str:
    """Return the theme colour name for a wire at this voltage: the same voltage has the same colour everywhere."""
    if is_ground:
        return "ground"
    if volt is None:
        return "ink"
    if volt > 8.0:
        return "copper"
    if volt > 4.2:
        return "lemon"
    return "teal" if volt > 1.0 else "ink"
