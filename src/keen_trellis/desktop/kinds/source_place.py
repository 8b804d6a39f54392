"""Where a source is read from, in its sentence: which table or query, which files of a folder."""

from __future__ import annotations

from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.marks import hue_of
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.source_settings import (
    EVERY_FILE,
    NEWEST_FILE,
    Layout,
    SourceSettings,
)
from keen_trellis.sources.queries import checked_query
from keen_trellis.sources.readers import uses_of
from keen_trellis.sources.reading import GATHERING, QUERY


class SourcePlace(SentencePart):
    """The part of the sentence that names the table, and the files that are read as one."""

    def table(self, step: Step, settings: SourceSettings) -> list[Item]:
        if uses_of(settings) >= QUERY:
            return self._database_items(step, settings)
        if settings.table:
            return [*self._table_chip(step, settings), Word("of"), *self._file(step, settings)]
        return self._file(step, settings)

    def _file(self, step: Step, settings: SourceSettings) -> list[Item]:
        def ask(anchor: QWidget) -> None:
            self.pane.elsewhere_wanted.emit(step.id, anchor)

        return [Chip(settings.file_name, ask, "Place"), Word(f"as {step.name}")]

    def _table_chip(self, step: Step, settings: SourceSettings) -> list[Item]:
        state = self.session.margin.files.get(settings.path)
        tables = state.content.tables if state and state.content else ()
        hue = hue_of(self.session.flow, step.id)
        sort = next((entry.sort for entry in tables if entry.name == settings.table), "table")

        def choose(anchor: QWidget) -> None:
            choices = [
                Choice(entry.name, entry.name, f"{entry.sort}{', hidden' if entry.hidden else ''}")
                for entry in tables
            ]
            self.choose(
                anchor, choices, change, current=settings.table, title=f"Table of {settings.file_name}"
            )

        def change(table: str) -> None:
            self.change(
                step, f"Read {table} instead of {settings.table}", table=table, layout=Layout(), query=""
            )

        return [Word(sort), Chip(settings.table, choose, "Table", hue=hue)]

    def _database_items(self, step: Step, settings: SourceSettings) -> list[Item]:
        def ask(anchor: QWidget) -> None:
            text = settings.query or f"SELECT *\nFROM {settings.table or 'table'}"
            self.ask(
                anchor,
                "Read the rows of this query: one SELECT",
                text,
                lambda query: self.change(step, "Read a query", query=query.strip()),
                check=lambda query: checked_query(query, settings.path),
                several_lines=True,
            )

        where = [Word("of"), *self._file(step, settings)]
        if settings.query:

            def back(_: QWidget) -> None:
                self.change(step, f"Read {settings.table} again", query="")

            items: list[Item] = [Chip(" ".join(settings.query.split()), ask, "Query"), *where]
            if settings.table:
                items.append(Chip(f"read {settings.table} again", back, "No query", doing=True))
            return items
        return [*self._table_chip(step, settings), *where, Chip("by a query …", ask, "Query")]

    def gathering(self, step: Step, settings: SourceSettings) -> list[Item]:
        if not uses_of(settings) >= GATHERING:
            return []
        gathering = settings.gathering

        def change(said: str, **changes: Any) -> None:
            self.change(step, said, gathering=msgspec.structs.replace(gathering, **changes))

        def which(anchor: QWidget) -> None:
            choices = [
                Choice(EVERY_FILE, "every file", "as one table"),
                Choice(NEWEST_FILE, "only the newest file", "by when it was changed"),
            ]
            texts = {EVERY_FILE: "Read every file", NEWEST_FILE: "Read only the newest file"}
            self.choose(anchor, choices, lambda key: change(texts[key], which=key), current=gathering.which)

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
