"""The fill step: something stands where a cell is blank or without partner."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from keen_trellis.core.filling import Fill, FilledTable, FillWith, Gaps, filled_fields, without_gaps
from keen_trellis.core.table import ChosenRows, Field, Table, find_field
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.fates import Fate, How, Traced, values_said
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called, shapes_of
from keen_trellis.flow.run_values import GivenText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import fill_said, listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class FillSettings(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One way to fill. fields: their names; types: all fields of these types, but not those of `but`.

    how: value, field, before, after or leave-out.  of: the value as text, or the other field.  gaps: blank,
    no-partner or both.
    """

    fields: tuple[str, ...] = ()
    types: tuple[str, ...] = ()
    but: tuple[str, ...] = ()
    how: str = FillWith.VALUE.value
    of: GivenText = ""
    gaps: str = Gaps.BOTH.value

    def fill(self, fields: Sequence[Field]) -> Fill:
        """What is filled of these fields; FlowFileError or UsageError where that cannot be."""
        how, gaps = called(FillWith, self.how, "way to fill"), called(Gaps, self.gaps, "kind of gap")
        types = {called(FieldType, name, "type") for name in self.types}
        named = {find_field(fields, name).name for name in self.fields}
        chosen = tuple(
            field.name
            for field in fields
            if (field.name in named or (field.type in types and not field.untyped))
            and field.name not in self.but
        )
        return Fill(chosen, how, self.of, gaps)


class FillStepSettings(RailSettings, frozen=True, omit_defaults=True):
    """fills: one after the other; a later one finds the gaps that are left."""

    fills: tuple[FillSettings, ...] = ()

    @property
    def caption(self) -> str:
        names = [name for entry in self.fills for name in (*entry.fields, *entry.types)]
        return f"fill {listed(names, 1)}".strip()


class FillKind(OneInputKind[FillStepSettings]):
    """One input; the same fields and, unless some are left out, the same rows."""

    name = "fill"
    settings_type = FillStepSettings

    def fields(
        self, settings: FillStepSettings, inputs: Sequence[InputShape], port: str
    ) -> tuple[Field, ...]:
        fields = inputs[0].fields
        return filled_fields(fields, [entry.fill(fields) for entry in settings.fills])

    def compute(
        self, settings: FillStepSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        table = inputs[0].table
        fills = [entry.fill(table.fields) for entry in settings.fills]
        return StepResult({ROWS: FilledTable(table, fills, context.task)})

    def sql(
        self, settings: FillStepSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said:
        from keen_trellis.flow.in_sql.filling import said_filled

        fills = [entry.fill(inputs[0].fields) for entry in settings.fills]
        return said_filled(inputs[0], fills, self.fields(settings, shapes_of(inputs), port), target)

    def fates(
        self, settings: FillStepSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        traced = inputs[0]
        left: Table = ChosenRows(traced.table, traced.rows)
        for entry in settings.fills:
            if entry.how != FillWith.LEAVE_OUT.value:
                continue
            fill = entry.fill(left.fields)
            whole = without_gaps(left, fill)
            gone = np.setdiff1d(np.arange(left.rows), whole.chosen)
            if len(gone):
                said = f"left out, since it has a gap: {values_said(left, gone, fill.fields)}"
                yield Fate(How.DROPPED, said, len(gone))
            left = whole

    def sentence(self, settings: FillStepSettings, inputs: Sequence[InputShape]) -> str:
        said = [
            fill_said([*entry.fields, *(f"all {kind} fields" for kind in entry.types)], entry.how, entry.of)
            for entry in settings.fills
        ]
        return f"In {inputs[0].name}, {'; '.join(said) or 'nothing is filled yet'}."
