"""How an output is written, in its sentence: which fields, and what its cells look like."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.choosing import chosen_fields
from keen_trellis.desktop.kinds.output_part import OutputPart
from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.choose import ChosenSettings
from keen_trellis.flow.steps.output import OutputSettings, check_settings
from keen_trellis.flow.wording import listed

_ENCODINGS = {
    "utf-8": "UTF-8",
    "utf-8-sig": "UTF-8 with a mark at its beginning",
    "utf-16": "UTF-16",
    "windows-1252": "one byte a sign, of western Europe",
    "iso8859-15": "one byte a sign, of western Europe, with the euro",
    "windows-1250": "one byte a sign, of central Europe",
}
_DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tabulator", "|": "bar"}
_QUOTATIONS = {"needed": "where it is needed", "text": "around all text", "all": "around every cell"}
_DATES = ("yyyy-mm-dd", "dd.mm.yyyy", "dd/mm/yyyy", "mm/dd/yyyy", "yyyymmdd")
_LINE_ENDS = {"crlf": "CR LF", "lf": "LF"}
_DECIMALS = {".": "a point", ",": "a comma"}
_HARMLESS = {True: "made harmless", False: "as it is"}
_RENAME = object()


class OutputForm(OutputPart):
    """The part of the sentence about fields and cells."""

    def fields(self, step: Step, settings: OutputSettings, shape: InputShape | None) -> list[Item]:
        if shape is None:
            return []
        total = len(shape.fields)
        text = "all fields" if not settings.fields else f"{len(settings.fields)} of {total} fields"
        return [
            Word(","),
            Chip(text, lambda anchor: self._choose_fields(step, settings, shape, anchor), "Fields"),
        ]

    def _choose_fields(
        self, step: Step, settings: OutputSettings, shape: InputShape, anchor: QWidget
    ) -> None:
        kept = {entry.of: entry for entry in settings.fields}
        names = [field.name for field in shape.fields]
        every = kept or {name: ChosenSettings(name) for name in names}
        ordered = [*(name for name in every if name in names), *(name for name in names if name not in every)]
        choices = [
            Choice(
                name,
                f"{name} as {every[name].name}" if name in every and every[name].name else name,
                ticked=name in every,
            )
            for name in ordered
        ]
        choices.append(Choice(_RENAME, "write one under another name …", ticked=False))

        def apply(ticked: list[Any]) -> None:
            chosen = [name for name in ticked if name is not _RENAME]
            fields = tuple(every.get(name) or ChosenSettings(name) for name in chosen)
            plain = chosen == names and not any(entry.name for entry in fields)
            self.change(step, f"Write {listed(chosen)}", fields=() if plain else fields)
            if _RENAME in ticked:
                self._rename(step, fields, shape)

        self.tick(anchor, choices, apply, title="Fields that are written, in this order")

    def _rename(self, step: Step, fields: tuple[ChosenSettings, ...], shape: InputShape) -> None:
        choices = [Choice(entry.of, entry.of, f"as {entry.name}" if entry.name else "") for entry in fields]

        def renamed(of: str) -> None:
            now = next(entry for entry in fields if entry.of == of)

            def with_name(text: str) -> tuple[ChosenSettings, ...]:
                name = text.strip() if text.strip() != of else ""
                return tuple(
                    msgspec.structs.replace(entry, name=name) if entry.of == of else entry for entry in fields
                )

            self.ask(
                self.pane.view,
                f"What is {of} called where it is written?",
                now.name or of,
                lambda text: self.change(step, f"Write {of} as {text.strip()}", fields=with_name(text)),
                check=lambda text: chosen_fields(shape.fields, [entry.chosen for entry in with_name(text)]),
            )

        self.choose(self.pane.view, choices, renamed, title="Write which field under another name?")

    def split(self, step: Step, settings: OutputSettings, shape: InputShape | None) -> list[Item]:
        """Whether one file is written, or one for each value of a field."""
        if "split_by" not in settings.target.uses or not (settings.is_whole or settings.split_by):
            return []
        names = self.written_names(settings, shape)
        choices = [Choice("", "one file"), *(Choice(name, f"a file for each {name}") for name in names)]
        text = f"a file for each {settings.split_by}" if settings.split_by else "one file"

        def said(name: str) -> str:
            return f"Write a file for each {name}" if name else "Write one file"

        return [
            Word(","),
            Chip(text, lambda anchor: self.offer(step, anchor, "split_by", choices, said), "Files"),
        ]

    # --- what cells look like ---

    def form(self, step: Step, settings: OutputSettings) -> list[Item]:
        known = self._known(settings)
        if not known:
            return []
        return [
            Word(","),
            Chip(_summed_up(settings), lambda anchor: self._choose_form(step, settings, anchor), "Form"),
        ]

    def _known(self, settings: OutputSettings) -> dict[str, tuple[str, str]]:
        """What can be set for the target, each with its name and what it is now."""
        words = {True: "yes", False: "no"}
        every = {
            "delimiter": ("Between cells", _DELIMITERS.get(settings.delimiter, settings.delimiter)),
            "quotation": ("Quotation marks", _QUOTATIONS.get(settings.quotation, settings.quotation)),
            "encoding": ("Encoding", settings.encoding),
            "decimal": ("Decimal sign", _DECIMALS.get(settings.decimal, settings.decimal)),
            "dates": ("Dates", settings.dates),
            "line_end": ("Ends of lines", _LINE_ENDS.get(settings.line_end, settings.line_end)),
            "blank": ("A blank is written as", settings.blank or "nothing"),
            "no_partner": ("No partner is written as", settings.no_partner or "nothing"),
            "harmless": ("Text that looks like a formula", _HARMLESS[settings.harmless]),
            "as_table": ("A table with a filter", words[settings.as_table]),
            "totals": ("A row of totals", words[settings.totals]),
            "described": ("Say what the fields are", words[settings.described]),
            "index": ("Index of a table that is made", ", ".join(settings.index) or "none"),
        }
        return {
            name: said
            for name, said in every.items()
            if name in settings.target.uses and (settings.is_whole or name not in ("as_table", "totals"))
        }

    def _choose_form(self, step: Step, settings: OutputSettings, anchor: QWidget) -> None:
        choices = [Choice(name, *said) for name, said in self._known(settings).items()]
        self.choose(
            anchor,
            choices,
            lambda name: self._change_form(step, settings, name, anchor),
            title=f"How {settings.file_name} is written",
        )

    def _change_form(self, step: Step, settings: OutputSettings, name: str, anchor: QWidget) -> None:
        said = self._known(settings)[name][0]
        lists: dict[str, dict[Any, str]] = {
            "delimiter": _DELIMITERS,
            "quotation": _QUOTATIONS,
            "encoding": _ENCODINGS,
            "decimal": _DECIMALS,
            "dates": dict.fromkeys(_DATES, ""),
            "line_end": _LINE_ENDS,
            "harmless": _HARMLESS,
        }
        if isinstance(getattr(settings, name), bool) and name != "harmless":
            now = not getattr(settings, name)
            self.change(step, f"{said}: {'yes' if now else 'no'}", **{name: now})
        elif name in lists:
            values = lists[name]
            choices = [
                Choice(
                    value,
                    value if name in ("encoding", "dates") else text,
                    text if name == "encoding" else "",
                )
                for value, text in values.items()
            ]
            self.choose(
                anchor,
                choices,
                lambda value: self._set(step, settings, name, value, said),
                current=getattr(settings, name),
                title=said,
            )
        else:
            shown = getattr(settings, name)
            text = ", ".join(shown) if isinstance(shown, tuple) else shown
            self.ask(
                anchor,
                said,
                text,
                lambda typed: self._set(step, settings, name, _read(name, typed), said),
                check=self._checked(settings, name),
            )

    def _set(self, step: Step, settings: OutputSettings, name: str, value: Any, said: str) -> None:
        more: dict[str, Any] = {}
        if name == "decimal" and value == "," == settings.delimiter:
            more = {"delimiter": ";"}  # what people do who write a comma within numbers
        elif name == "delimiter" and value == "," == settings.decimal:
            more = {"decimal": "."}
        self.change(step, f"{said}: {_DELIMITERS.get(value, value)}", **{name: value, **more})

    @staticmethod
    def _checked(settings: OutputSettings, name: str) -> Callable[[str], None]:
        return lambda typed: check_settings(msgspec.structs.replace(settings, **{name: _read(name, typed)}))


def _read(name: str, typed: str) -> Any:
    """What was typed as a value of a setting."""
    if name == "index":
        return tuple(part.strip() for part in typed.split(",") if part.strip())
    return typed.strip()


def _summed_up(settings: OutputSettings) -> str:
    """How it is written, in a few words."""
    said = []
    if settings.target.is_text:
        said.append(f"{_DELIMITERS.get(settings.delimiter, settings.delimiter)}s, {settings.encoding}")
        if settings.decimal != ".":
            said.append("decimal comma")
        said.append("formulas " + _HARMLESS[settings.harmless])
    if settings.as_table:
        said.append("as a table")
    if settings.totals:
        said.append("with totals")
    if settings.described:
        said.append("with its fields described")
    if settings.no_partner:
        said.append(f"no partner as {settings.no_partner}")
    if "index" in settings.target.uses:
        said.append(f"an index by {', '.join(settings.index)}" if settings.index else "no index")
    return ", ".join(said) or "written plainly"
