"""Paper and ink: the colours, hues and type of the window, light and dark."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache

import msgspec
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFont, QFontDatabase, QPainter, QPalette, QPen, QPixmap
from PySide6.QtWidgets import QApplication

from keen_trellis import ink
from keen_trellis.ink import Ink


class Hue(msgspec.Struct, frozen=True):
    """The hue of one source: its rail, its mark, the border of its chips and the ground of its chips."""

    rail: QColor
    mark: QColor
    chip: QColor


class Theme(msgspec.Struct, frozen=True):
    """All colours of the window. Accent is for selection and action and for nothing else."""

    name: str
    ground: QColor
    paper: QColor
    margin: QColor
    band: QColor
    link: QColor
    ink: QColor
    soft: QColor
    line: QColor
    accent: QColor
    selected: QColor
    alarm: QColor
    hatch: QColor
    hues: tuple[Hue, ...]

    def hue(self, number: int) -> Hue:
        """The hue of source number `number`; after the last one they begin again."""
        return self.hues[number % len(self.hues)]


def _theme(name: str, ink: Ink) -> Theme:
    colours = {name: QColor(getattr(ink, name)) for name in Ink.__struct_fields__ if name != "hues"}
    hues = tuple(Hue(*(QColor(colour) for colour in hue)) for hue in ink.hues)
    return Theme(name=name, hues=hues, **colours)


LIGHT = _theme("light", ink.LIGHT)
DARK = _theme("dark", ink.DARK)
THEMES = {theme.name: theme for theme in (LIGHT, DARK)}

_current = LIGHT
_shown_in: QApplication | None = None  # the application that has its colours


def theme() -> Theme:
    """The theme in use."""
    return _current


def use(chosen: Theme) -> None:
    """Make `chosen` the theme of the running application."""
    global _current, _shown_in  # noqa: PLW0603 - one application has one theme
    _current, before = chosen, _current
    application = QApplication.instance()
    if not isinstance(application, QApplication):
        return
    if chosen is before and _shown_in is application:
        return  # a style sheet is dear, even the same one once more
    _shown_in = application
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, chosen.ground),
        (QPalette.ColorRole.WindowText, chosen.ink),
        (QPalette.ColorRole.Base, chosen.paper),
        (QPalette.ColorRole.AlternateBase, chosen.link),
        (QPalette.ColorRole.Text, chosen.ink),
        (QPalette.ColorRole.Button, chosen.paper),
        (QPalette.ColorRole.ButtonText, chosen.ink),
        (QPalette.ColorRole.ToolTipBase, chosen.paper),
        (QPalette.ColorRole.ToolTipText, chosen.ink),
        (QPalette.ColorRole.PlaceholderText, chosen.soft),
        (QPalette.ColorRole.Highlight, chosen.accent),
        (QPalette.ColorRole.HighlightedText, chosen.paper),
        (QPalette.ColorRole.Mid, chosen.line),
        (QPalette.ColorRole.Link, chosen.accent),
    ):
        palette.setColor(role, colour)
    disabled = QPalette.ColorGroup.Disabled
    palette.setColor(disabled, QPalette.ColorRole.Text, chosen.hatch)
    palette.setColor(disabled, QPalette.ColorRole.WindowText, chosen.hatch)
    palette.setColor(disabled, QPalette.ColorRole.ButtonText, chosen.hatch)
    application.setPalette(palette)
    application.setStyleSheet(_style_sheet(chosen))


@contextmanager
def drawn_in(chosen: Theme) -> Iterator[None]:
    """Draw in another theme meanwhile, as on paper; the window keeps its own."""
    global _current  # noqa: PLW0603 - one application has one theme
    before, _current = _current, chosen
    try:
        yield
    finally:
        _current = before


def _style_sheet(chosen: Theme) -> str:
    line, ink, soft = chosen.line.name(), chosen.ink.name(), chosen.soft.name()
    ground, paper, accent = chosen.ground.name(), chosen.paper.name(), chosen.accent.name()
    return f"""
    QMenuBar {{ background: {paper}; color: {ink}; border: none; }}
    QMenuBar::item {{ padding: 6px 10px; background: transparent; }}
    QMenuBar::item:selected {{ background: {chosen.selected.name()}; }}
    QMenu {{ background: {paper}; color: {ink}; border: 1px solid {line}; padding: 4px; }}
    QMenu::item {{ padding: 5px 26px 5px 22px; }}
    QMenu::item:selected {{ background: {chosen.selected.name()}; color: {ink}; }}
    QMenu::item:disabled {{ color: {chosen.hatch.name()}; }}
    QMenu::separator {{ height: 1px; background: {line}; margin: 4px 8px; }}
    QToolTip {{ background: {paper}; color: {ink}; border: 1px solid {line}; padding: 4px; }}
    QSplitter::handle {{ background: {line}; }}
    QLineEdit {{ background: {paper}; color: {ink}; border: 1px solid {line}; border-radius: 4px;
        padding: 3px 6px; selection-background-color: {accent}; }}
    QLineEdit:focus {{ border-color: {accent}; }}
    QPushButton {{ background: {paper}; color: {ink}; border: 1px solid {line}; border-radius: 4px;
        padding: 4px 12px; }}
    QPushButton:focus, QPushButton:hover {{ border-color: {accent}; }}
    QScrollBar:vertical {{ background: {ground}; width: 11px; margin: 0; }}
    QScrollBar:horizontal {{ background: {ground}; height: 11px; margin: 0; }}
    QScrollBar::handle {{ background: {line}; border-radius: 4px; margin: 2px;
        min-height: 24px; min-width: 24px; }}
    QScrollBar::handle:hover {{ background: {soft}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    """


@cache
def family() -> str:
    """Inter where it is present, else the system's sans."""
    wanted = next((name for name in ("Inter", "Inter Variable") if name in QFontDatabase.families()), "")
    return wanted or QFontDatabase.systemFont(QFontDatabase.SystemFont.GeneralFont).family()


@cache
def font(size: float = 12.0, *, bold: bool = False) -> QFont:
    """The window's type at `size` pixels."""
    made = QFont(family())
    made.setPixelSize(round(size))
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    # Figures of one width, so that numbers stand below each other.
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


@cache
def _hatching(colour: int, ground: int, spacing: int) -> QBrush:
    tile = QPixmap(spacing * 4, spacing * 4)
    tile.fill(QColor.fromRgba(ground))
    painter = QPainter(tile)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(QColor.fromRgba(colour), 1.2))
    size = spacing * 4
    for offset in range(-size, 2 * size, spacing):
        painter.drawLine(QPointF(offset, size), QPointF(offset + size, 0))
    painter.end()
    return QBrush(tile)


def hatching(colour: QColor, spacing: int = 4) -> QBrush:
    """Slanting lines in `colour`: the sign of what found no partner."""
    return _hatching(colour.rgba(), theme().paper.rgba(), spacing)


def draw_mark(painter: QPainter, rect: QRectF, letters: str, hue: Hue) -> None:
    """The mark of a source: its two letters on its hue."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(hue.mark)
    painter.drawRoundedRect(rect, 3, 3)
    painter.setPen(QColor("#FFFFFF"))
    painter.setFont(font(rect.height() * 0.66, bold=True))
    painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, letters)
    painter.restore()
