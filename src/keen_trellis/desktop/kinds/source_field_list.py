"""The fields of a source in its sentence: their types and names, and which are left out."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import UsageError
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip
from keen_trellis.flow.graph import Step
from keen_trellis.flow.source_settings import (
    FieldSettings,
    SourceSettings,
)
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.wording import counted
from keen_trellis.session import source_fields
from keen_trellis.sources.shaping import conversion


class SourceFields(SentencePart):
    """The part of the sentence that counts the fields, with what can be changed of each."""

    def chip(self, step: Step, settings: SourceSettings, count: int) -> Chip:
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
            self.choose(anchor, choices, lambda name: self.choose_field(step, name), title=title)

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
            others = [Choice("rename", "rename …", name), Choice("out", "leave it out", "")]
            if entry != FieldSettings(entry.name):
                others.append(Choice("found", "as detected", "no longer set by hand"))
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

            self.ask(self.pane.view, f"Another name for {name}", name, rename, check=_check_name)


def _check_name(text: str) -> None:
    """UsageError unless the text can name a field."""
    if not text.strip():
        raise UsageError("A field needs a name.")


def _field_detail(kind: FieldType, entry: FieldSettings | None) -> str:
    said = [kind.value]
    if entry is not None and entry.type:
        said.append("set by hand")
    if entry is not None and entry.rename:
        said.append(f"{entry.name} in the source")
    if entry is not None and entry.correct:
        said.append(f"{counted(len(entry.correct), 'values')} corrected")
    return ", ".join(said)


def _type_detail(kind: FieldType, have: FieldType, lost: dict[FieldType, str]) -> str:
    return "as it is now" if kind is have else lost.get(kind, "…")
