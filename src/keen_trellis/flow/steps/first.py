"""The first step: so many rows stay, those that come first in an order, of all rows or of each group."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.first_rows import check_first, first_rows
from keen_trellis.core.sorting import SortKey
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import ChosenRows
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import Fate, How, Traced
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult
from keen_trellis.flow.run_values import ExpressionText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.steps.sort import SortKeySettings, order_said
from keen_trellis.flow.wording import counted, listed, rows_called

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class FirstSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """count: how many rows stay.  by: in which order they come first; none is the order that they stand in.

    each: fields or expressions; so many rows stay of each of their values.  with_ties: rows that are equal to
    the last one that stays, in all of `by`, stay too.
    """

    count: int = 10
    by: tuple[SortKeySettings, ...] = ()
    each: tuple[ExpressionText, ...] = ()
    with_ties: bool = False

    @property
    def caption(self) -> str:
        each = f" of each {listed(list(self.each), 2)}" if self.each else ""
        return f"first {self.count:,}{each}"

    @property
    def order(self) -> list[SortKey]:
        return [entry.key for entry in self.by]

    @property
    def groups(self) -> list[Key]:
        return [Key(text) for text in self.each]


class FirstKind(OneInputKind[FirstSettings]):
    """One input; the same fields, fewer rows, in the order in which they come first."""

    name = "first"
    settings_type = FirstSettings

    def check(self, settings: FirstSettings, inputs: Sequence[InputShape]) -> None:
        fields = inputs[0].fields
        check_first(settings.count, settings.order, settings.groups, fields, with_ties=settings.with_ties)

    def compute(self, settings: FirstSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = inputs[0].table
        rows = first_rows(
            table,
            settings.count,
            settings.order,
            settings.groups,
            context.task,
            with_ties=settings.with_ties,
        )
        return StepResult({ROWS: ChosenRows(table, rows)})

    def sql(self, settings: FirstSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.ordering import said_first

        return said_first(
            inputs[0], settings.count, settings.order, settings.groups, target, with_ties=settings.with_ties
        )

    def fates(
        self, settings: FirstSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        gone = inputs[0].not_among(result.rows)
        if len(gone):
            each = f" of its {' and '.join(settings.each)}" if settings.each else ""
            yield Fate(
                How.DROPPED, f"dropped, since it is not among the first {settings.count:,}{each}", len(gone)
            )

    def sentence(self, settings: FirstSettings, inputs: Sequence[InputShape]) -> str:
        name = inputs[0].name
        each = f" of each {' and '.join(settings.each)}" if settings.each else ""
        stands = f", in the order of the {rows_called(name)[1]}"
        by = f" by {order_said(settings.by)}" if settings.by else stands
        ties = "; those that are equal to the last one stay too" if settings.with_ties else ""
        return f"Keep the first {counted(settings.count, name)}{each}{by}{ties}."
