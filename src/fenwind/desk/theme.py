"""Colours by role, the shipped font, and the one style sheet."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path
from typing import NamedTuple

from PySide6.QtCore import QRect
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPainter, QPainterPath, QPalette
from PySide6.QtWidgets import QApplication, QWidget


class Roles(NamedTuple):
    """A chart on good paper: what each colour is for."""

    paper: str = "#FAF8F3"
    sheet: str = "#FFFFFF"
    rule: str = "#D9D4C7"
    ink: str = "#1F2A30"
    faint: str = "#656C71"
    rail: str = "#22302E"
    water: str = "#1F6F8B"
    reed: str = "#4E7A51"
    sun: str = "#8C5B10"
    flare: str = "#C2410C"
    chosen: str = "#E9F1F2"
    part: str = "#E9F1F2"
    alarm: str = "#FFF6F0"
    rail_text: str = "#C9D1CC"
    off: str = "#A9A9A4"
    off_text: str = "#6C6C67"
    on_ink: str = "#FFFFFF"
    part_rule: str = "#B9D3D8"
    part_hover: str = "#DBEAEC"
    map: str = "#FDFCF8"
    grid: str = "#ECE8DD"
    grid_text: str = "#6F7578"
    hull: str = "#C5C4BC"
    ellipse: str = "#7FAAB5"
    backdrop: str = "#B4B1A6"


DAY = Roles()
#: The same roles by lamplight: nothing brighter than the ink.
NIGHT = Roles(
    paper="#171E1F",
    sheet="#1E2729",
    rule="#38443F",
    ink="#DCE1DB",
    faint="#97A2A0",
    rail="#0F1516",
    water="#6DB3CB",
    reed="#8DBB90",
    sun="#D9A54A",
    flare="#F0814F",
    chosen="#26383D",
    part="#22343A",
    alarm="#2C221D",
    rail_text="#9AA6A2",
    off="#5F6A68",
    off_text="#96A19E",
    on_ink="#171E1F",
    part_rule="#3C5C66",
    part_hover="#29414A",
    map="#1A2223",
    grid="#29322F",
    grid_text="#828C89",
    hull="#4E5955",
    ellipse="#4F8797",
    backdrop="#56605C",
)
_shown = {"roles": DAY}
FAMILY = "IBM Plex Sans"


#: How large text is, 1 as drawn; set once, before anything is shown.
_text = {"scale": 1.0}
LEAST_TEXT, MOST_TEXT = 0.8, 2.0


def set_text_scale(scale: float) -> None:
    """Make all text, and what is sized by it, larger or smaller from the next window on."""
    _text["scale"] = min(max(scale, LEAST_TEXT), MOST_TEXT)


def text_scale() -> float:
    """How large text is."""
    return _text["scale"]


def scaled(px: float) -> int:
    """Pixels of something that grows with the text."""
    return round(px * _text["scale"])


#: Text in the middle of a box, as Qt counts alignment.
CENTRED = 0x84


@cache
def colour(role: str) -> QColor:
    """The colour of a role; shared, so do not change it."""
    return QColor(getattr(_shown["roles"], role))


@cache
def paint(role: str) -> QPalette:
    """A palette of one colour; what is painted with it in the first moments needs nothing of Qt's namespace,
    which pens and brushes of a colour ask for (see the shell). Shared, so do not change it."""
    palette = QPalette()
    for part in (QPalette.ColorRole.Window, QPalette.ColorRole.WindowText):
        palette.setColor(part, colour(role))
    return palette


def fill(p: QPainter, path: QPainterPath, role: str) -> None:
    """Fill a path with the colour of a role."""
    p.fillPath(path, paint(role).brush(QPalette.ColorRole.Window))


def write(p: QPainter, widget: QWidget, rect: QRect, text: str, role: str, alignment: int = CENTRED) -> None:
    """Write a text into a rectangle in the colour of a role."""
    widget.style().drawItemText(p, rect, alignment, paint(role), True, text, QPalette.ColorRole.WindowText)


@cache
def font(px: float = 13, weight: QFont.Weight = QFont.Weight.Normal, spacing: float = 0.0) -> QFont:
    """The shipped font at a pixel size; spacing widens letters by that many pixels. Shared, so do not change
    it."""
    f = QFont(FAMILY)
    f.setPixelSize(scaled(px))
    f.setWeight(weight)
    if spacing:
        f.setLetterSpacing(QFont.SpacingType.AbsoluteSpacing, spacing)
    return f


NORMAL, MEDIUM, SEMIBOLD = QFont.Weight.Normal, QFont.Weight.Medium, QFont.Weight.DemiBold


def is_night() -> bool:
    """Whether the night theme is shown."""
    return _shown["roles"] is NIGHT


def apply_theme(app: QApplication, night: bool = False) -> None:
    """Load the fonts and set palette and style sheet, by day or by night."""
    _shown["roles"] = NIGHT if night else DAY
    colour.cache_clear()
    paint.cache_clear()
    for path in sorted((Path(__file__).parent / "fonts").glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(path))
    app.setStyle("Fusion")
    app.setFont(font(13))
    palette = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, "paper"),
        (QPalette.ColorRole.Base, "sheet"),
        (QPalette.ColorRole.Text, "ink"),
        (QPalette.ColorRole.WindowText, "ink"),
        (QPalette.ColorRole.ButtonText, "ink"),
        (QPalette.ColorRole.Button, "sheet"),
        (QPalette.ColorRole.Highlight, "water"),
        (QPalette.ColorRole.HighlightedText, "sheet"),
        (QPalette.ColorRole.PlaceholderText, "faint"),
        (QPalette.ColorRole.ToolTipBase, "ink"),
        (QPalette.ColorRole.ToolTipText, "sheet"),
        (QPalette.ColorRole.Link, "water"),
    ):
        palette.setColor(role, colour(name))
    app.setPalette(palette)
    roles = _shown["roles"]
    sheet = _sheet(roles) + _buttons(roles) + _views(roles)
    app.setStyleSheet(re.sub(r"font-size: (\d+)px", lambda m: f"font-size: {scaled(float(m[1]))}px", sheet))


def _sheet(r: Roles) -> str:
    return f"""
* {{ outline: none; }}
QMainWindow, QWidget#sheet {{ background: {r.paper}; }}
QLabel {{ background: transparent; }}
QLabel[look="caption"] {{ color: {r.faint}; font-size: 11px; }}
QLabel[look="faint"] {{ color: {r.faint}; font-size: 12px; }}
QLabel[look="draggable"] {{ color: {r.water}; font-size: 12px; border-bottom: 1px dashed {r.water}; }}
QLabel[look="doubt"] {{ color: {r.flare}; font-size: 12px; }}
QLabel[look="caution"] {{ color: {r.sun}; }}
QLabel[look="sun"] {{ color: {r.sun}; font-size: 12px; }}
QLabel[look="result"] {{ padding: 6px 12px; background: {r.sheet}; border-top: 1px solid {r.rule}; }}
QPlainTextEdit {{ background: {r.sheet}; border: 1px solid {r.rule}; }}
QFrame#trail, QScrollArea#trail, QWidget#trail {{ background: {r.sheet}; border: none; }}
QScrollArea#doubts-list {{ border-top: 1px solid {r.rule}; }}
QWidget#doubts {{ background: {r.sheet}; }}
QWidget#message {{ background: {r.sheet}; border-top: 1px solid {r.rule}; }}
QFrame#finder {{ background: {r.sheet}; border: 1px solid {r.water}; border-radius: 6px; }}
QListWidget[look="found"] {{ border: none; }}
QListWidget[look="found"]::item {{ padding: 4px 6px; }}
QLabel[look="statement"] {{ font-size: 19px; color: {r.ink}; }}
QLabel[look="statement"][small="true"] {{ font-size: 16px; }}
"""


def _buttons(r: Roles) -> str:
    return f"""
QPushButton[look="part"] {{ font-size: 19px; font-weight: 500; color: {r.water}; background: {r.part};
  border: none;
  border-bottom: 2px solid {r.part_rule}; border-radius: 3px; padding: 0px 5px 1px 5px; text-align: left; }}
QPushButton[look="part"][small="true"] {{ font-size: 16px; }}
QPushButton[look="part"]:hover, QPushButton[look="part"]:focus {{ background: {r.part_hover};
  border-bottom: 2px solid {r.water}; }}
QPushButton[look="part"]:disabled {{ color: {r.ink}; background: transparent;
  border-bottom: 2px solid transparent; }}
QPushButton[look="part"]::menu-indicator {{ image: none; width: 0; }}
QPushButton[look="link"], QToolButton[look="link"] {{ color: {r.water}; background: transparent;
  border: none; padding: 1px 2px; text-align: left; }}
QPushButton[look="link"]:hover, QPushButton[look="link"]:focus {{ text-decoration: underline; }}
QPushButton[look="link"]::menu-indicator {{ image: none; width: 0; }}
QPushButton[look="head"] {{ color: {r.water}; background: transparent; border: none;
  border-bottom: 1px dotted {r.water}; padding: 0 0 1px 0; }}
QPushButton[look="head"]:hover, QPushButton[look="head"]:focus {{ border-bottom: 1px solid {r.water}; }}
QPushButton[look="head"]::menu-indicator {{ image: none; width: 0; }}
QPushButton[look="job"] {{ font-size: 15px; font-weight: 600; color: {r.ink}; background: transparent;
  border: none; padding: 4px 6px; text-align: left; }}
QPushButton[look="job"]:hover, QPushButton[look="job"]:focus {{ background: {r.part}; border-radius: 4px; }}
QPushButton[look="job"]::menu-indicator {{ image: none; width: 0; }}
QPushButton[look="main"] {{ color: {r.on_ink}; background: {r.ink}; border: 1px solid {r.ink};
  border-radius: 4px; padding: 5px 14px; font-weight: 600; }}
QPushButton[look="main"]:hover, QPushButton[look="main"]:focus {{ background: {r.water};
  border-color: {r.water}; }}
QPushButton[look="main"]:disabled {{ background: {r.off}; border-color: {r.off}; }}
QPushButton[look="second"] {{ color: {r.ink}; background: {r.sheet}; border: 1px solid {r.ink};
  border-radius: 4px; padding: 5px 14px; font-weight: 600; }}
QPushButton[look="second"]:hover, QPushButton[look="second"]:focus {{ border-color: {r.water};
  color: {r.water}; }}
QPushButton[look="chip"] {{ color: {r.ink}; background: {r.sheet}; border: 1px solid {r.rule};
  border-radius: 11px; padding: 2px 10px; font-size: 12px; font-weight: 500; }}
QPushButton[look="chip"]:checked {{ color: {r.on_ink}; background: {r.ink}; border-color: {r.ink}; }}
QPushButton[look="chip"]:focus {{ border-color: {r.water}; }}
QPushButton[look="find"] {{ color: {r.faint}; background: {r.paper}; border: 1px solid {r.rule};
  border-radius: 14px; padding: 5px 14px; text-align: left; }}
QPushButton[look="find"]:hover, QPushButton[look="find"]:focus {{ border-color: {r.water}; }}
QLineEdit {{ background: {r.sheet}; border: 1px solid {r.rule}; border-radius: 4px; padding: 3px 7px;
  color: {r.ink}; selection-background-color: {r.water}; }}
QLineEdit:focus {{ border-color: {r.water}; }}
QTableView QLineEdit {{ border: 1px solid {r.water}; border-radius: 0; padding: 0 4px; }}
QMenu {{ background: {r.sheet}; border: 1px solid {r.rule}; padding: 5px 0; }}
QMenu::item {{ padding: 5px 26px 5px 26px; color: {r.ink}; background: transparent; }}
QMenu::item:selected {{ background: {r.chosen}; color: {r.ink}; }}
QMenu::item:disabled {{ color: {r.off}; }}
QMenu::separator {{ height: 1px; background: {r.rule}; margin: 5px 12px; }}
"""


def _views(r: Roles) -> str:
    return f"""
QTableView {{ background: {r.sheet}; border: 1px solid {r.rule}; gridline-color: transparent; color: {r.ink};
  selection-background-color: {r.chosen}; selection-color: {r.ink}; }}
QHeaderView {{ background: {r.sheet}; border: none; }}
QHeaderView::section {{ background: {r.sheet}; border: none; }}
QTableCornerButton::section {{ background: {r.sheet}; border: none; }}
QListView {{ background: {r.sheet}; border: 1px solid {r.rule}; }}
QScrollArea {{ background: transparent; border: none; }}
QScrollBar:vertical {{ background: transparent; width: 9px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {r.rule}; border-radius: 4px; min-height: 30px; margin: 1px; }}
QScrollBar:horizontal {{ background: transparent; height: 9px; margin: 0; }}
QScrollBar::handle:horizontal {{ background: {r.rule}; border-radius: 4px; min-width: 30px; margin: 1px; }}
QScrollBar::handle:hover {{ background: {r.off}; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QSplitter::handle {{ background: {r.rule}; }}
QTextBrowser {{ background: #FFFFFF; color: #1F2A30; border: 1px solid {r.rule}; }}
QToolTip {{ background: {r.ink}; color: {r.on_ink}; border: none; padding: 4px 7px; }}
QProgressBar {{ background: {r.sheet}; border: 1px solid {r.rule}; border-radius: 4px; height: 8px;
  text-align: center; }}
QProgressBar::chunk {{ background: {r.water}; border-radius: 3px; }}
"""
