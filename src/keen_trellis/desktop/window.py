"""The main window: trellis, sentence and bench, the menus, and the commands behind them."""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import partial
from importlib import import_module
from pathlib import Path

from PySide6.QtCore import QByteArray, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QGuiApplication
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QMainWindow,
    QMenu,
    QMenuBar,
    QMessageBox,
    QPushButton,
    QScrollArea,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.memory_use import machine_memory
from keen_trellis.core.task import Task
from keen_trellis.desktop import theme as looks
from keen_trellis.desktop.bench.pane import BenchPane
from keen_trellis.desktop.combining import Combining
from keen_trellis.desktop.commands import Commands
from keen_trellis.desktop.finder import open_finder
from keen_trellis.desktop.kinds import CUTTINGS, SENTENCES
from keen_trellis.desktop.kinds.view import RailCommand
from keen_trellis.desktop.menus import all_commands
from keen_trellis.desktop.plain import PlainBox, PlainLabel, menu_text
from keen_trellis.desktop.reaching import Reaching
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.pane import SentencePane
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.settings import Remembered
from keen_trellis.desktop.source_actions import SourceActions
from keen_trellis.desktop.status import StatusLine
from keen_trellis.desktop.theme import font, theme
from keen_trellis.desktop.trellis import export
from keen_trellis.desktop.trellis.view import TrellisView
from keen_trellis.desktop.turns import QtTurns, threads
from keen_trellis.desktop.writing import OUTPUT_FILTERS, Writing
from keen_trellis.flow.graph import Step
from keen_trellis.flow.runner import Kept
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs import settings_for
from keen_trellis.session import editing
from keen_trellis.session.attention import needs
from keen_trellis.session.autosave import Autosave
from keen_trellis.session.jobs import Jobs
from keen_trellis.session.saved import FlowChangedError
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session
from keen_trellis.sources.library import Library

_AROUND = 90  # pixels of the trellis to be seen above and below what is selected
_FLOWS = "Flows (*.trellis)"
_SOURCES = (
    "Files with tables (*.xlsx *.xlsm *.xls *.xlsb *.ods *.csv *.tsv *.txt *.sqlite *.sqlite3 *.db"
    " *.parquet *.arrow *.feather *.jsonl *.ndjson)"
)
_LEAST_SIZE = (1000, 640)
# How high the trellis is at first, in pixels, and as a share of the window.
_TRELLIS_LEAST, _TRELLIS_MOST = 300, 0.54


class MainWindow(QMainWindow):
    """One flow in one window."""

    def __init__(
        self,
        remembered: Remembered | None = None,
        library: Library | None = None,
        kept: Kept | None = None,
    ) -> None:
        super().__init__()
        self.remembered = remembered or Remembered()
        self.jobs = Jobs(QtTurns(self), threads())
        self.session = Session(self.jobs, library or Library(), kept)
        drafts = self.remembered.drafts
        self.autosave = Autosave(self.session, drafts) if drafts is not None else None
        self.trellis = TrellisView(self.session, CUTTINGS)
        self.sentence = SentencePane(self.session, SENTENCES)
        self.bench = BenchPane(self.session)
        self.status = StatusLine(self.jobs)
        self._scroll_soon = QTimer(self, singleShot=True, interval=0)
        self._scroll_soon.timeout.connect(self._scroll_to_selected)
        self.sources = SourceActions(self)
        self.combining = Combining(self)
        self.reaching = Reaching(self)
        self.writing = Writing(self)
        self._leaving = False
        self._to_share_out = False
        self._build()
        self.commands = Commands(self, all_commands(self), self._menus)
        self._menus["File"].aboutToShow.connect(self._fill_recent)
        self._connect()
        self._restore()
        self._update_state()
        QTimer.singleShot(0, self._load_ahead)

    def _load_ahead(self) -> None:
        """Load, while the window is up and the sources are read, what the first match would wait for."""
        threading.Thread(target=import_module, args=("scipy.sparse",), daemon=True).start()

    # --- building ---

    def _build(self) -> None:
        self.setMinimumSize(*_LEAST_SIZE)
        self.setAcceptDrops(True)
        self._title = PlainLabel()
        self._title.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._state = PlainLabel()
        self._state.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        bar = QMenuBar()
        bar.setNativeMenuBar(False)
        self._menus: dict[str, QMenu] = {}
        for name in ("File", "Edit", "Flow", "Step", "Rows", "View", "Help"):
            self._menus[name] = bar.addMenu(f"&{name}")
        self._recent = QMenu("Open &recent", self)
        self._questions = self._menus["Flow"].addMenu("Join &type")
        self._menus["Join type"] = self._questions
        self.attention = QPushButton()
        self.attention.setFlat(True)
        self.attention.setCursor(Qt.CursorShape.PointingHandCursor)
        self.attention.setToolTip("What needs attention (Ctrl+I)")
        self.attention.clicked.connect(lambda: self.bench.show_attention())
        self._top = self._made_top(bar)
        self.setMenuWidget(self._top)
        self.setCentralWidget(self._made_body())

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
        self.bench.setMinimumHeight(140)
        body = QWidget()
        whole = QVBoxLayout(body)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self.splitter, 1)
        whole.addWidget(self.status)
        return body

    def _connect(self) -> None:
        session = self.session
        session.changed.connect(self._update_state)
        session.selected.connect(self._update_state)
        session.selected.connect(self._show_selected)
        session.outcomes_changed.connect(self._outcomes_changed)
        session.said.connect(self.status.say)
        session.failed.connect(self._failed)
        self.trellis.join_wanted.connect(self.combining.join)
        self.trellis.part_clicked.connect(lambda step, part: editing.toggle_part(session, step, part))
        self.trellis.opened.connect(self._open_selection)
        self.trellis.demo_wanted.connect(self.open_demo)
        self.trellis.tie_wanted.connect(lambda slat, source: self.combining.tie(slat, source, ""))
        self.bench.tie_wanted.connect(
            lambda source, tie: self.combining.tie(session.selection.slat, source, tie)
        )
        self.bench.origin_changed.connect(self.status.origin.setText)
        self.sentence.write_wanted.connect(self.writing.write_output)
        self.sentence.path_wanted.connect(self.choose_path)
        self.sentence.output_wanted.connect(self.writing.add_output)
        self.sentence.blend_wanted.connect(self.combining.blend_dialog)
        self.sentence.raw_wanted.connect(self.bench.show_raw)
        self.sentence.typing_wanted.connect(self.bench.show_typing)
        self.sentence.types_wanted.connect(self.bench.show_types)
        self.sentence.password_wanted.connect(self.sources.ask_password)
        self.sentence.accepting_wanted.connect(self.reaching.ask)
        self.sentence.moved.connect(self.sources.use_file)
        self.bench.mends.accepted.connect(lambda step: self._part(step).ask_why(self._step(step)))
        self.bench.field_wanted.connect(
            lambda step, name: self._part(step).choose_field(self._step(step), name)
        )
        self.bench.row_settled.connect(self._settle_row)
        self.setTabOrder(self.trellis, self.sentence)

    def _step(self, step_id: str) -> Step:
        return self.session.flow.step(step_id)

    def _part(self, step_id: str) -> SentencePart:
        return self.sentence.part_of(self._step(step_id))

    def _settle_row(self, what: str, row: int) -> None:
        selected = self.session.selection.step
        self._part(selected).settle_row(self._step(selected), what, row)

    def begin_step(self, kind: str, command: RailCommand) -> None:
        """Put a step of a kind behind what is selected, and ask what it wants to know first."""
        step = editing.insert(self.session, kind, command.begins, command.said)
        if step:
            self.sentence.begin(step)

    def type_setter(self, kind: JoinType) -> Callable[[], None]:
        """What asks the selected knot for a join of this type."""

        def set_type() -> None:
            knot = editing.selected_knot(self.session)
            if knot is None:
                self.session.said.emit("Select a knot first: the keys 1 to 9 ask it another question.")
            else:
                editing.change_join_type(self.session, knot.id, kind)

        return set_type

    # --- what is remembered ---

    def _restore(self) -> None:
        geometry = self.remembered.value("geometry")
        if not (isinstance(geometry, QByteArray) and self.restoreGeometry(geometry)):
            self.resize(1280, 800)
        state = self.remembered.value("splitter")
        self._shared_out = isinstance(state, QByteArray) and self.splitter.restoreState(state)
        if not self._shared_out:
            self.splitter.setSizes([350, 420])
        self.splitter.splitterMoved.connect(self._keep_shares)
        self.use_theme(str(self.remembered.value("theme") or "light"))
        self._use_memory()
        self.commands["watch"].setCheckable(True)
        self.sources.watch(self.remembered.value("watch") != "no")

    def _keep_shares(self) -> None:
        """The user shares the window out between trellis and bench from now on."""
        self._shared_out = True

    def _share_out(self) -> None:
        """Give the trellis of a flow just opened what it wants, at most half, until the user does it."""
        if self._to_share_out and not self._shared_out:
            files = self.session.margin.files.values()
            self._to_share_out = any(state.content is None and state.error is None for state in files)
            total = sum(self.splitter.sizes())
            wanted = min(max(int(self.trellis.shown.height) + 8, _TRELLIS_LEAST), int(total * _TRELLIS_MOST))
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
        self.trellis.update()
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
        kept = self.session.runner.kept
        kept.limit = machine_memory() // self._memory_share()
        kept.shrink()

    def switch_theme(self) -> None:
        """Change between light and dark."""
        name = "light" if theme().name == "dark" else "dark"
        self.remembered.remember("theme", name)
        self.use_theme(name)

    def _fill_recent(self) -> None:
        self._menus["File"].insertMenu(self.commands["demo"], self._recent)
        self._recent.clear()
        for path in self.remembered.recent:
            action = self._recent.addAction(menu_text(f"{path.stem}  ({path.parent})"))
            action.triggered.connect(partial(self._when_saved, partial(self.open_flow, path)))
        self._recent.setEnabled(bool(self._recent.actions()))

    # --- state ---

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

    def _update_state(self) -> None:
        session = self.session
        self._title.setText(session.name)
        self.setWindowTitle(f"{session.name}{' *' if session.unsaved else ''} — Keen Trellis")
        saved = "unsaved changes" if session.unsaved else "saved" if session.path else "new flow"
        self._state.setText(f"{saved} · Ctrl+K finds any command")
        self._tell_attention()
        history, commands = session.history, self.commands
        commands["undo"].setText(f"&Undo {menu_text(history.undo_name)}".strip())
        commands["undo"].setEnabled(bool(history.undo_name))
        commands["redo"].setText(f"&Redo {menu_text(history.redo_name)}".strip())
        commands["redo"].setEnabled(bool(history.redo_name))
        selection = session.selection
        knot = editing.selected_knot(session)
        commands["begin"].setEnabled(bool(selection.is_stump and selection.table))
        commands["join"].setEnabled(bool(selection))
        commands["swap"].setEnabled(knot is not None)
        commands["question"].setEnabled(knot is not None)
        self._questions.setEnabled(knot is not None)
        step = session.flow.find(selection.step)
        commands["output"].setEnabled(step is not None and not KINDS.ends_rail(step))
        commands["rename"].setEnabled(step is not None)
        commands["remove"].setEnabled(bool(selection))
        is_source = step is not None and KINDS.begins_rail(step)
        commands["refresh"].setEnabled(bool(session.flow.steps))
        commands["refresh_one"].setEnabled(is_source)
        commands["raw"].setEnabled(is_source)
        commands["typing"].setEnabled(is_source)
        commands["fields"].setEnabled(bool(selection))
        commands["write"].setEnabled(any(KINDS.ends_rail(entry) for entry in session.flow.steps))
        commands["dark"].setText("&Light theme" if theme().name == "dark" else "&Dark theme")
        self.status.show_text(self._shown_text())

    def _outcomes_changed(self, _: frozenset[str]) -> None:
        self._update_state()
        self._share_out()

    def _shown_text(self) -> str:
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

    def _failed(self, error: TrellisError) -> None:
        self.status.say(str(error), alarm=True)

    def warn(self, title: str, error: TrellisError) -> None:
        """An error that must not be overlooked."""
        box = PlainBox(QMessageBox.Icon.Warning, title, error.what, QMessageBox.StandardButton.Ok, self)
        box.setInformativeText("\n".join(part for part in (error.where, error.remedy) if part))
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    # --- flows and files ---

    def new(self) -> None:
        """Begin an empty flow, after the open one is saved or given up."""
        self._when_saved(self.session.new)

    def open_flow(self, path: Path) -> None:
        """Open a flow in this window."""
        try:
            self.session.open(path)
        except TrellisError as error:
            self.warn("The flow cannot be opened", error)
            return
        self.remembered.add_recent(path.absolute())
        self.trellis.setFocus()
        self._to_share_out = True
        self._share_out()
        self.reaching.ask_if_waiting()
        if self.autosave is not None and self.autosave.is_open_elsewhere(path):
            self.status.say(
                f"{path.name} is open in another window, too: whoever saves last is asked.", alarm=True
            )

    def open_dialog(self) -> None:
        """Choose a flow to open, or files to put into the margin."""
        dialog = QFileDialog(self, "Open a flow, or files with tables")
        dialog.setFileMode(QFileDialog.FileMode.ExistingFiles)
        dialog.setNameFilters([_SOURCES[:-1] + " *.trellis)", _FLOWS, _SOURCES, "All files (*)"])
        dialog.filesSelected.connect(lambda names: self.open_paths([Path(name) for name in names]))
        dialog.open()

    def open_paths(self, paths: list[Path]) -> None:
        """Open a flow, or put files into the margin."""
        flows = [path for path in paths if path.suffix == ".trellis"]
        others = [path for path in paths if path.suffix != ".trellis"]
        if flows:
            self._when_saved(lambda: self.open_flow(flows[0]))
        if others:
            self.session.margin.reveal(str(others[-1].absolute()))
            editing.add_files(self.session, others)
            self.trellis.setFocus()

    def open_demo(self) -> None:
        """Make the demo data where it is missing, and open the demo flow."""

        def work(task: Task) -> Path:
            from keen_trellis.demo.flows import WINTER_LOANS
            from keen_trellis.demo.setting_up import demo_folder, make

            folder = demo_folder()
            if not (folder / WINTER_LOANS).exists():
                make(folder)
            return folder / WINTER_LOANS

        def make_and_open() -> None:
            self.jobs.start("making the demo data", work, self.open_flow, self._failed)

        self._when_saved(make_and_open)

    def save(self, then: Callable[[], None] | None = None) -> None:
        """Save the flow to its file, or ask for one."""
        if self.session.path is None:
            self.save_as(then)
        else:
            self._save_to(self.session.path, then)

    def save_as(self, then: Callable[[], None] | None = None) -> None:
        """Ask for a file and save the flow to it."""
        dialog = QFileDialog(self, "Save the flow")
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        dialog.setDefaultSuffix("trellis")
        dialog.setNameFilter(_FLOWS)
        dialog.fileSelected.connect(lambda name: self._save_to(Path(name), then))
        dialog.open()

    def _save_to(self, path: Path, then: Callable[[], None] | None, *, overwrite: bool = False) -> None:
        try:
            self.session.save(path, overwrite=overwrite)
        except FlowChangedError as error:
            self._ask_overwrite(error, path, then)
            return
        except TrellisError as error:
            self.warn("The flow cannot be saved", error)
            return
        self.remembered.add_recent(path.absolute())
        self.status.say(f"Saved {path.name}.")
        if then is not None:
            then()

    def _ask_overwrite(self, error: FlowChangedError, path: Path, then: Callable[[], None] | None) -> None:
        """Ask what becomes of a file that somebody else has changed."""
        box = PlainBox(QMessageBox.Icon.Warning, "The file has changed", error.what, parent=self)
        box.setInformativeText(error.remedy)
        overwrite = box.addButton("Overwrite it", QMessageBox.ButtonRole.DestructiveRole)
        other = box.addButton("Save under another name…", QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setDefaultButton(other)

        def answered() -> None:
            if box.clickedButton() is overwrite:
                self._save_to(path, then, overwrite=True)
            elif box.clickedButton() is other:
                self.save_as(then)

        box.finished.connect(answered)
        box.open()

    def offer_recovery(self) -> None:
        """Ask about the latest flow that was not saved when its window ended, if there is one."""
        found = self.autosave.leftovers() if self.autosave is not None else []
        if not found or self.autosave is None:
            return
        autosave, latest = self.autosave, found[0]
        said = f"“{latest.name}” was not saved when its window ended. A copy was kept at {latest.when}."
        box = PlainBox(QMessageBox.Icon.Question, "A flow that was not saved", said, parent=self)
        recover = box.addButton("Go on with the copy", QMessageBox.ButtonRole.AcceptRole)
        away = box.addButton("Throw it away", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Ask me next time", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(recover)

        def go_on() -> None:
            path = Path(latest.about.path) if latest.about.path else None
            self.session.recover(latest.flow, path, accepted=latest.about.accepted)
            autosave.keep()
            autosave.throw_away(latest.file)
            self.status.say(f"This is {latest.name} as it was at {latest.when}; it is not saved yet.")

        def answered() -> None:
            if box.clickedButton() is recover:
                self._when_saved(go_on)
            elif box.clickedButton() is away:
                autosave.throw_away(latest.file)
                self.offer_recovery()

        box.finished.connect(answered)
        box.open()

    def _when_saved(self, then: Callable[[], None]) -> None:
        """Do `then` once unsaved changes are saved or given up; not at all if the user cancels."""
        if not self.session.unsaved:
            then()
            return
        buttons = QMessageBox.StandardButton
        box = PlainBox(
            QMessageBox.Icon.Question,
            "Unsaved changes",
            f"{self.session.name} has changes that are not saved.",
            buttons.Save | buttons.Discard | buttons.Cancel,
            self,
        )
        box.setInformativeText("Save them first?")
        box.setDefaultButton(buttons.Save)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)

        def finished(answer: int) -> None:
            if answer == buttons.Save:
                self.save(then)
            elif answer == buttons.Discard:
                then()

        box.finished.connect(finished)
        box.open()

    def close_soon(self) -> None:
        """Close the window, asking about unsaved changes first."""
        self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.session.unsaved and not self._leaving:
            event.ignore()
            self._when_saved(self._leave)
            return
        self.remembered.remember("geometry", self.saveGeometry())
        self.remembered.remember("splitter", self.splitter.saveState())
        self.hide()  # what is still being read is let go of unseen
        self.jobs.close()
        if self.autosave is not None:
            self.autosave.close()
        event.accept()

    def _leave(self) -> None:
        self._leaving = True
        self.close()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        self.open_paths(paths)

    # --- rails and joins ---

    def _open_selection(self, selection: Selection) -> None:
        """Enter on a stump begins a rail; on anything else it leads to its sentence."""
        if selection.is_stump and selection.table:
            self.session.select(selection)
            self.begin_rail()
        else:
            self.sentence.view.setFocus()

    def begin_rail(self) -> None:
        """Begin a rail at the selected stump."""
        try:
            editing.begin_rail(self.session, self.session.selection)
        except TrellisError as error:
            self._failed(error)

    def ask_question(self) -> None:
        """Open the list of questions of the selected knot."""
        knot = editing.selected_knot(self.session)
        if knot is not None:
            self.sentence.part_of(knot).ask_question(knot)

    def swap(self) -> None:
        """Let the sides of the selected knot change places."""
        knot = editing.selected_knot(self.session)
        if knot is not None:
            editing.swap_sides(self.session, knot.id)

    def note(self) -> None:
        """Ask for a note on the selected step."""
        step = self.session.flow.find(self.session.selection.step)
        if step is None:
            self.session.said.emit("Select a step first: the note is on it.")
        else:
            self.sentence.ask_note(step)

    def rename(self) -> None:
        """Ask for another name of the selected step."""
        step = self.session.flow.step(self.session.selection.step)
        dialog = QInputDialog(self)
        dialog.setWindowTitle("Rename")
        dialog.setLabelText(f"Another name for {step.name}:")
        dialog.setTextValue(step.name)

        def renamed(name: str) -> None:
            try:
                editing.rename_selected(self.session, name)
            except TrellisError as error:
                self._failed(error)

        dialog.textValueSelected.connect(renamed)
        dialog.open()

    def choose_path(self, step_id: str) -> None:
        """Choose another file for a source or an output."""
        import msgspec

        step = self.session.flow.step(step_id)
        settings = KINDS.settings(step)
        dialog = QFileDialog(self, f"Choose the file of {step.name}", str(Path(settings.path).parent))
        if KINDS.ends_rail(step):
            dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
            dialog.setOption(QFileDialog.Option.DontConfirmOverwrite)
            dialog.setNameFilters(OUTPUT_FILTERS)
        else:
            dialog.setFileMode(QFileDialog.FileMode.ExistingFile)

        def chosen(name: str) -> None:
            path = str(Path(name).absolute())
            if KINDS.begins_rail(step):
                self.sources.use_file(step_id, path)
                return
            try:
                changed = msgspec.structs.replace(settings, path=path)
                if isinstance(settings, OutputSettings):
                    other = settings_for(Path(name), harmless=settings.harmless)
                    changed = msgspec.structs.replace(other, sheet=settings.sheet)
                self.session.change_settings(step_id, changed, f"Use {Path(name).name}")
            except TrellisError as error:
                self._failed(error)

        dialog.fileSelected.connect(chosen)
        dialog.open()

    # --- the clipboard ---

    def copy(self) -> None:
        """Copy the selected steps where the trellis has the keyboard, otherwise rows of the bench."""
        if not self.trellis.hasFocus():
            self.status.say(self.bench.grid.copy())
            return
        text = editing.copied_selected(self.session)
        if text:
            QGuiApplication.clipboard().setText(text)
            count = len(self.session.chosen_steps)
            self.status.say(f"{'1 step is' if count == 1 else f'{count} steps are'} on the clipboard.")

    def choose_all(self) -> None:
        """Choose all rows where the bench has the keyboard, otherwise all steps."""
        if not self.bench.grid.hasFocus():
            self.session.choose_all()
        elif lines := self.bench.grid.choose_all():
            self.status.say(
                f"{lines:,} {'line is' if lines == 1 else 'lines are'} chosen: Ctrl+C copies the rows."
            )

    def cut(self) -> None:
        """Copy the selected steps and take them out."""
        if self.trellis.hasFocus() and self.session.chosen_steps:
            self.copy()
            editing.remove_selected(self.session)
        else:
            self.status.say("Only steps in the trellis can be cut: sources are never changed.")

    def paste(self) -> None:
        """Put the steps on the clipboard behind what is selected."""
        editing.paste(self.session, QGuiApplication.clipboard().text())

    # --- pictures ---

    def save_picture(self) -> None:
        """Ask for a file, and draw the whole trellis into it."""
        dialog = QFileDialog(self, "Save the trellis as a picture", f"{self.session.name}.svg")
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        dialog.setNameFilters(["Drawing (*.svg)", "Picture (*.png)"])
        dialog.setDefaultSuffix("svg")

        def chosen(name: str) -> None:
            try:
                export.save(self.trellis, Path(name), self.session.name)
            except TrellisError as error:
                self.warn("Nothing was saved", error)
                return
            self.status.say(f"Drew the trellis to {name}.")

        dialog.fileSelected.connect(chosen)
        dialog.open()

    def print_trellis(self) -> None:
        """Print the whole trellis on one page."""
        export.open_print(self, self.trellis, self.session.name)

    # --- panes ---

    def open_finder(self) -> None:
        """Open the command finder."""
        open_finder(self, self.commands.all, self.session, self.session.select)

    def open_step_finder(self) -> None:
        """Open a finder of steps and fields only."""
        open_finder(self, [], self.session, self.session.select, title="Find a step, a table or a field")

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

    def about(self) -> None:
        """Say what this program is."""
        from keen_trellis import __version__

        box = PlainBox(self)
        box.setWindowTitle("About Keen Trellis")
        box.setText(f"Keen Trellis {__version__}")
        box.setInformativeText(
            "Joins and blends between sheets and tables, with matched and unmatched rows in plain sight.\n\n"
            "Your sources are only read. Nothing leaves this machine."
        )
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()
