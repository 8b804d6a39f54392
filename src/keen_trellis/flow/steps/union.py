"""The union step: the rows of several rails, one below the other."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.stacking import StackedField, StackedTable, plan_stack
from keen_trellis.core.table import Field
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import (
    Context,
    InputRows,
    InputShape,
    Standing,
    StepKind,
    StepResult,
    encode_settings,
    shapes_of,
)

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import SqlRows, Stacked
    from keen_trellis.flow.in_sql.target import SqlTarget


class UnionSettings(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """by_position: fields are lined up as they stand, not by name.  mixed_as_text: what has no common type
    becomes text.  rail_field: the name of a field that says from which rail a row is, "" for none.
    """

    by_position: bool = False
    mixed_as_text: bool = False
    rail_field: str = ""


class UnionKind(StepKind[UnionSettings]):
    """Two inputs or more; all of their rows."""

    name = "union"
    settings_type = UnionSettings
    input_names = ("first", "second")
    more_inputs = True
    standing = Standing.KNOT

    def plan(self, settings: UnionSettings, inputs: Sequence[InputShape]) -> tuple[StackedField, ...]:
        """The fields, and of which ones each is made."""
        return plan_stack(
            [entry.fields for entry in inputs],
            by_position=settings.by_position,
            mixed_as_text=settings.mixed_as_text,
            rail_field=settings.rail_field,
        )

    def fields(self, settings: UnionSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        rail = (Field(settings.rail_field, ARROW_TYPES[FieldType.TEXT]),) if settings.rail_field else ()
        return (*(entry.field for entry in self.plan(settings, inputs)), *rail)

    def fingerprint(self, settings: UnionSettings, inputs: Sequence[InputShape]) -> object:
        return encode_settings(settings), [entry.name for entry in inputs] if settings.rail_field else []

    def compute(self, settings: UnionSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        shapes = [InputShape(entry.name, entry.table.fields) for entry in inputs]
        tables, names = [entry.table for entry in inputs], [entry.name for entry in inputs]
        plan = self.plan(settings, shapes)
        return StepResult({ROWS: StackedTable(tables, plan, rail_field=settings.rail_field, names=names)})

    def sql(
        self, settings: UnionSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Stacked:
        from keen_trellis.flow.in_sql.fields import said_union

        plan = self.plan(settings, shapes_of(inputs))
        return said_union(inputs, plan, settings.rail_field, target)

    def sentence(self, settings: UnionSettings, inputs: Sequence[InputShape]) -> str:
        how = "by position" if settings.by_position else "by name"
        return f"All rows of {', then of '.join(entry.name for entry in inputs)}, fields {how}."
