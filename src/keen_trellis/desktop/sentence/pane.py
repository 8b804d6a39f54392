"""Builds the sentence of what is selected, and carries out what its chips choose."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QPoint, Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from keen_trellis.core.errors import TrellisError, UnknownFieldError
from keen_trellis.desktop.sentence.blend import BlendSentence
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.join import JoinSentence
from keen_trellis.desktop.sentence.on_rail import SentencePart
from keen_trellis.desktop.sentence.slat import SlatSentence, TieSentence
from keen_trellis.desktop.sentence.source import SourceSentence
from keen_trellis.desktop.sentence.union import UnionSentence
from keen_trellis.desktop.sentence.view import Chip, Item, SentenceView, Word
from keen_trellis.desktop.steps import RAIL_STEPS
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.graph import ROWS, Input, Step
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendKind
from keen_trellis.flow.steps.join import UNMATCHED_LEFT
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.shared_filter import SharedFilterKind
from keen_trellis.flow.steps.union import UnionKind
from keen_trellis.flow.trust import NotAccepted
from keen_trellis.flow.wording import counted, open_said, rows_called
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session
from keen_trellis.sources.connections import PasswordNeeded
from keen_trellis.sources.locations import TYPED
from keen_trellis.sources.queries import NotHarmless

_LINKS_SHOWN = 2
_REMOVE = object()
_BOTH_LINKS, _NAME_ALL = object(), object()


class SentencePane(QWidget):
    """write_wanted: an output's step id.  path_wanted: the step whose file is to be chosen anew.

    raw_wanted, typing_wanted: the raw cells, or the rows typed in, are to be shown.  password_wanted: the
    address that asks for one.  accepting_wanted: what the flow connects to is to be reviewed.  moved: a
    step's id, and the file to use from now on.  blend_wanted: another table is to be blended into the
    selected one.
    """

    write_wanted = Signal(str)
    path_wanted = Signal(str)
    output_wanted = Signal()
    raw_wanted = Signal()
    typing_wanted = Signal()
    types_wanted = Signal()
    password_wanted = Signal(str)
    accepting_wanted = Signal()
    moved = Signal(str, str)
    blend_wanted = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._chooser: Chooser | None = None
        self.view = SentenceView()
        self.source = SourceSentence(session, self)
        self.join = JoinSentence(session, self)
        self.slat = SlatSentence(session, self)
        kinds: dict[str, type[SentencePart]] = {entry.kind: entry.sentence for entry in RAIL_STEPS}
        kinds[UnionKind.name] = UnionSentence
        kinds[BlendKind.name] = BlendSentence
        kinds[SharedFilterKind.name] = TieSentence
        self._of_kinds = {name: kind(session, self) for name, kind in kinds.items()}
        self._to_begin = ""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.view)
        self.setFocusProxy(self.view)
        session.changed.connect(self.refresh)
        session.outcomes_changed.connect(self._outcomes_changed)
        session.selected.connect(self.refresh)
        self.refresh()

    @property
    def chooser(self) -> Chooser | None:
        """The list that is open, if one is."""
        return self._chooser

    def _outcomes_changed(self, concerned: frozenset[str]) -> None:
        if self._session.is_about_selected(concerned):
            self.refresh()

    def refresh(self) -> None:
        """Read aloud what is selected."""
        try:
            items = self._items()
        except TrellisError as error:
            items = [Word(str(error), alarm=True)]
        self.view.show_items(items)
        self._begin()

    def begin(self, step_id: str) -> None:
        """Ask what a step that was just put there wants to know first, as soon as its table is known."""
        self._to_begin = step_id
        self._begin()

    def _begin(self) -> None:
        if not self._to_begin:
            return
        step, outcome = self._session.flow.find(self._to_begin), self._session.outcome(self._to_begin)
        if step is None or self._session.selection.step != step.id:
            self._to_begin = ""
        elif outcome is not None and outcome.step == step and outcome.inputs and outcome.tables:
            self._to_begin = ""
            self._of_kinds[step.kind].begin(step, outcome.inputs[0])

    def change_field(self, step_id: str, name: str) -> None:
        """Open what can be changed of a field of a source."""
        self.source.choose_field(self._session.flow.step(step_id), name)

    def settle_row(self, what: str, row: int) -> None:
        """Let a raw row of the selected source be its header, or the first or last one of data."""
        self.source.settle_row(self._session.flow.step(self._session.selection.step), what, row)

    def ask_note(self, step: Step) -> None:
        """Ask for the user's words about a step."""
        title = f"A note on {step.name}, for whoever reads this next; empty: none"
        entry = Entry(title, step.note, self, several_lines=True)
        entry.entered.connect(lambda text: editing.annotate_selected(self._session, text))
        entry.open_under(self.view)

    def _note_items(self, step: Step) -> list[Item]:
        if not step.note:
            return []
        words = " ".join(step.note.split())
        return [Chip(f"note: {words}", lambda _: self.ask_note(step), "Note")]

    def _items(self) -> Sequence[Item]:
        step = self._session.flow.find(self._session.selection.step)
        if step is None or self._session.selection.is_stump:
            return self._own_items()
        if step.skipped:
            again = Chip("use it again", lambda _: editing.skip_selected(self._session), "Again", doing=True)
            said = Word(f"{step.name} is skipped for now; its rows pass through.", alarm=True)
            return [said, again, *self._note_items(step)]
        return [*self._own_items(), *self._field_repairs(step), *self._note_items(step)]

    def _field_repairs(self, step: Step) -> list[Item]:
        """What can be done about a field that is gone: use one that is called alike, or choose another."""
        outcome = self._session.outcome(step.id)
        error = outcome.error if outcome is not None and outcome.step == step else None
        if outcome is None or not isinstance(error, UnknownFieldError) or error.where not in ("", step.name):
            return []

        def use(name: str) -> None:
            editing.use_field_instead(self._session, step.id, error.name, name)

        def choose(anchor: QWidget) -> None:
            names = dict.fromkeys(field.name for shape in outcome.inputs for field in shape.fields)
            choices = [Choice(name, name) for name in names]
            chooser = Chooser(choices, self, title=f"In place of {error.name}")
            self.open_list(chooser, anchor, chosen=use)

        near = error.near[:1]
        chips = [Chip(f"use {name}", lambda _: use(near[0]), "Use", doing=True) for name in near]
        return [*chips, Chip("use another field …", choose, "Another field", doing=True)]

    def _own_items(self) -> Sequence[Item]:
        selection = self._session.selection
        if selection.is_stump:
            return self._stump_items(selection)
        shared = self._session.flow.shared_filter(selection.slat)
        if shared is not None:
            return self.slat.shown(shared)
        step = self._session.flow.find(selection.step)
        if step is None:
            if not self._session.margin.paths():
                return [Word("Open files with Ctrl+O, or drop them on the window. Ctrl+K finds any command.")]
            return [Word("Nothing is selected. Arrow keys walk the trellis; Ctrl+K finds any command.")]
        return self._step_items(step, self._session.outcome(step.id))

    def _step_items(self, step: Step, outcome: Outcome | None) -> Sequence[Item]:
        if KINDS.find(step.kind) is None:
            return [Word(str(outcome.error if outcome else step.kind), alarm=True)]
        if outcome is not None and isinstance(outcome.error, TrellisError) and not outcome.inputs:
            return self._error_items(step, outcome.error)
        if KINDS.begins_rail(step):
            return self._source_items(step, outcome)
        if KINDS.ends_rail(step):
            return self._output_items(step, outcome)
        if step.kind in self._of_kinds:
            return self._of_kinds[step.kind].items(step, outcome)
        if not KINDS.matches(step):
            return self._read_aloud(step, outcome)
        if self._session.selection.port != ROWS:
            return self._stub_items(step, outcome)
        return self.join.items(step, outcome)

    # --- sources ---

    def _stump_items(self, selection: Selection) -> list[Item]:
        outcome = self._session.selected_outcome()
        file = Path(selection.path).name
        state = self._session.margin.files.get(selection.path)
        if state is not None and state.error is not None:
            told = Word(f"{file}: {state.error.what} {state.error.remedy}".strip(), alarm=True)
            again = Chip("try again", lambda _: self._session.compute_again(), "Again", doing=True)
            return [told, *self._leave_chips(state.error), again]
        items: list[Item] = [
            Word(f"{selection.table} of {file}" if selection.table != Path(file).stem else file)
        ]
        if outcome is not None and outcome.result is not None:
            table = outcome.result.rows
            if outcome.partial:
                items.append(Word(f"is being read; these are its first {table.rows:,} rows."))
            else:
                said = f"has {table.rows:,} rows and {len(table.fields)} fields; it is not used yet."
                items.append(Word(said))
                items += self._remark_items(outcome.remarks)
        elif outcome is not None and outcome.error is not None:
            return [*items, Word(f"cannot be read. {outcome.error.what} {outcome.error.remedy}", alarm=True)]
        else:
            items.append(Word("is being read."))
        begin = Chip(
            "begin a rail with it",
            lambda _: editing.begin_rail(self._session, selection),
            "Stump",
            doing=True,
        )
        return [*items, begin, Word("or drag it onto a rail to join the two.")]

    def _source_items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        items = self.source.items(step, outcome)
        if outcome is not None and outcome.result is not None and not outcome.partial:
            items += self._remark_items(outcome.remarks)
        return items

    def _remark_items(self, remarks: Sequence[Remark]) -> list[Item]:
        """The first remark in words, and all of them behind a chip if there are more."""
        if not remarks:
            return [Word("Nothing in it was doubtful.")]
        ordered = sorted(remarks, key=lambda remark: not remark.doubtful)
        first = ordered[0]
        text = str(first)
        text = f"Doubtful: {text}" if first.doubtful else text if first.field else text[0].upper() + text[1:]
        items: list[Item] = [Word(f"{text}.", alarm=first.doubtful)]
        if len(ordered) > 1:

            def show(anchor: QWidget) -> None:
                choices = [
                    Choice(n, str(entry), "doubtful" if entry.doubtful else "")
                    for n, entry in enumerate(ordered)
                ]
                self.open_list(Chooser(choices, self, title="What there is to say about this source"), anchor)

            items.append(Chip(f"and {len(ordered) - 1} more", show, "Remarks"))
        return items

    def _error_items(self, step: Step, error: TrellisError) -> list[Item]:
        items: list[Item] = [Word(f"{step.name}: {error.what} {error.remedy}".strip(), alarm=True)]
        if not KINDS.begins_rail(step):
            return [*items, *self._lost_rows(step)]
        return [*items, *self.repairs(step, error)]

    def _lost_rows(self, step: Step) -> list[Item]:
        """What can be done about a step whose rows are gone: lead others to it, or remove it."""
        flow = self._session.flow
        lost = [place for place, entry in enumerate(step.inputs) if flow.find(entry.step) is None]
        if not lost:
            return []

        def choose(anchor: QWidget) -> None:
            choices = [
                Choice(Input(other.id), other.name, other.kind)
                for other in flow.steps
                if step.id not in flow.upstream(other.id) and not KINDS.ends_rail(other)
            ]
            chooser = Chooser(choices, self, title=f"Which rows does {step.name} take?")
            self.open_list(
                chooser,
                anchor,
                chosen=lambda rows: editing.reconnect(self._session, step.id, lost[0], rows),
            )

        def remove(_: QWidget) -> None:
            editing.remove_selected(self._session)

        return [
            Chip("lead other rows to it", choose, "Rows", doing=True),
            Chip("remove it", remove, "Remove", doing=True),
        ]

    def repairs(self, step: Step, error: TrellisError | None = None) -> list[Item]:
        """What can be done about a source that cannot be read."""
        settings: SourceSettings = KINDS.settings(step)
        items = self._leave_chips(error)
        if not items and not is_address(settings.path) and settings.reader != TYPED:
            beside = self._session.beside_the_flow(settings.path)
            if beside:
                text = f"use {Path(beside).name} beside the flow"
                items.append(Chip(text, lambda _: self.moved.emit(step.id, beside), "Beside", doing=True))
            choose = Chip("choose the file", lambda _: self.path_wanted.emit(step.id), "File", doing=True)
            items.append(choose)
        if settings.reader == TYPED:
            items.append(Chip("type its rows", lambda _: self.typing_wanted.emit(), "Rows", doing=True))
        elif error is not None and not error.option and settings != _as_it_is(settings):
            items.append(Chip("as it is found out", partial(self._as_found, step), "Found", doing=True))
        again = self._session.compute_again if error is not None else self._session.refresh
        items.append(Chip("try again", lambda _: again(), "Again", doing=True))
        return items

    def _as_found(self, step: Step, _: QWidget) -> None:
        plain = _as_it_is(KINDS.settings(step))
        self._session.change_settings(step.id, plain, "Read it as it is found out")

    def _leave_chips(self, error: TrellisError | None) -> list[Item]:
        if isinstance(error, NotAccepted | NotHarmless):
            review = Chip("review and accept", lambda _: self.accepting_wanted.emit(), "Accept", doing=True)
            return [review]
        if not isinstance(error, PasswordNeeded):
            return []
        address = error.address
        return [
            Chip("give the password", lambda _: self.password_wanted.emit(address), "Password", doing=True)
        ]

    # --- steps that cannot be changed here yet, stubs and outputs ---

    def _read_aloud(self, step: Step, outcome: Outcome | None) -> list[Item]:
        if outcome is None or len(outcome.inputs) != len(step.inputs):
            return [Word(f"{step.name}: reading its tables.")]
        items: list[Item] = [Word(KINDS.of(step).sentence(KINDS.settings(step), outcome.inputs))]
        if outcome.error is not None:
            items.append(Word(str(outcome.error), alarm=True))
        elif outcome.result is not None:
            table = outcome.result.rows
            items.append(Word(f"{table.rows:,} rows, {len(table.fields)} fields."))
        return items

    def _stub_items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        if outcome is None or outcome.result is None or len(outcome.inputs) != 2:
            return [Word(f"{step.name}: working out what did not match.")]
        on_left = self._session.selection.port == UNMATCHED_LEFT
        mine, other = outcome.inputs if on_left else outcome.inputs[::-1]
        rows = outcome.result.ports[self._session.selection.port].rows
        kind = editing.join_settings(self._session, step.id).join_type
        stays = kind.keeps_unmatched_left if on_left else kind.keeps_unmatched_right
        said = "They stay in the result." if stays else "They are left out of the result."
        return [
            Word(
                f"Unmatched {mine.name}: {counted(rows, mine.name)} that found no "
                f"{rows_called(other.name)[0]}. {said}"
            ),
            Chip(
                "carry them on with the fields of the kept rows",
                partial(self._keep_fields, step),
                "Carry on",
                doing=True,
            ),
            Chip("write them to a file", lambda _: self.output_wanted.emit(), "Write", doing=True),
            Word("or drag the stub onto a rail."),
        ]

    def _keep_fields(self, step: Step, _: QWidget) -> None:
        editing.keep_fields_of_rows(self._session, step.id, self._session.selection.port)

    def _output_items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        settings: OutputSettings = KINDS.settings(step)
        what = outcome.inputs[0].name if outcome and outcome.inputs else "nothing yet"
        items: list[Item] = [Word(f"Write {what} to{' sheet' if settings.writer == 'xlsx' else ''}")]
        if settings.writer == "xlsx":
            items += [
                Chip(settings.sheet, lambda _: self._rename_sheet(step, settings), "Sheet"),
                Word("of"),
            ]
        items.append(Chip(settings.file_name, lambda _: self.path_wanted.emit(step.id), "File"))
        if settings.writer == "text":
            items += [Word(","), Word("text that looks like a formula"), self._harmless_chip(step, settings)]
        if outcome is not None and outcome.error is not None:
            return [*items, Word(str(outcome.error), alarm=True)]
        if outcome is not None and outcome.result is not None:
            table = outcome.result.rows
            items += [Word(","), Word(f"{table.rows:,} rows, {len(table.fields)} fields.")]
            if outcome.result.open_cells:
                items.append(Word(f"{open_said(outcome.result.open_cells, 'without a partner')}."))
        items.append(Chip("write it now", lambda _: self.write_wanted.emit(step.id), "Write", doing=True))
        return items

    def _harmless_chip(self, step: Step, settings: OutputSettings) -> Chip:
        texts = {True: "made harmless", False: "as it is"}

        def choose(anchor: QWidget) -> None:
            choices = [
                Choice(True, "made harmless", "an apostrophe is put before it"),
                Choice(False, "as it is", "a spreadsheet program may run it"),
            ]
            self.open_list(Chooser(choices, self, current=settings.harmless), anchor, chosen=change)

        def change(harmless: bool) -> None:
            changed = msgspec.structs.replace(settings, harmless=harmless)
            self._session.change_settings(step.id, changed, f"Write formulas {texts[harmless]}")

        return Chip(texts[settings.harmless], choose, "Formulas")

    def _rename_sheet(self, step: Step, settings: OutputSettings) -> None:
        from PySide6.QtWidgets import QInputDialog

        dialog = QInputDialog(self)
        dialog.setWindowTitle("Sheet")
        dialog.setLabelText("Name of the sheet:")
        dialog.setTextValue(settings.sheet)
        dialog.textValueSelected.connect(
            lambda name: self._session.change_settings(
                step.id,
                msgspec.structs.replace(settings, sheet=name.strip()),
                f"Write to sheet {name.strip()}",
            )
        )
        dialog.open()

    # --- choosers ---

    def open_list(
        self,
        chooser: Chooser,
        anchor: QWidget,
        *,
        chosen: Callable[[Any], None] | None = None,
        applied: Callable[[list[Any]], None] | None = None,
        dismissed: Callable[[], None] | None = None,
        at: QPoint | None = None,
    ) -> None:
        """Open a list under a chip, and do what belongs to what is chosen in it."""

        def forget() -> None:
            if self._chooser is chooser:
                self._chooser = None

        chooser.destroyed.connect(forget)
        for signal, slot in (
            (chooser.chosen, chosen),
            (chooser.applied, applied),
            (chooser.dismissed, dismissed),
        ):
            signal.connect(forget)
            if slot is not None:
                signal.connect(slot)
        self._chooser = chooser
        chooser.open_under(anchor, at=at)


def _as_it_is(settings: SourceSettings) -> SourceSettings:
    """The same source with nothing set by hand."""
    return SourceSettings(settings.reader, settings.path, settings.table)
