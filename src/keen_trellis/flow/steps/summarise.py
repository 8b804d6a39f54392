"""The summarise step: rows of equal keys become one row, with measures of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.summarising import Key, SummaryTable, summary_fields
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import Fate, Traced, of_groups
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called, shapes_of
from keen_trellis.flow.run_values import ExpressionText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


def measure_name(function: Function, of: str) -> str:
    """What a measure is called unless it is given a name."""
    return f"{function.value.replace('-', ' ')} of {of}" if of else "rows"


class MeasureSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """function: sum, mean, least, greatest, median, count, count-distinct, first, last or listing.  of: a
    field or expression, "" for a count of rows.
    """

    name: str
    function: str
    of: ExpressionText = ""

    @property
    def is_named(self) -> bool:
        """Whether it has another name than what it measures gives it."""
        return self.name != measure_name(called(Function, self.function, "measure"), self.of)

    @property
    def measure(self) -> Measure:
        return Measure(called(Function, self.function, "measure"), self.of, self.name)


class SummariseSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """keys: fields or expressions, rows with the same of which become one."""

    keys: tuple[ExpressionText, ...] = ()
    measures: tuple[MeasureSettings, ...] = ()

    @property
    def caption(self) -> str:
        return f"by {listed(list(self.keys), 2)}" if self.keys else "all in one"


class SummariseKind(OneInputKind[SummariseSettings]):
    """One input, one row a group."""

    name = "summarise"
    settings_type = SummariseSettings

    names_rail = True

    def rows_called(
        self, step_name: str, port: str, settings: SummariseSettings, inputs: Sequence[InputShape]
    ) -> str:
        """Groups are other rows than those before: Loans by Venue, or as the step is called."""
        return f"{inputs[0].name} {step_name}" if step_name.startswith(settings.caption) else step_name

    def fields(
        self, settings: SummariseSettings, inputs: Sequence[InputShape], port: str
    ) -> tuple[Field, ...]:
        return summary_fields(inputs[0].fields, _keys(settings), _measures(settings))

    def compute(
        self, settings: SummariseSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        table = SummaryTable(inputs[0].table, _keys(settings), _measures(settings), context.task)
        return StepResult({ROWS: table})

    def sql(
        self, settings: SummariseSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said:
        from keen_trellis.flow.in_sql.summaries import said_summary

        made = self.fields(settings, shapes_of(inputs), port)
        return said_summary(inputs[0], _keys(settings), _measures(settings), made, target)

    def fates(
        self, settings: SummariseSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        keys = [name for name in result.rows.names if name not in {entry.name for entry in settings.measures}]
        yield from of_groups(inputs[0], result.rows, keys)

    def sentence(self, settings: SummariseSettings, inputs: Sequence[InputShape]) -> str:
        keys = ", ".join(settings.keys) or "all rows"
        measures = ", ".join(
            f"{entry.name} ({entry.function} of {entry.of or 'rows'})" for entry in settings.measures
        )
        return f"Summarise {inputs[0].name} by {keys}: {measures or 'nothing yet'}."


def _keys(settings: SummariseSettings) -> list[Key]:
    return [Key(text) for text in settings.keys]


def _measures(settings: SummariseSettings) -> list[Measure]:
    return [entry.measure for entry in settings.measures]
