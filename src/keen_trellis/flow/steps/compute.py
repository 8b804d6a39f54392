"""The compute step: a field more, made by an expression."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.computing import computed, computed_fields
from keen_trellis.core.table import Field
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, shapes_of
from keen_trellis.flow.run_values import ExpressionText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class ComputeSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """field: the name of the new field.  expression: what makes it."""

    field: str
    expression: ExpressionText

    @property
    def caption(self) -> str:
        return f"compute {self.field}"


class ComputeKind(OneInputKind[ComputeSettings]):
    """One input; the same rows, one field more."""

    name = "compute"
    settings_type = ComputeSettings

    def fields(self, settings: ComputeSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return computed_fields(inputs[0].fields, settings.field, settings.expression)

    def compute(self, settings: ComputeSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = computed(inputs[0].table, settings.field, settings.expression, context.task)
        return StepResult({ROWS: table})

    def sql(self, settings: ComputeSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.fields import said_computed

        made = self.fields(settings, shapes_of(inputs), port)
        return said_computed(inputs[0], made, settings.field, settings.expression, target)

    def sentence(self, settings: ComputeSettings, inputs: Sequence[InputShape]) -> str:
        return f"In {inputs[0].name}, compute {settings.field} as {settings.expression}."
