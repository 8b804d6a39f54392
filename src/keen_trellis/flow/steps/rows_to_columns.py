"""The rows-to-columns step: one row a group, with a field for each of some values of another field."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.insight.reason import rows_said
from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.pivoting import PivotedTable, pivoted_fields
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import Fate, How, Traced, of_groups
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, Figures, InputRows, InputShape, StepResult, called, shapes_of
from keen_trellis.flow.run_values import ExpressionText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.steps.summarise import measure_name
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class RowsToColumnsSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """of: the field whose values become columns.  columns: these values, as they are written, in order.

    keys: fields or expressions, rows with the same of which become one.  function: of a measure.  value: what
    it is made of, "" for a count of rows.
    """

    of: ExpressionText = ""
    columns: tuple[str, ...] = ()
    keys: tuple[ExpressionText, ...] = ()
    function: str = "count"
    value: ExpressionText = ""

    @property
    def caption(self) -> str:
        return f"{self.of} to columns" if self.of else "rows to columns"

    @property
    def groups(self) -> list[Key]:
        return [Key(text) for text in self.keys]

    @property
    def measure(self) -> Measure:
        kind = called(Function, self.function, "measure")
        return Measure(kind, self.value, measure_name(kind, self.value))


class RowsToColumnsKind(OneInputKind[RowsToColumnsSettings]):
    """One input; one row a group, the values of one field side by side."""

    name = "rows-to-columns"
    settings_type = RowsToColumnsSettings

    def fields(
        self, settings: RowsToColumnsSettings, inputs: Sequence[InputShape], port: str
    ) -> tuple[Field, ...]:
        if not settings.of:
            return inputs[0].fields
        return pivoted_fields(
            inputs[0].fields, settings.groups, settings.of, settings.columns, settings.measure
        )

    def compute(
        self, settings: RowsToColumnsSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        table = inputs[0].table
        if not settings.of:
            return StepResult({ROWS: table})
        made = PivotedTable(
            table, settings.groups, settings.of, settings.columns, settings.measure, context.task
        )
        return StepResult({ROWS: made}, no_column=made.counts)

    def sql(
        self, settings: RowsToColumnsSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said:
        from keen_trellis.flow.in_sql.pivots import said_pivot
        from keen_trellis.flow.in_sql.rows import kept

        (rows,) = inputs
        if not settings.of:
            return kept(rows)
        made = self.fields(settings, shapes_of(inputs), port)
        return said_pivot(
            rows, settings.groups, settings.of, settings.columns, settings.measure, made, target
        )

    def doubts(
        self, settings: RowsToColumnsSettings, figures: Figures, inputs: Sequence[InputShape]
    ) -> Iterator[tuple[str, str]]:
        if figures.no_column:
            yield "no column", f"{without_column(settings.of, figures)}."

    def fates(
        self, settings: RowsToColumnsSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        traced, made = inputs[0], result.rows
        if not isinstance(made, PivotedTable):
            return
        elsewhere = set(traced.rows.tolist()) & set(made.elsewhere.tolist())
        if elsewhere:
            said = f"dropped, since its {settings.of} has no column"
            yield Fate(How.DROPPED, said, len(elsewhere))
        if len(elsewhere) < len(traced.rows):
            yield from of_groups(traced, made, list(settings.keys))

    def sentence(self, settings: RowsToColumnsSettings, inputs: Sequence[InputShape]) -> str:
        name = inputs[0].name
        if not settings.of:
            return f"Of {name}, no values become columns."
        row = f"one row for each {' and '.join(settings.keys)}" if settings.keys else "one row"
        columns = f"a column for each of {listed(list(settings.columns))} of {settings.of}"
        return f"Of {name}, make {row}, with {columns}: the {settings.measure.name}."


def without_column(of: str, figures: Figures) -> str:
    """How many rows have a value without a column, and which ones most."""
    told = [f"{value or 'blank'} {count:,}" for value, count in figures.no_column.items()]
    count = sum(figures.no_column.values())
    return f"{rows_said(count)} {'has' if count == 1 else 'have'} no column for {of}: {', '.join(told)}"
