"""Builds the sentence of what is selected, and carries out what its chips choose."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QPoint, Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType, comparable
from keen_trellis.desktop import editing
from keen_trellis.desktop.document import Document, Outcome, Selection
from keen_trellis.desktop.marks import mark_of
from keen_trellis.desktop.sentence.choices import (
    brought_choices,
    field_choices,
    preparation_choices,
    question_choices,
)
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.source import SourceSentence
from keen_trellis.desktop.sentence.view import Chip, Item, SentenceView, Word
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import UNMATCHED_LEFT, JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputKind, OutputSettings
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.flow.wording import counted, ignoring, listed, question, rows_called
from keen_trellis.sources.connections import PasswordNeeded
from keen_trellis.sources.locations import TYPED, is_address

_LINKS_SHOWN = 2
_REMOVE = object()
_BOTH_LINKS, _NAME_ALL = object(), object()


class SentencePane(QWidget):
    """write_wanted: an output's step id.  path_wanted: the step whose file is to be chosen anew.

    raw_wanted, typing_wanted: the raw cells, or the rows typed in, are to be shown.  password_wanted: the
    address that asks for one.  moved: a step's id, and the file to use from now on.
    """

    write_wanted = Signal(str)
    path_wanted = Signal(str)
    output_wanted = Signal()
    raw_wanted = Signal()
    typing_wanted = Signal()
    password_wanted = Signal(str)
    moved = Signal(str, str)

    def __init__(self, document: Document, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._chooser: Chooser | None = None
        self.view = SentenceView()
        self.source = SourceSentence(document, self)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.view)
        self.setFocusProxy(self.view)
        document.changed.connect(self.refresh)
        document.outcomes_changed.connect(self.refresh)
        document.selected.connect(self.refresh)
        self.refresh()

    @property
    def chooser(self) -> Chooser | None:
        """The list that is open, if one is."""
        return self._chooser

    def refresh(self) -> None:
        """Read aloud what is selected."""
        try:
            items = self._items()
        except TrellisError as error:
            items = [Word(str(error), alarm=True)]
        self.view.show_items(items)

    def change_field(self, step_id: str, name: str) -> None:
        """Open what can be changed of a field of a source."""
        self.source.choose_field(self._document.flow.step(step_id), name)

    def settle_row(self, what: str, row: int) -> None:
        """Let a raw row of the selected source be its header, or the first or last one of data."""
        self.source.settle_row(self._document.flow.step(self._document.selection.step), what, row)

    def _items(self) -> Sequence[Item]:
        selection = self._document.selection
        if selection.is_stump:
            return self._stump_items(selection)
        step = self._document.flow.find(selection.step)
        if step is None:
            if not self._document.margin_files():
                return [Word("Open files with Ctrl+O, or drop them on the window. Ctrl+K finds any command.")]
            return [Word("Nothing is selected. Arrow keys walk the trellis; Ctrl+K finds any command.")]
        outcome = self._document.outcome(step.id)
        if KINDS.find(step.kind) is None:
            return [Word(str(outcome.error if outcome else step.kind), alarm=True)]
        if outcome is not None and isinstance(outcome.error, TrellisError) and not outcome.inputs:
            return self._error_items(step, outcome.error)
        if step.kind == SourceKind.name:
            return self._source_items(step, outcome)
        if step.kind == OutputKind.name:
            return self._output_items(step, outcome)
        if selection.port != ROWS:
            return self._stub_items(step, outcome)
        return self._join_items(step, outcome)

    # --- sources ---

    def _stump_items(self, selection: Selection) -> list[Item]:
        outcome = self._document.selected_outcome()
        file = Path(selection.path).name
        state = self._document.files.get(selection.path)
        if state is not None and state.error is not None:
            told = Word(f"{file}: {state.error.what} {state.error.remedy}".strip(), alarm=True)
            again = Chip("try again", lambda _: self._document.compute_again(), "Again", doing=True)
            return [told, *self._password_chip(state.error), again]
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
            lambda _: editing.begin_rail(self._document, selection),
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
        if step.kind != SourceKind.name:
            return items
        return [*items, *self.repairs(step, error)]

    def repairs(self, step: Step, error: TrellisError | None = None) -> list[Item]:
        """What can be done about a source that cannot be read."""
        settings: SourceSettings = KINDS.settings(step)
        items = self._password_chip(error)
        if not items and not is_address(settings.path) and settings.reader != TYPED:
            beside = self._document.beside_the_flow(settings.path)
            if beside:
                text = f"use {Path(beside).name} beside the flow"
                items.append(Chip(text, lambda _: self.moved.emit(step.id, beside), "Beside", doing=True))
            choose = Chip("choose the file", lambda _: self.path_wanted.emit(step.id), "File", doing=True)
            items.append(choose)
        if settings.reader == TYPED:
            items.append(Chip("type its rows", lambda _: self.typing_wanted.emit(), "Rows", doing=True))
        elif error is not None and settings != SourceSettings(settings.reader, settings.path, settings.table):
            items.append(Chip("as it is found out", partial(self._as_found, step), "Found", doing=True))
        again = self._document.compute_again if error is not None else self._document.refresh
        items.append(Chip("try again", lambda _: again(), "Again", doing=True))
        return items

    def _as_found(self, step: Step, _: QWidget) -> None:
        settings: SourceSettings = KINDS.settings(step)
        plain = SourceSettings(settings.reader, settings.path, settings.table)
        self._document.change_settings(step.id, plain, "Read it as it is found out")

    def _password_chip(self, error: TrellisError | None) -> list[Item]:
        if not isinstance(error, PasswordNeeded):
            return []
        address = error.address
        return [
            Chip("give the password", lambda _: self.password_wanted.emit(address), "Password", doing=True)
        ]

    # --- joins ---

    def _join_items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        settings: JoinSettings = KINDS.settings(step)
        if outcome is None or outcome.step is None or outcome.step.inputs != step.inputs:
            return [Word(f"{step.name}: reading its tables.")]
        left, right = outcome.inputs
        items: list[Item] = [Word("Match")]
        shown = settings.links if len(settings.links) <= _LINKS_SHOWN else settings.links[:1]
        for number, link in enumerate(shown):
            items += [Word("and")] if number else []
            items += self._link_items(step, settings, number, link, outcome.inputs)
        if len(shown) < len(settings.links):
            items.append(self._folded_links(step, settings, len(shown)))
        if not settings.links:
            items.append(self._first_link_chip(step, settings, outcome.inputs))
        else:
            items.append(
                Chip("and …", lambda anchor: self._add_link(step, settings, outcome.inputs, anchor), "More")
            )
        if outcome.error is not None:
            return [*items, *self._broken_items(step, settings, outcome)]
        items += self._field_items(step, settings, left, right)
        items.append(Word("This answers:"))
        items.append(
            Chip(
                question(settings.join_type, left.name, right.name),
                lambda anchor: self.ask_question(step.id, anchor=anchor),
                "Question",
                strong=True,
            )
        )
        if outcome.result is not None and outcome.result.match is not None:
            rows = outcome.result.match.counts.rows_under(settings.join_type)
            items.append(Word(f"{rows:,} {'row' if rows == 1 else 'rows'}; keys 1 to 9 ask others."))
        return items

    def _broken_items(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """What a join lacks whose fields are gone, with the repairs: the field was renamed, or do without
        it.
        """
        assert outcome.error is not None
        items: list[Item] = [
            Word(str(outcome.error), alarm=True),
            *self._retype_chips(step, settings, outcome),
        ]
        for side, (shape, named) in enumerate(zip(outcome.inputs, fields_named(settings), strict=True)):
            known = [field.name for field in shape.fields]
            source = self._document.flow.find(step.inputs[side].step)
            for name in [name for name in named if name not in known][:1]:
                if source is not None and source.kind == SourceKind.name:
                    items.append(self._renamed_chip(source, shape, name, named))
                if name not in {link.left if side == 0 else link.right for link in settings.links}:
                    items.append(
                        Chip(
                            f"do without {name}",
                            partial(self._do_without, step, side, name),
                            "Without",
                            doing=True,
                        )
                    )
        return items

    def _retype_chips(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """For the first link whose types can never be equal: to read either side as the other is."""
        shapes = [{field.name: field for field in shape.fields} for shape in outcome.inputs]
        for link in settings.links:
            left, right = shapes[0].get(link.left), shapes[1].get(link.right)
            if left is None or right is None or comparable(left.type, right.type):
                continue
            sources = [self._document.flow.find(entry.step) for entry in step.inputs]
            return [
                Chip(
                    f"read {mine.name} as {other.type.value}",
                    partial(self._retype, source, mine.name, other.type),
                    "Retype",
                    doing=True,
                )
                for source, mine, other in ((sources[0], left, right), (sources[1], right, left))
                if source is not None and source.kind == SourceKind.name
            ]
        return []

    def _retype(self, source: Step, name: str, kind: FieldType, _: QWidget) -> None:
        self.source.set_type(source, name, kind)

    def _renamed_chip(self, source: Step, shape: InputShape, name: str, named: set[str]) -> Chip:
        def choose(anchor: QWidget) -> None:
            # Fields that nothing names yet first: the renamed one is among them as a rule.
            ordered = sorted(shape.fields, key=lambda field: field.name in named)
            choices = [Choice(field.name, field.name, field.type.value) for field in ordered]
            title = f"What is “{name}” of {source.name} called now?"
            chooser = Chooser(choices, self, title=title)
            self.open_list(chooser, anchor, chosen=lambda now: self.source.call_as_before(source, now, name))

        return Chip(f"{name} is called … now", choose, "Renamed", doing=True)

    def _do_without(self, step: Step, side: int, name: str, _: QWidget) -> None:
        which = "keep" if side == 0 else "bring"
        settings = editing.join_settings(self._document, step.id)
        kept = tuple(entry for entry in getattr(settings, which) or () if entry != name)
        editing.change_join(self._document, step.id, f"Do without {name}", **{which: kept})

    def _hue(self, step: Step, side: int) -> int | None:
        mark = mark_of(self._document.flow, step.inputs[side].step)
        return mark.hue if mark else None

    def _link_items(
        self,
        step: Step,
        settings: JoinSettings,
        number: int,
        link: LinkSettings,
        shapes: Sequence[InputShape],
    ) -> list[Item]:
        def field_chip(side: int, name: str) -> Chip:
            return Chip(
                name,
                lambda anchor: self._choose_link_field(step, settings, number, side, shapes, anchor),
                f"Link field of {shapes[side].name}",
                hue=self._hue(step, side),
            )

        def prepare(anchor: QWidget) -> None:
            chooser = Chooser(preparation_choices(link.ignore), self, several=True, title="When comparing")
            self.open_list(
                chooser, anchor, applied=lambda names: self._set_link(step, number, ignore=tuple(names))
            )

        words = ignoring(link.link.preparation)
        return [
            field_chip(0, link.left),
            Word(f"of {shapes[0].name} with"),
            field_chip(1, link.right),
            Word(f"of {shapes[1].name}"),
            Word(","),
            Chip(words, prepare, "Preparation"),
        ]

    def _set_link(self, step: Step, number: int, **changes: Any) -> None:
        settings = editing.join_settings(self._document, step.id)
        links = list(settings.links)
        links[number] = msgspec.structs.replace(links[number], **changes)
        said = f"Match {links[number].left} with {links[number].right}"
        if "ignore" in changes:
            said = f"Compare {links[number].left} {ignoring(links[number].link.preparation)}"
        editing.change_join(self._document, step.id, said, links=tuple(links))

    def _choose_link_field(
        self,
        step: Step,
        settings: JoinSettings,
        number: int,
        side: int,
        shapes: Sequence[InputShape],
        anchor: QWidget,
    ) -> None:
        link = settings.links[number]
        other_name = link.right if side == 0 else link.left
        partner = next((field for field in shapes[1 - side].fields if field.name == other_name), None)
        choices = field_choices(shapes[side].fields, partner)
        if len(settings.links) > 1:
            choices.append(Choice(_REMOVE, "do not match by this pair", ""))
        current = link.left if side == 0 else link.right

        def chosen(name: Any) -> None:
            if name is _REMOVE:
                self._remove_link(step, number)
            else:
                self._set_link(step, number, **{"left" if side == 0 else "right": name})

        title = f"Link field of {shapes[side].name}"
        self.open_list(Chooser(choices, self, title=title, current=current), anchor, chosen=chosen)

    def _remove_link(self, step: Step, number: int) -> None:
        links = editing.join_settings(self._document, step.id).links
        gone = links[number]
        editing.change_join(
            self._document,
            step.id,
            f"Do not match {gone.left} with {gone.right}",
            links=links[:number] + links[number + 1 :],
        )

    def _first_link_chip(self, step: Step, settings: JoinSettings, shapes: Sequence[InputShape]) -> Chip:
        return Chip(
            "choose the link fields",
            lambda anchor: self._add_link(step, settings, shapes, anchor),
            "Link fields",
            doing=True,
        )

    def _add_link(
        self, step: Step, settings: JoinSettings, shapes: Sequence[InputShape], anchor: QWidget
    ) -> None:
        """Ask for a further field of the left, then for its partner on the right."""

        def left_chosen(left: str) -> None:
            partner = next(field for field in shapes[0].fields if field.name == left)
            choices = field_choices(shapes[1].fields, partner)
            same = next((field.name for field in shapes[1].fields if _alike(field, partner)), None)
            title = f"{left} of {shapes[0].name} equals which field of {shapes[1].name}?"
            self.open_list(Chooser(choices, self, title=title, current=same), self.view, chosen=both(left))

        def both(left: str) -> Callable[[str], None]:
            def add(right: str) -> None:
                links = (*editing.join_settings(self._document, step.id).links, LinkSettings(left, right))
                editing.change_join(self._document, step.id, f"Match {left} with {right} too", links=links)

            return add

        title = f"Match by {'a further' if settings.links else 'which'} field of {shapes[0].name}?"
        self.open_list(
            Chooser(field_choices(shapes[0].fields, None), self, title=title), anchor, chosen=left_chosen
        )

    def _folded_links(self, step: Step, settings: JoinSettings, shown: int) -> Chip:
        """The links that are not spelled out, each to be taken out from the list."""
        hidden = settings.links[shown:]

        def show(anchor: QWidget) -> None:
            choices = [
                Choice(shown + n, f"{link.left} with {link.right}", ignoring(link.link.preparation))
                for n, link in enumerate(hidden)
            ]
            chooser = Chooser(choices, self, title="Also matched by; Enter takes one out")
            self.open_list(chooser, anchor, chosen=lambda number: self._remove_link(step, number))

        return Chip(f"and {len(hidden)} more pairs", show, "More links")

    def _field_items(
        self, step: Step, settings: JoinSettings, left: InputShape, right: InputShape
    ) -> list[Item]:
        kind = settings.join_type
        items: list[Item] = []
        if kind.has_left_fields:
            items += [
                Word("Keep"),
                self._fields_chip(step, settings, "keep", left, 0),
                Word(f"of {left.name}"),
            ]
        if kind.has_right_fields:
            items += [Word(","), Word("bring")] if items else [Word("Bring")]
            items.append(self._fields_chip(step, settings, "bring", right, 1))
            items.append(Word(f"from {right.name}."))
        elif items:
            items.append(Word("."))
        return items

    def _fields_chip(
        self, step: Step, settings: JoinSettings, which: str, shape: InputShape, side: int
    ) -> Chip:
        chosen: tuple[str, ...] | None = getattr(settings, which)
        total = len(shape.fields)
        text = f"all {total} fields"
        if chosen is not None:
            known = [name for name in chosen if any(field.name == name for field in shape.fields)]
            text = f"{listed(known)} · {len(known)} of {total} fields" if known else "no field"
        linked = {link.left if side == 0 else link.right for link in settings.links}

        def choose(anchor: QWidget) -> None:
            choices = brought_choices(shape.fields, chosen, linked)
            if which == "bring":
                choices.append(
                    Choice(_BOTH_LINKS, "show the link fields of both sides", ticked=settings.both_links)
                )
                named = f"name them all “… of {shape.name}”"
                choices.append(Choice(_NAME_ALL, named, ticked=settings.name_all))
            title = f"Fields of {shape.name} that come along"
            self.open_list(Chooser(choices, self, several=True, title=title), anchor, applied=apply)

        def apply(keys: list[Any]) -> None:
            names = tuple(key for key in keys if isinstance(key, str))
            everything = names == tuple(field.name for field in shape.fields)
            changes: dict[str, object] = {which: None if everything else names}
            if which == "bring":
                changes |= {"both_links": _BOTH_LINKS in keys, "name_all": _NAME_ALL in keys}
            verb = "Bring" if which == "bring" else "Keep"
            editing.change_join(self._document, step.id, f"{verb} {listed(list(names))}", **changes)

        return Chip(text, choose, f"Fields of {shape.name}", hue=self._hue(step, side))

    def ask_question(
        self, step_id: str, *, anchor: QWidget | None = None, title: str = "", undo_if_dismissed: bool = False
    ) -> None:
        """Open the list of questions; their counts are filled in as soon as they are known."""
        if editing.join_settings(self._document, step_id).links == () and undo_if_dismissed:
            return
        outcome = self._document.outcome(step_id)
        current = editing.join_settings(self._document, step_id).join_type
        chooser = Chooser(
            question_choices(self._document, step_id, outcome),
            self,
            title=title,
            current=current,
            numbered=True,
        )

        chooser.follow(lambda: question_choices(self._document, step_id, self._document.outcome(step_id)))
        self._document.outcomes_changed.connect(chooser.reload)

        def chosen(kind: JoinType) -> None:
            editing.change_join_type(self._document, step_id, kind)

        self.open_list(
            chooser,
            anchor or self.view,
            chosen=chosen,
            dismissed=self._document.drop_last_edit if undo_if_dismissed else None,
            at=None if anchor else QPoint(240, 4),
        )

    # --- stubs and outputs ---

    def _stub_items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        if outcome is None or outcome.result is None or len(outcome.inputs) != 2:
            return [Word(f"{step.name}: working out what did not match.")]
        on_left = self._document.selection.port == UNMATCHED_LEFT
        mine, other = outcome.inputs if on_left else outcome.inputs[::-1]
        rows = outcome.result.ports[self._document.selection.port].rows
        kind = editing.join_settings(self._document, step.id).join_type
        stays = kind.keeps_unmatched_left if on_left else kind.keeps_unmatched_right
        said = "They stay in the result." if stays else "They are left out of the result."
        return [
            Word(
                f"Unmatched {mine.name}: {counted(rows, mine.name)} that found no "
                f"{rows_called(other.name)[0]}. {said}"
            ),
            Chip("write them to a file", lambda _: self.output_wanted.emit(), "Write", doing=True),
            Word("or drag the stub onto a rail."),
        ]

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
            self._document.change_settings(step.id, changed, f"Write formulas {texts[harmless]}")

        return Chip(texts[settings.harmless], choose, "Formulas")

    def _rename_sheet(self, step: Step, settings: OutputSettings) -> None:
        from PySide6.QtWidgets import QInputDialog

        dialog = QInputDialog(self)
        dialog.setWindowTitle("Sheet")
        dialog.setLabelText("Name of the sheet:")
        dialog.setTextValue(settings.sheet)
        dialog.textValueSelected.connect(
            lambda name: self._document.change_settings(
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


def fields_named(settings: JoinSettings) -> tuple[set[str], set[str]]:
    """The fields of the left and of the right that a join names."""
    left = {link.left for link in settings.links} | set(settings.keep or ())
    right = {link.right for link in settings.links} | set(settings.bring or ())
    return left, right


def _alike(field: Field, other: Field) -> bool:
    return field.name.casefold() == other.name.casefold()
