"""The frame of the window: the three panes and how they share it, its head, its theme, and what it says.

What the commands of the window are carried out by knows this frame, and not the window that holds them all.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QByteArray, QPointF, Qt, QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QHBoxLayout,
    QMainWindow,
    QMenuBar,
    QMessageBox,
    QPushButton,
    QScrollArea,
    QSplitter,
    QStackedLayout,
    QVBoxLayout,
    QWidget,
)

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.memory_use import machine_memory
from keen_trellis.desktop import theme as looks
from keen_trellis.desktop.bench.grid_view import HEADER_HEIGHT, LINE_HEIGHT
from keen_trellis.desktop.bench.pane import BenchPane
from keen_trellis.desktop.kinds import CUTTINGS, SENTENCES, SHOWN
from keen_trellis.desktop.plain import PlainBox, PlainLabel
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.pane import SentencePane
from keen_trellis.desktop.shell.first_page import FirstPage, Lately
from keen_trellis.desktop.shell.settings import Remembered
from keen_trellis.desktop.shell.status import StatusLine
from keen_trellis.desktop.shell.turns import QtTurns, threads
from keen_trellis.desktop.theme import font, theme
from keen_trellis.desktop.trellis.view import TrellisView
from keen_trellis.flow.runner import Kept
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.attention import needs
from keen_trellis.session.jobs import Jobs
from keen_trellis.session.session import Session
from keen_trellis.sources.library import Library

_AROUND = 90  # pixels of the trellis to be seen above and below what is selected
_LEAST_SIZE = (1000, 640)
# How high the trellis is at least at first, and how many lines of the bench stay below it.
_TRELLIS_LEAST, _BENCH_LINES = 200, 10
_BAR = 14  # of a scroll bar
_SPARE = 26  # for a stub more, so that nothing has to move for it


class Frame(QMainWindow):
    """One session with its panes."""

    def __init__(self, remembered: Remembered, library: Library, kept: Kept | None) -> None:
        super().__init__()
        self.remembered = remembered
        self.jobs = Jobs(QtTurns(self), threads())
        self.session = Session(self.jobs, library, kept)
        self.trellis = TrellisView(self.session, CUTTINGS)
        self.sentence = SentencePane(self.session, SENTENCES)
        self.bench = BenchPane(self.session, SHOWN)
        self.status = StatusLine(self.jobs)
        self._scroll_soon = QTimer(self, singleShot=True, interval=0)
        self._scroll_soon.timeout.connect(self._scroll_to_selected)
        self._to_share_out = False
        self.first_page: FirstPage | None = None
        self.setMinimumSize(*_LEAST_SIZE)
        self._title = PlainLabel()
        self._title.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._state = PlainLabel()
        self._state.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.bar = QMenuBar()
        self.bar.setNativeMenuBar(False)
        self.attention = QPushButton()
        self.attention.setFlat(True)
        self.attention.setCursor(Qt.CursorShape.PointingHandCursor)
        self.attention.setToolTip("What needs attention (Ctrl+I)")
        self.attention.clicked.connect(lambda: self.bench.attention.show_or_close())
        self._top = self._made_top(self.bar)
        self.setMenuWidget(self._top)
        self.setCentralWidget(self._made_body())
        self.setTabOrder(self.trellis, self.sentence)
        self._follow()
        self._restore()

    def _follow(self) -> None:
        """Hear what the session says."""
        session = self.session
        session.changed.connect(self._tell_state)
        session.selected.connect(self._tell_state)
        session.selected.connect(self._show_selected)
        session.outcomes_changed.connect(self._outcomes_changed)
        session.said.connect(self.status.say)
        session.failed.connect(self.fail)
        self.bench.origin_changed.connect(self.status.origin.setText)

    def _restore(self) -> None:
        """Be as large, shared out and coloured as the last time."""
        geometry = self.remembered.value("geometry")
        if not (isinstance(geometry, QByteArray) and self.restoreGeometry(geometry)):
            self.resize(1280, 800)
        state = self.remembered.value("splitter")
        self._shared_out = isinstance(state, QByteArray) and self.splitter.restoreState(state)
        if not self._shared_out:
            self.splitter.setSizes([350, 420])
        self.splitter.splitterMoved.connect(self._keep_shares)
        self._follow_theme()
        QGuiApplication.styleHints().colorSchemeChanged.connect(self._follow_theme)
        self._use_memory()

    def remember_shape(self) -> None:
        """Keep for the next time how large it is and how it is shared out."""
        self.remembered.remember("geometry", self.saveGeometry())
        if self._shared_out:
            self.remembered.remember("splitter", self.splitter.saveState())

    def share_out_anew(self) -> None:
        """Give the trellis of a flow that was just opened the room that it wants."""
        self._to_share_out = True
        self.trellis.fit_by_itself()
        self._share_out()

    def _outcomes_changed(self, _: frozenset[str]) -> None:
        self._tell_state()
        self._share_out()

    def _tell_state(self) -> None:
        """Say what is open, how things stand with it, and what is selected."""
        session = self.session
        self._title.setText(session.name)
        self.setWindowTitle(f"{session.name}{' *' if session.unsaved else ''} — Keen Trellis")
        saved = "unsaved changes" if session.unsaved else "saved" if session.path else "new flow"
        self._state.setText(f"{saved} · Ctrl+K finds any command")
        self._tell_attention()
        self.status.show_text(self._shown_text())

    def _made_top(self, bar: QMenuBar) -> QWidget:
        """The menus, the flow's name in the middle, and how things stand."""
        right = QWidget()
        right_row = QHBoxLayout(right)
        right_row.setContentsMargins(0, 0, 0, 0)
        right_row.addStretch(1)
        right_row.addWidget(self.attention)
        right_row.addWidget(self._state)
        top = QWidget()
        row = QHBoxLayout(top)
        row.setContentsMargins(4, 0, 14, 0)
        for widget in (bar, self._title, right):
            row.addWidget(widget, 1)
        return top

    def _made_body(self) -> QWidget:
        """Trellis, sentence, bench and the status line."""
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # the trellis in it has the keyboard
        self._scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        self._scroll.setWidget(self.trellis)
        lower = QWidget()
        column = QVBoxLayout(lower)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.sentence)
        column.addWidget(self.bench, 1)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.addWidget(self._scroll)
        self.splitter.addWidget(lower)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(3)
        self._scroll.setMinimumHeight(120)
        self.trellis.led.connect(self._lead)
        self.bench.setMinimumHeight(140)
        self._pages = QStackedLayout()
        body = QWidget()
        whole = QVBoxLayout(body)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        self._pages.addWidget(self.splitter)
        whole.addLayout(self._pages, 1)
        whole.addWidget(self.status)
        return body

    def show_first_page(self, page: FirstPage, lately: Callable[[], Sequence[Lately]]) -> None:
        """Let a page stand where the flow would, for as long as there is none."""
        self.first_page, self._lately = page, lately
        self._pages.addWidget(page)
        page.use_theme()
        self.session.changed.connect(self._choose_page)
        self._choose_page()

    def _choose_page(self) -> None:
        """Show the first page, or the flow."""
        session, page = self.session, self.first_page
        assert page is not None
        empty = not session.flow.steps and not session.margin.paths() and session.path is None
        shown = page if empty and not session.history.undo_name else self.splitter
        if shown is self._pages.currentWidget():
            return
        self._pages.setCurrentWidget(shown)
        self.status.show_text(self._shown_text())
        if shown is page:
            page.show_lately(self._lately())
            page.drop_place.buttons[0].setFocus()
        else:
            self.trellis.setFocus()

    def _keep_shares(self) -> None:
        """The user shares the window out between trellis and bench from now on."""
        self._shared_out = True

    def _share_out(self) -> None:
        """Give the trellis of a flow just opened what it wants, until the user does it; some rows stay."""
        if self._to_share_out and not self._shared_out:
            files = self.session.margin.files.values()
            self._to_share_out = any(state.content is None and state.error is None for state in files)
            total = sum(self.splitter.sizes())
            lower = self.sentence.height() + HEADER_HEIGHT + _BENCH_LINES * LINE_HEIGHT + _BAR
            wanted = min(max(int(self.trellis.shown.height) + _SPARE, _TRELLIS_LEAST), total - lower)
            self.splitter.setSizes([wanted, total - wanted])

    def use_theme(self, name: str) -> None:
        """Show the window in the theme called `name`."""
        looks.use(looks.THEMES.get(name, looks.LIGHT))
        self._top.setStyleSheet(f"background: {theme().paper.name()};")
        self._title.setFont(font(12.5, bold=True))
        self._state.setFont(font(11.5))
        self._state.setStyleSheet(f"color: {theme().soft.name()};")
        self.status.use_theme()
        self._tell_attention()
        self.trellis.draw_anew()
        if self.first_page is not None:
            self.first_page.use_theme()
        self.bench.refresh()
        self.bench.grid.viewport().update()

    def choose_memory(self) -> None:
        """Choose how much memory results may hold."""
        kept = self.session.runner.kept
        choices = [
            Choice(share, f"{said} of this machine's memory", f"{machine_memory() // share / 2**30:.1f} GiB")
            for share, said in ((8, "an eighth"), (4, "a quarter"), (2, "a half"))
        ]
        now = f"{kept.held / 2**20:,.0f} MiB are held now, of {kept.limit / 2**30:.1f} GiB"
        chooser = Chooser(choices, self, title=f"Results may hold: {now}", current=self._memory_share())

        def chosen(share: int) -> None:
            self.remembered.remember("memory", str(share))
            self._use_memory()

        chooser.chosen.connect(chosen)
        chooser.open_under(self.sentence.view)

    def _memory_share(self) -> int:
        stored = str(self.remembered.value("memory") or "")
        return int(stored) if stored in ("2", "4", "8") else 4

    def _use_memory(self) -> None:
        self.session.runner.kept.limit_to(machine_memory() // self._memory_share())

    def _follow_theme(self) -> None:
        """Be shown in the theme that the user chose, else in that of the desktop."""
        chosen = str(self.remembered.value("theme") or "")
        dark = QGuiApplication.styleHints().colorScheme() is Qt.ColorScheme.Dark
        self.use_theme(chosen or ("dark" if dark else "light"))

    def follow_desktop(self) -> None:
        """Take the desktop's theme from now on."""
        self.remembered.remember("theme", "")
        self._follow_theme()

    def switch_theme(self) -> None:
        """Change between light and dark."""
        name = "light" if theme().name == "dark" else "dark"
        self.remembered.remember("theme", name)
        self.use_theme(name)

    def _tell_attention(self) -> None:
        """Say how much needs attention, in alarm if something is wrong."""
        found = needs(self.session)
        wrong = sum(need.alarm for need in found)
        said = f"{wrong} wrong" if wrong else ""
        if len(found) > wrong:
            said = f"{said}, {len(found) - wrong} doubtful".lstrip(", ")
        self.attention.setVisible(bool(found))
        self.attention.setText(said)
        colour = theme().alarm if wrong else theme().soft
        self.attention.setStyleSheet(
            f"QPushButton {{ color: {colour.name()}; border: none; padding: 2px 6px; }}"
            f"QPushButton:hover, QPushButton:focus {{ color: {theme().accent.name()}; }}"
        )

    def _shown_text(self) -> str:
        if self.first_page is not None and self.first_page.isVisible():
            return "Nothing is open yet. F1 opens the guide."
        outcome = self.session.selected_outcome()
        if outcome is None or outcome.result is None:
            return ""
        table = outcome.result.ports.get(self.session.selection.port)
        if table is None:
            return ""
        rows = f"{table.rows:,} {'row' if table.rows == 1 else 'rows'}, {len(table.fields)} fields"
        did = "matched" if outcome.result.match is not None else "read"
        step = self.session.flow.find(self.session.selection.step)
        seconds = 0.0 if step is not None and KINDS.ends_rail(step) else outcome.seconds
        said = (
            f" · {did} in {max(seconds, 0.01):.2f} s"
            if seconds and not self.session.selection.is_stump
            else ""
        )
        return f"{rows}{said}"

    def _show_selected(self) -> None:
        """Scroll the trellis to what is selected, once it is laid out."""
        self._scroll_soon.start()

    def _scroll_to_selected(self) -> None:
        found = [item for item in self.trellis.items if item.selection == self.session.selection]
        if found:
            # With what stands above and below it: captions, counts, stubs.
            place, half = found[0].rect.center(), self._scroll.viewport().height() // 2
            self._scroll.ensureVisible(int(place.x()), int(place.y()), 0, min(_AROUND, half))

    def _lead(self, way: QPointF) -> None:
        """Scroll the trellis as the middle button leads it."""
        for bar, length in (
            (self._scroll.horizontalScrollBar(), way.x()),
            (self._scroll.verticalScrollBar(), way.y()),
        ):
            bar.setValue(round(bar.value() - length))

    def fail(self, error: TrellisError) -> None:
        """Say an error in the status line."""
        self.status.say(str(error), alarm=True)

    def warn(self, title: str, error: TrellisError) -> None:
        """An error that must not be overlooked."""
        box = PlainBox(QMessageBox.Icon.Warning, title, error.what, QMessageBox.StandardButton.Ok, self)
        box.setInformativeText("\n".join(part for part in (error.where, error.remedy) if part))
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def jump_to_band(self, step: int) -> None:
        """Go so many bands on in the bench."""
        self.bench.grid.jump_band(step)
        self.bench.focus_rows()

    def next_pane(self) -> None:
        """Give the keyboard to the next pane: trellis, sentence, bench."""
        if self.trellis.hasFocus():
            self.sentence.view.setFocus()
        elif any(chip.hasFocus() for chip in self.sentence.view.chips) or self.sentence.view.hasFocus():
            self.bench.focus_rows()
        else:
            self.trellis.setFocus()

    def bench_alone(self) -> None:
        """Give the bench the whole window, or share it again."""
        shown = self._scroll.isVisible()
        self._scroll.setVisible(not shown)
        self.sentence.setVisible(not shown)
        if shown:
            self.bench.focus_rows()
