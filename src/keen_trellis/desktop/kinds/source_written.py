"""How the cells of a source stand and are written, in its sentence."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import FlowFileError, UsageError
from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.source_settings import (
    NO_COMMENT,
    NO_QUOTE,
    Dialect,
    Layout,
    Settled,
    SourceSettings,
    Writing,
)
from keen_trellis.flow.steps import KINDS
from keen_trellis.sources.dialect import COMMENTS, DELIMITERS
from keen_trellis.sources.readers import uses_of
from keen_trellis.sources.reading import COLUMNS_OF_SHEET, DIALECT, LAYOUT

_QUOTES = {'"': "double quotation marks", "'": "single quotation marks", NO_QUOTE: "no quotation marks"}
_ENCODINGS = ("utf-8", "cp1252", "iso8859-1", "iso8859-15", "cp1250", "utf-16", "mac_roman", "cp437")
_AS_FOUND = object()


class SourceWritten(SentencePart):
    """The part of the sentence about header and rows, and how cells are written."""

    def layout(self, step: Step, settings: SourceSettings, settled: Settled) -> list[Item]:
        if not uses_of(settings) >= LAYOUT:
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
                Choice("raw", "Look at the raw cells and set it there", "Shift+F7"),
                Choice("header", "Header in row …", header),
                Choice("rows", "Header of 1 or 2 rows …", str(found.header_rows or 1)),
                Choice("none", "No header: the first row is data", ""),
                Choice("first", "Data from row …", f"{found.first:,}" if found.first else ""),
                Choice("last", "Data to row …", f"{found.last:,}" if found.last else "the end"),
            ]
            if uses_of(settings) >= COLUMNS_OF_SHEET:
                choices.append(Choice("columns", "Columns …", found.columns))
            if set_by_hand:
                choices.append(Choice("found", "As detected", "no longer set by hand"))
            self.choose(anchor, choices, lambda key: self._settle_layout(step, settings, found, key, anchor))

        return [Word(","), Chip(header, choose, "Header", strong=set_by_hand)]

    def _settle_layout(
        self, step: Step, settings: SourceSettings, found: Layout, key: str, anchor: QWidget
    ) -> None:
        layout = settings.layout
        if key == "raw":
            self.pane.raw_wanted.emit()
        elif key == "found":
            self.change(step, "Find out where the table is", layout=Layout())
        elif key == "none":
            self.change(step, "No header", layout=msgspec.structs.replace(layout, header=0, header_rows=None))
        elif key == "rows":
            rows = 1 if (found.header_rows or 1) > 1 else 2
            changed = msgspec.structs.replace(layout, header=found.header, header_rows=rows, first=None)
            self.change(step, f"Header of {rows} rows", layout=changed)
        elif key == "columns":
            self.ask(
                self.pane.view,
                "Columns, as A:F",
                found.columns,
                lambda text: self.change(
                    step,
                    f"Columns {text}",
                    layout=msgspec.structs.replace(layout, columns=text.upper().strip()),
                ),
                check=_check_columns,
            )
        else:
            known = {"header": found.header, "first": found.first, "last": found.last}[key]
            self.ask(
                self.pane.view,
                {"header": "Header in row", "first": "Data from row", "last": "Data to row"}[key],
                str(known or ""),
                lambda text: self.settle_row(step, key, int(text)),
                check=_check_row,
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
        self.change(step, f"{words[what]} row {row:,}", layout=layout)

    def writing(self, step: Step, settings: SourceSettings, settled: Settled) -> list[Item]:
        if not uses_of(settings) >= DIALECT or not (settled.dialect.delimiter or settled.dialect.begins):
            return []
        dialect, writing = settled.dialect, settled.writing
        delimiter = DELIMITERS.get(dialect.delimiter, dialect.delimiter)
        text = f"{delimiter}s between cells, {dialect.encoding}"
        if dialect.begins:
            text = f"{len(dialect.begins)} columns at fixed places, {dialect.encoding}"
        by_hand = settings.dialect != Dialect() or settings.writing != Writing()

        def choose(anchor: QWidget) -> None:
            decimals = {".": "point", ",": "comma"}.get(writing.decimal, "nothing to set")
            dates = {"day": "day first", "month": "month first"}.get(writing.dates, "nothing to set")
            blanks = settings.writing.blanks
            words = (
                "usual words among numbers and dates" if blanks is None else ", ".join(blanks) or "no word"
            )
            choices = [
                Choice("delimiter", "Between cells", "nothing" if dialect.begins else delimiter),
                Choice("begins", "Columns at fixed places …", _places(dialect.begins)),
                Choice("quote", "Around cells", _QUOTES.get(dialect.quote, dialect.quote)),
                Choice("encoding", "Encoding", dialect.encoding),
                Choice("comment", "Comment lines begin with", _nothing(dialect.comment)),
                Choice("decimal", "Mark of decimals", decimals),
                Choice("dates", "Dates", dates),
                Choice("blanks", "Counted as blank …", words),
            ]
            if by_hand:
                choices.append(Choice("found", "As detected", "no longer set by hand"))
            self.choose(anchor, choices, lambda key: self._settle_writing(step, settings, settled, key))

        return [Word(","), Chip(text, choose, "Writing", strong=by_hand)]

    def _settle_writing(self, step: Step, settings: SourceSettings, settled: Settled, key: str) -> None:
        if key == "found":
            self.change(step, "Find out how it is written", dialect=Dialect(), writing=Writing())
            return
        if key == "begins":
            self.ask(
                self.pane.view,
                "Columns begin at, as 1, 12, 30 (empty: not at fixed places)",
                _places(settled.dialect.begins),
                lambda text: self._set_places(step, settings, text),
                check=_read_places,
            )
            return
        if key == "blanks":
            self.ask(
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
        choices = [Choice(_AS_FOUND, "as detected"), *choices]
        part = settings.writing if in_writing else settings.dialect

        def change(value: Any) -> None:
            text = "" if value is _AS_FOUND else value
            changed = msgspec.structs.replace(part, **{key: text})
            if key == "delimiter":
                changed = msgspec.structs.replace(changed, begins=())
            self.change(step, f"Set the {key}", **{"writing" if in_writing else "dialect": changed})

        self.choose(self.pane.view, choices, change, current=getattr(part, key) or _AS_FOUND)

    def _set_places(self, step: Step, settings: SourceSettings, text: str) -> None:
        begins = _read_places(text)
        changed = msgspec.structs.replace(settings.dialect, begins=begins, delimiter="")
        said = f"Columns begin at {_places(begins)}" if begins else "No columns at fixed places"
        self.change(step, said, dialect=changed)

    def _set_blanks(self, step: Step, settings: SourceSettings, text: str) -> None:
        words = tuple(word.strip() for word in text.split(",") if word.strip())
        changed = msgspec.structs.replace(settings.writing, blanks=words or None)
        self.change(step, f"Blank: {', '.join(words) or 'the usual words'}", writing=changed)


def _places(begins: Sequence[int]) -> str:
    return ", ".join(map(str, begins))


def _read_places(text: str) -> tuple[int, ...]:
    """Where columns begin; UsageError unless the text says so."""
    parts = [part.strip() for part in text.split(",") if part.strip()]
    try:
        begins = tuple(map(int, parts))
        Dialect(begins=begins).check()
    except (ValueError, FlowFileError):
        raise UsageError(
            "These are not places of columns.", remedy="Write them as 1, 12, 30, each behind the one before."
        ) from None
    return begins


def _check_row(text: str) -> None:
    """UsageError unless the text is the number of a row."""
    if not text.strip().isdigit() or not 1 <= int(text) <= 2**31:
        raise UsageError("That is not a row number.", remedy="Rows count from 1.")


def _check_columns(text: str) -> None:
    """UsageError unless the text names columns of a sheet."""
    from keen_trellis.sources.blocks import parse_range

    left, _, right = text.strip().partition(":")
    if parse_range(f"{left}1:{right or left}1") is None:
        raise UsageError("These are not columns.", remedy="Write them like A:F.")


def _nothing(mark: str) -> str:
    return "nothing: there are none" if mark in ("", NO_COMMENT) else mark
