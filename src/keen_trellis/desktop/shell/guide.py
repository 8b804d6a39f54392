"""The guide in a window of its own: its chapters, its text, and a line to search it."""

from __future__ import annotations

import re

from PySide6.QtCore import QPoint, Qt, QUrl
from PySide6.QtGui import (
    QKeySequence,
    QShortcut,
    QTextBlock,
    QTextBlockFormat,
    QTextCursor,
    QTextDocument,
)
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSplitter,
    QTextBrowser,
    QTextEdit,
    QVBoxLayout,
    QWidget,
)

from keen_trellis.desktop.plain import PlainLabel
from keen_trellis.desktop.theme import font, theme
from keen_trellis.handbook import GUIDE, document

_PICTURES = re.compile(r"^(\| \| \|\n\| --- \| --- \|\n\| !\[.*\n|!\[.*\n)", re.MULTILINE)
_OTHER_FILES = re.compile(r"\[([^\]]+)\]\((?!#)[^)]*\)")
_CONTENTS = re.compile(r"^(- \[.*\n)+", re.MULTILINE)
_MOST_MARKED = 2_000
_ABOVE_HEADING_SHOWN = 6
_ABOVE, _ABOVE_HEADING, _LINE_HEIGHT = 5.0, 20.0, 125.0
_SIZE = (900, 720)


def shown_text(text: str) -> str:
    """A document as it is read in the program: without pictures of it, its list of chapters, and links to
    files that do not ship with it.
    """
    return _OTHER_FILES.sub(r"\1", _CONTENTS.sub("", _PICTURES.sub("", text)))


def slug(heading: str) -> str:
    """What a link to a heading is called in Markdown."""
    return re.sub(r"[^\w\- ]", "", heading.lower()).replace(" ", "-")


class GuideWindow(QWidget):
    """Shows one document, at a heading; a search marks all places, and goes from one to the next."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setWindowTitle("Guide — Keen Trellis")
        self.resize(*_SIZE)
        self._name = ""
        self._headings: dict[str, int] = {}  # by heading, the position in the text
        self.search = QLineEdit()
        self.search.setPlaceholderText("search the guide")
        self.search.setAccessibleName("Search the guide")
        self.search.setFont(font(12.5))
        self.found = PlainLabel("")
        self.found.setFont(font(12))
        self.before, self.after = (QPushButton(text) for text in ("Previous", "Next"))
        self.chapters = QListWidget()
        self.chapters.setAccessibleName("Chapters")
        self.chapters.setFont(font(12.5))
        self.chapters.setWordWrap(True)
        self.chapters.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.text = QTextBrowser()
        self.text.setAccessibleName("Guide")
        self.text.setOpenLinks(False)
        self._lay_out()
        self.search.textChanged.connect(self._mark)
        self.search.returnPressed.connect(self.go_on)
        self.after.clicked.connect(lambda: self.go_on())
        self.before.clicked.connect(lambda: self.go_on(backwards=True))
        self.chapters.currentItemChanged.connect(self._chapter_chosen)
        self.text.anchorClicked.connect(self._follow)
        for keys, act in (("Ctrl+F", self.search.setFocus), ("F3", self.go_on), ("Esc", self.close)):
            QShortcut(QKeySequence(keys), self).activated.connect(act)
        QShortcut(QKeySequence("Shift+F3"), self).activated.connect(lambda: self.go_on(backwards=True))

    def _lay_out(self) -> None:
        row = QHBoxLayout()
        for widget, stretch in ((self.search, 1), (self.found, 0), (self.before, 0), (self.after, 0)):
            row.addWidget(widget, stretch)
        halves = QSplitter()
        halves.addWidget(self.chapters)
        halves.addWidget(self.text)
        halves.setSizes([230, 670])
        halves.setChildrenCollapsible(False)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 12, 12, 12)
        column.addLayout(row)
        column.addWidget(halves, 1)

    def use_theme(self) -> None:
        """Be shown in the theme in use."""
        chosen = theme()
        self.found.setStyleSheet(f"color: {chosen.soft.name()};")
        ground, ink, line = chosen.paper.name(), chosen.ink.name(), chosen.line.name()
        self.setStyleSheet(
            f"QTextBrowser, QListWidget {{ background: {ground}; color: {ink}; border: 1px solid {line}; }}"
            f"QListWidget::item {{ padding: 5px 8px; }}"
            f"QListWidget::item:selected {{ background: {chosen.selected.name()}; color: {ink}; }}"
        )

    # --- documents ---

    def show_at(self, heading: str = "", name: str = GUIDE) -> None:
        """Show a document of the handbook, from a heading on."""
        if name != self._name:
            self._name = name
            self._read(document(name))
        self.use_theme()
        self.show()
        self.raise_()
        self.activateWindow()
        self._go_to(heading)
        self.text.setFocus()

    def _read(self, text: str) -> None:
        shown = self.text.document()
        shown.setDefaultFont(font(13))
        shown.setDocumentMargin(14)
        self.text.setMarkdown(shown_text(text))
        self._headings = {}
        self.chapters.clear()
        block = shown.begin()
        while block.isValid():
            self._space(block)
            if block.blockFormat().headingLevel() in (1, 2):
                self._add_heading(block)
            block = block.next()
        self.setWindowTitle(f"{next(iter(self._headings), 'Guide')} — Keen Trellis")
        self._mark(self.search.text())

    @staticmethod
    def _space(block: QTextBlock) -> None:
        """Leave room around a paragraph, more above a heading, none in a table."""
        cursor = QTextCursor(block)
        if cursor.currentTable() is not None:
            return
        form = block.blockFormat()
        form.setTopMargin(_ABOVE_HEADING if form.headingLevel() else _ABOVE)
        form.setBottomMargin(_ABOVE)
        form.setLineHeight(_LINE_HEIGHT, int(QTextBlockFormat.LineHeightTypes.ProportionalHeight.value))
        cursor.setBlockFormat(form)

    def _add_heading(self, block: QTextBlock) -> None:
        self._headings[block.text()] = block.position()
        if block.blockFormat().headingLevel() == 2:
            self.chapters.addItem(block.text())

    @property
    def heading(self) -> str:
        """The heading above what is read now."""
        below = self.text.viewport().rect().topLeft() + QPoint(0, 4 * _ABOVE_HEADING_SHOWN)
        place = self.text.cursorForPosition(below).position()
        above = [heading for heading, start in self._headings.items() if start <= place + 1]
        return above[-1] if above else ""

    def _go_to(self, heading: str) -> None:
        place = self._headings.get(heading, 0)
        bar = self.text.verticalScrollBar()
        cursor = QTextCursor(self.text.document())
        cursor.setPosition(place)
        self.text.setTextCursor(cursor)
        bar.setValue(bar.value() + self.text.cursorRect(cursor).top() - _ABOVE_HEADING_SHOWN)
        found = self.chapters.findItems(heading, Qt.MatchFlag.MatchExactly) if heading else []
        self.chapters.blockSignals(True)
        self.chapters.setCurrentItem(found[0] if found else None)  # type: ignore[arg-type]
        self.chapters.blockSignals(False)

    def _chapter_chosen(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self._go_to(item.text())

    def _follow(self, link: QUrl) -> None:
        heading = next((text for text in self._headings if slug(text) == link.fragment()), "")
        if heading:
            self._go_to(heading)

    # --- search ---

    def _places(self, text: str) -> list[QTextCursor]:
        """Every place of a text."""
        found: list[QTextCursor] = []
        shown = self.text.document()
        cursor = shown.find(text) if text.strip() else QTextCursor()
        while not cursor.isNull() and len(found) < _MOST_MARKED:
            found.append(cursor)
            cursor = shown.find(text, cursor)
        return found

    def _mark(self, text: str) -> None:
        """Mark every place of a text, and say how many there are."""
        places = self._places(text)
        marks = []
        for cursor in places:
            mark = QTextEdit.ExtraSelection()
            mark.cursor = cursor
            mark.format.setBackground(theme().selected)
            marks.append(mark)
        self.text.setExtraSelections(marks)
        said = "1 place" if len(places) == 1 else f"{len(places):,} places"
        self.found.setText(said if text.strip() else "")
        for button in (self.before, self.after):
            button.setEnabled(bool(places))

    def go_on(self, *, backwards: bool = False) -> None:
        """Go to the next place of what is searched, from the end on from the beginning."""
        text = self.search.text()
        if not text.strip():
            return
        way = QTextDocument.FindFlag.FindBackward if backwards else QTextDocument.FindFlag(0)
        if not self.text.find(text, way):
            self.text.moveCursor(
                QTextCursor.MoveOperation.End if backwards else QTextCursor.MoveOperation.Start
            )
            self.text.find(text, way)
