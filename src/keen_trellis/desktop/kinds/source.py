"""The sentence of a source: where it is read from and how, each part to be changed in its place."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.marks import mark_of
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.remarks import leave_items, remark_items
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.graph import Step
from keen_trellis.flow.source_settings import (
    EVERY_FILE,
    NEWEST_FILE,
    NO_COMMENT,
    NO_QUOTE,
    Dialect,
    FieldSettings,
    Layout,
    Settled,
    SourceSettings,
    Writing,
)
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.session import source_fields
from keen_trellis.session.outcome import Outcome
from keen_trellis.sources.dialect import COMMENTS, DELIMITERS
from keen_trellis.sources.locations import DATABASE, FOLDER, TYPED
from keen_trellis.sources.queries import checked_query
from keen_trellis.sources.recognise import SQLITE, TEXT, WORKBOOK
from keen_trellis.sources.shaping import conversion

_QUOTES = {'"': "double quotation marks", "'": "single quotation marks", NO_QUOTE: "no quotation marks"}
_ENCODINGS = ("utf-8", "cp1252", "iso8859-1", "iso8859-15", "cp1250", "utf-16", "mac_roman", "cp437")
_AS_FOUND = object()


class SourceSentence(SentencePart):
    """Builds the sentence of a source step, and carries out what its chips choose."""

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        """The whole sentence."""
        settings: SourceSettings = KINDS.settings(step)
        snapshot = self.session.library.known(settings)
        settled = snapshot.settled if snapshot is not None else Settled()
        if settings.reader == TYPED:
            items: list[Item] = [
                Word(f"{step.name}, typed into this flow:"),
                Chip("edit its rows", lambda _: self.pane.typing_wanted.emit(), "Rows", doing=True),
            ]
        else:
            items = [Word("Read"), *self._table_items(step, settings)]
            items += self._gathering_items(step, settings)
            items += self._layout_items(step, settings, settled)
            items += self._writing_items(step, settings, settled)
        if outcome is not None and outcome.result is not None:
            table = outcome.result.rows
            items += [Word(","), self._fields_chip(step, settings, len(table.fields))]
            rows = "1 row" if table.rows == 1 else f"{table.rows:,} rows"
            items += [
                Word(","),
                Word(f"{rows}." if not outcome.partial else f"the first {rows}; reading on."),
            ]
        if snapshot is not None and snapshot.old:
            items.append(Word(f"These are the rows from before. {snapshot.old}", alarm=True))
            items += self._repairs(step)
        if outcome is not None and outcome.result is not None and not outcome.partial:
            items += remark_items(self.pane, outcome.remarks)
        return items

    def error_items(self, step: Step, error: TrellisError) -> list[Item]:
        said = Word(f"{step.name}: {error.what} {error.remedy}".strip(), alarm=True)
        return [said, *self._repairs(step, error)]

    def _repairs(self, step: Step, error: TrellisError | None = None) -> list[Item]:
        """What can be done about a source that cannot be read."""
        settings: SourceSettings = KINDS.settings(step)
        items = leave_items(self.pane, error)
        if not items and not is_address(settings.path) and settings.reader != TYPED:
            beside = self.session.beside_the_flow(settings.path)
            if beside:
                text = f"use {Path(beside).name} beside the flow"
                items.append(
                    Chip(text, lambda _: self.pane.moved.emit(step.id, beside), "Beside", doing=True)
                )
            choose = Chip(
                "choose the file", lambda _: self.pane.path_wanted.emit(step.id), "File", doing=True
            )
            items.append(choose)
        if settings.reader == TYPED:
            items.append(Chip("type its rows", lambda _: self.pane.typing_wanted.emit(), "Rows", doing=True))
        elif error is not None and not error.option and settings != _as_it_is(settings):
            items.append(Chip("as it is found out", partial(self._as_found, step), "Found", doing=True))
        again = self.session.compute_again if error is not None else self.session.refresh
        items.append(Chip("try again", lambda _: again(), "Again", doing=True))
        return items

    def _as_found(self, step: Step, _: QWidget) -> None:
        plain = _as_it_is(KINDS.settings(step))
        self.session.change_settings(step.id, plain, "Read it as it is found out")

    # --- which table ---

    def _table_items(self, step: Step, settings: SourceSettings) -> list[Item]:
        if settings.reader in (DATABASE, SQLITE):
            return self._database_items(step, settings)
        if settings.table:
            return [*self._table_chip(step, settings), Word(f"of {settings.file_name} as {step.name}")]
        return [Word(f"{settings.file_name} as {step.name}")]

    def _table_chip(self, step: Step, settings: SourceSettings) -> list[Item]:
        state = self.session.margin.files.get(settings.path)
        tables = state.content.tables if state and state.content else ()
        mark = mark_of(self.session.flow, step.id)
        sort = next((entry.sort for entry in tables if entry.name == settings.table), "table")

        def choose(anchor: QWidget) -> None:
            choices = [
                Choice(entry.name, entry.name, f"{entry.sort}{', hidden' if entry.hidden else ''}")
                for entry in tables
            ]
            self._choose(
                anchor, choices, change, current=settings.table, title=f"Table of {settings.file_name}"
            )

        def change(table: str) -> None:
            self._change(
                step, f"Read {table} instead of {settings.table}", table=table, layout=Layout(), query=""
            )

        return [Word(sort), Chip(settings.table, choose, "Table", hue=mark.hue if mark else None)]

    def _database_items(self, step: Step, settings: SourceSettings) -> list[Item]:
        def ask(anchor: QWidget) -> None:
            text = settings.query or f"SELECT *\nFROM {settings.table or 'table'}"
            self._ask(
                anchor,
                "Read the rows of this query: one SELECT",
                text,
                lambda query: self._change(step, "Read a query", query=query.strip()),
                check=lambda query: checked_query(query, settings.path),
                several_lines=True,
            )

        where = f"of {settings.file_name} as {step.name}"
        if settings.query:

            def back(_: QWidget) -> None:
                self._change(step, f"Read {settings.table} again", query="")

            items: list[Item] = [Chip(" ".join(settings.query.split()), ask, "Query"), Word(where)]
            if settings.table:
                items.append(Chip(f"read {settings.table} again", back, "No query", doing=True))
            return items
        return [*self._table_chip(step, settings), Word(where), Chip("by a query …", ask, "Query")]

    # --- folders ---

    def _gathering_items(self, step: Step, settings: SourceSettings) -> list[Item]:
        if settings.reader != FOLDER:
            return []
        gathering = settings.gathering

        def change(said: str, **changes: Any) -> None:
            self._change(step, said, gathering=msgspec.structs.replace(gathering, **changes))

        def which(anchor: QWidget) -> None:
            choices = [
                Choice(EVERY_FILE, "every file", "as one table"),
                Choice(NEWEST_FILE, "only the newest file", "by when it was changed"),
            ]
            texts = {EVERY_FILE: "Read every file", NEWEST_FILE: "Read only the newest file"}
            self._choose(anchor, choices, lambda key: change(texts[key], which=key), current=gathering.which)

        def further(anchor: QWidget) -> None:
            choices = [
                Choice("name", "the file's name as a field", ticked=bool(gathering.name_field)),
                Choice("date", "the file's date as a field", ticked=bool(gathering.date_field)),
            ]
            chooser = Chooser(choices, self.pane, several=True, title="Fields that say where a row is from")
            self.pane.open_list(
                chooser,
                anchor,
                applied=lambda keys: change(
                    "Fields of the file",
                    name_field=(gathering.name_field or "file") if "name" in keys else "",
                    date_field=(gathering.date_field or "file date") if "date" in keys else "",
                ),
            )

        names = [name for name in (gathering.name_field, gathering.date_field) if name]
        text = "every file" if gathering.which == EVERY_FILE else "only the newest file"
        return [
            Word(","),
            Chip(text, which, "Files"),
            Word(","),
            Chip(
                f"with {' and '.join(names)}" if names else "without the file's name", further, "File fields"
            ),
        ]

    # --- where it stands ---

    def _layout_items(self, step: Step, settings: SourceSettings, settled: Settled) -> list[Item]:
        if settings.reader not in (WORKBOOK, TEXT, FOLDER):
            return []
        found = settled.layout
        if found.header is None:
            return []
        header = f"header in row {found.header:,}"
        if not found.header:
            header = "no header"
        elif (found.header_rows or 1) > 1:
            header = f"header in rows {found.header:,} and {found.header + 1:,}"
        set_by_hand = settings.layout != Layout()

        def choose(anchor: QWidget) -> None:
            choices = [
                Choice("raw", "Look at the raw cells and settle it there", "Shift+F7"),
                Choice("header", "Header in row …", header),
                Choice("rows", "Header of 1 or 2 rows …", str(found.header_rows or 1)),
                Choice("none", "No header: the first row is data", ""),
                Choice("first", "Data from row …", f"{found.first:,}" if found.first else ""),
                Choice("last", "Data to row …", f"{found.last:,}" if found.last else "the end"),
            ]
            if settings.reader != TEXT:
                choices.append(Choice("columns", "Columns …", found.columns))
            if set_by_hand:
                choices.append(Choice("found", "As it is found out", "no longer set by hand"))
            self._choose(anchor, choices, lambda key: self._settle_layout(step, settings, found, key, anchor))

        return [Word(","), Chip(header, choose, "Header", strong=set_by_hand)]

    def _settle_layout(
        self, step: Step, settings: SourceSettings, found: Layout, key: str, anchor: QWidget
    ) -> None:
        layout = settings.layout
        if key == "raw":
            self.pane.raw_wanted.emit()
        elif key == "found":
            self._change(step, "Find out where the table stands", layout=Layout())
        elif key == "none":
            self._change(
                step, "No header", layout=msgspec.structs.replace(layout, header=0, header_rows=None)
            )
        elif key == "rows":
            rows = 1 if (found.header_rows or 1) > 1 else 2
            changed = msgspec.structs.replace(layout, header=found.header, header_rows=rows, first=None)
            self._change(step, f"Header of {rows} rows", layout=changed)
        elif key == "columns":
            self._ask(
                self.pane.view,
                "Columns, as A:F",
                found.columns,
                lambda text: self._change(
                    step,
                    f"Columns {text}",
                    layout=msgspec.structs.replace(layout, columns=text.upper().strip()),
                ),
                check=check_columns,
            )
        else:
            known = {"header": found.header, "first": found.first, "last": found.last}[key]
            self._ask(
                self.pane.view,
                {"header": "Header in row", "first": "Data from row", "last": "Data to row"}[key],
                str(known or ""),
                lambda text: self.settle_row(step, key, int(text)),
                check=check_row,
            )

    def settle_row(self, step: Step, what: str, row: int) -> None:
        """Let a row be the header, or the first or last one of data; "none": there is no header."""
        settings: SourceSettings = KINDS.settings(step)
        replaced: dict[str, Any] = {
            "header": {"header": row, "header_rows": None, "first": None},
            "none": {"header": 0, "header_rows": None, "first": row},
            "first": {"first": row},
            "last": {"last": row},
        }
        words = {
            "header": "Header in",
            "none": "No header, data from",
            "first": "Data from",
            "last": "Data to",
        }
        layout = msgspec.structs.replace(settings.layout, **replaced[what])
        self._change(step, f"{words[what]} row {row:,}", layout=layout)

    # --- how it is written ---

    def _writing_items(self, step: Step, settings: SourceSettings, settled: Settled) -> list[Item]:
        if settings.reader not in (TEXT, FOLDER) or not settled.dialect.delimiter:
            return []
        dialect, writing = settled.dialect, settled.writing
        delimiter = DELIMITERS.get(dialect.delimiter, dialect.delimiter)
        text = f"{delimiter}s between cells, {dialect.encoding}"
        by_hand = settings.dialect != Dialect() or settings.writing != Writing()

        def choose(anchor: QWidget) -> None:
            decimals = {".": "point", ",": "comma"}.get(writing.decimal, "nothing to settle")
            dates = {"day": "day first", "month": "month first"}.get(writing.dates, "nothing to settle")
            blanks = settings.writing.blanks
            words = (
                "usual words among numbers and dates" if blanks is None else ", ".join(blanks) or "no word"
            )
            choices = [
                Choice("delimiter", "Between cells", delimiter),
                Choice("quote", "Around cells", _QUOTES.get(dialect.quote, dialect.quote)),
                Choice("encoding", "Encoding", dialect.encoding),
                Choice("comment", "Comment lines begin with", _nothing(dialect.comment)),
                Choice("decimal", "Mark of decimals", decimals),
                Choice("dates", "Dates", dates),
                Choice("blanks", "Counted as blank …", words),
            ]
            if by_hand:
                choices.append(Choice("found", "As it is found out", "no longer set by hand"))
            self._choose(anchor, choices, lambda key: self._settle_writing(step, settings, key))

        return [Word(","), Chip(text, choose, "Writing", strong=by_hand)]

    def _settle_writing(self, step: Step, settings: SourceSettings, key: str) -> None:
        if key == "found":
            self._change(step, "Find out how it is written", dialect=Dialect(), writing=Writing())
            return
        if key == "blanks":
            self._ask(
                self.pane.view,
                "Words that count as blank, with commas between them",
                ", ".join(settings.writing.blanks or ()),
                lambda text: self._set_blanks(step, settings, text),
            )
            return
        in_writing = key in ("decimal", "dates")
        choices = {
            "delimiter": [Choice(mark, name) for mark, name in DELIMITERS.items()],
            "quote": [Choice(mark, name) for mark, name in _QUOTES.items()],
            "encoding": [Choice(name, name) for name in _ENCODINGS],
            "comment": [Choice(NO_COMMENT, "no comment lines"), *(Choice(mark, mark) for mark in COMMENTS)],
            "decimal": [Choice(".", "point: 1,234.5"), Choice(",", "comma: 1.234,5")],
            "dates": [Choice("day", "day first: 31/01/2026"), Choice("month", "month first: 01/31/2026")],
        }[key]
        choices = [Choice(_AS_FOUND, "as it is found out"), *choices]
        part = settings.writing if in_writing else settings.dialect

        def change(value: Any) -> None:
            text = "" if value is _AS_FOUND else value
            changed = msgspec.structs.replace(part, **{key: text})
            self._change(step, f"Set the {key}", **{"writing" if in_writing else "dialect": changed})

        self._choose(self.pane.view, choices, change, current=getattr(part, key) or _AS_FOUND)

    def _set_blanks(self, step: Step, settings: SourceSettings, text: str) -> None:
        words = tuple(word.strip() for word in text.split(",") if word.strip())
        changed = msgspec.structs.replace(settings.writing, blanks=words or None)
        self._change(step, f"Blank: {', '.join(words) or 'the usual words'}", writing=changed)

    # --- fields ---

    def _fields_chip(self, step: Step, settings: SourceSettings, count: int) -> Chip:
        left_out = sum(entry.left_out for entry in settings.fields)
        text = f"{count} {'field' if count == 1 else 'fields'}"

        def choose(anchor: QWidget) -> None:
            outcome = self.session.outcome(step.id)
            fields = outcome.result.rows.fields if outcome and outcome.result else ()
            renamed = {entry.rename or entry.name: entry for entry in settings.fields}
            choices = [
                Choice(entry.name, entry.name, _field_detail(entry.type, renamed.get(entry.name)))
                for entry in fields
            ]
            choices += [
                Choice(entry.name, entry.name, "left out") for entry in settings.fields if entry.left_out
            ]
            title = "Change a field; F7 shows what they hold"
            self._choose(anchor, choices, lambda name: self.choose_field(step, name), title=title)

        return Chip(
            f"{text}, {left_out} left out" if left_out else text,
            choose,
            "Fields",
            strong=bool(settings.fields),
        )

    def choose_field(self, step: Step, name: str) -> None:
        """Open what can be changed of a field, with what each type would lose."""
        settings: SourceSettings = KINDS.settings(step)
        entry = next((e for e in settings.fields if (e.rename or e.name) == name), FieldSettings(name))
        outcome = self.session.outcome(step.id)
        table = outcome.result.rows if outcome and outcome.result else None
        if table is None or entry.left_out or name not in table.names:
            source_fields.set_field(
                self.session, step.id, msgspec.structs.replace(entry, left_out=False), f"Bring {name} back"
            )
            return
        have = table.field(name).type
        lost: dict[FieldType, str] = {}

        def choices() -> list[Choice]:
            types = [
                Choice(kind, f"read as {kind.value}", _type_detail(kind, have, lost)) for kind in FieldType
            ]
            others = [Choice("rename", "call it otherwise …", name), Choice("out", "leave it out", "")]
            if entry != FieldSettings(entry.name):
                others.append(Choice("found", "as it is found out", "no longer set by hand"))
            return [*types, *others]

        chooser = Chooser(choices(), self.pane, title=f"{name} of {step.name}", current=have)
        chooser.follow(choices)

        def count(task: Any) -> None:
            column = table.column(name).values
            for kind in FieldType:
                task.checkpoint()
                made = conversion(column, kind, settings.writing.notation)
                said = (
                    "nothing is lost"
                    if not made.count
                    else f"{made.count:,} of {len(column):,} would be blank"
                )
                self.session.jobs.turns.soon(partial(lost.__setitem__, kind, said))

        job = self.session.jobs.start(
            f"trying the types of {name}", count, lambda _: chooser.reload(), self.session.failed.emit
        )
        chooser.destroyed.connect(job.cancel)
        self.pane.open_list(
            chooser,
            self.pane.view,
            chosen=lambda key: self._change_field(step, entry, name, key),
            at=QPoint(240, 4),
        )

    def _change_field(self, step: Step, entry: FieldSettings, name: str, key: Any) -> None:
        if isinstance(key, FieldType):
            source_fields.read_as(self.session, step.id, name, key)
        elif key == "out":
            source_fields.set_field(
                self.session, step.id, msgspec.structs.replace(entry, left_out=True), f"Leave {name} out"
            )
        elif key == "found":
            source_fields.set_field(
                self.session, step.id, FieldSettings(entry.name), f"Read {name} as it is found"
            )
        else:

            def rename(text: str) -> None:
                shown = "" if text.strip() == entry.name else text.strip()
                source_fields.set_field(
                    self.session,
                    step.id,
                    msgspec.structs.replace(entry, rename=shown),
                    f"Call {name} {text.strip()}",
                )

            self._ask(self.pane.view, f"Another name for {name}", name, rename, check=check_name)

    # --- the tools of all of these ---

    def _change(self, step: Step, said: str, **changes: Any) -> None:
        # The step as it is now: the list may have been open while something else was edited.
        settings: SourceSettings = KINDS.settings(self.session.flow.step(step.id))
        self.session.change_settings(step.id, msgspec.structs.replace(settings, **changes), said)

    def _choose(
        self,
        anchor: QWidget,
        choices: Sequence[Choice],
        chosen: Callable[[Any], None],
        *,
        current: Any = None,
        title: str = "",
    ) -> None:
        self.pane.open_list(Chooser(choices, self.pane, current=current, title=title), anchor, chosen=chosen)

    def _ask(
        self,
        anchor: QWidget,
        title: str,
        text: str,
        entered: Callable[[str], None],
        *,
        check: Callable[[str], object] | None = None,
        several_lines: bool = False,
    ) -> None:
        entry = Entry(title, text, self.pane, check=check, several_lines=several_lines)
        entry.entered.connect(entered)
        entry.open_under(anchor)


def check_row(text: str) -> None:
    """UsageError unless the text is the number of a row."""
    if not text.strip().isdigit() or not 1 <= int(text) <= 2**31:
        raise UsageError("That is no row number.", remedy="Rows count from 1.")


def check_columns(text: str) -> None:
    """UsageError unless the text names columns of a sheet."""
    from keen_trellis.sources.blocks import parse_range

    left, _, right = text.strip().partition(":")
    if parse_range(f"{left}1:{right or left}1") is None:
        raise UsageError("Those are no columns.", remedy="Write them like A:F.")


def check_name(text: str) -> None:
    """UsageError unless the text can name a field."""
    if not text.strip():
        raise UsageError("A field needs a name.")


def _nothing(mark: str) -> str:
    return "nothing: there are none" if mark in ("", NO_COMMENT) else mark


def _field_detail(kind: FieldType, entry: FieldSettings | None) -> str:
    said = [kind.value]
    if entry is not None and entry.type:
        said.append("set by hand")
    if entry is not None and entry.rename:
        said.append(f"{entry.name} in the source")
    return ", ".join(said)


def _type_detail(kind: FieldType, have: FieldType, lost: dict[FieldType, str]) -> str:
    return "as it is now" if kind is have else lost.get(kind, "…")


def _as_it_is(settings: SourceSettings) -> SourceSettings:
    """The same source with nothing set by hand."""
    return SourceSettings(settings.reader, settings.path, settings.table)


VIEW = KindView(SourceKind.name, SourceSentence)
