"""The filter step: rows that fulfil its conditions stay."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from keen_trellis.core.day import today
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.filtering import Comparison, Condition, check_conditions, fulfilled
from keen_trellis.core.table import ChosenRows
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import Fate, Traced, of_conditions
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called
from keen_trellis.flow.run_values import ExpressionText, GivenText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class ConditionSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """of: a field.  is_: how it compares, as `core.filtering` names it.  values: with what, as text.

    For “true”, `of` is an expression that must be so.
    """

    of: ExpressionText
    is_: str = msgspec.field(name="is")
    values: tuple[GivenText, ...] = ()

    @property
    def condition(self) -> Condition:
        return Condition(self.of, called(Comparison, self.is_, "comparison"), self.values)


class FilterSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """conditions: all must hold, or any of them."""

    conditions: tuple[ConditionSettings, ...] = ()
    any_of: bool = False

    @property
    def caption(self) -> str:
        more = " …" if len(self.conditions) > 1 else ""
        with suppress(TrellisError):  # of a comparison that this version does not know
            return f"{self.conditions[0].condition}{more}" if self.conditions else "filter"
        return "filter"


class FilterKind(OneInputKind[FilterSettings]):
    """One input; the same fields, fewer rows."""

    name = "filter"
    settings_type = FilterSettings

    def check(self, settings: FilterSettings, inputs: Sequence[InputShape]) -> None:
        check_conditions(_conditions(settings), inputs[0].fields)

    def fingerprint(self, settings: FilterSettings, inputs: Sequence[InputShape]) -> object:
        return super().fingerprint(settings, inputs), day_of_conditions(_conditions(settings))

    def compute(self, settings: FilterSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = inputs[0].table
        stay = fulfilled(table, _conditions(settings), context.task, any_of=settings.any_of)
        return StepResult({ROWS: ChosenRows(table, np.flatnonzero(stay))})

    def sql(self, settings: FilterSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.conditions import said_conditions
        from keen_trellis.flow.in_sql.rows import kept

        holds = said_conditions(inputs[0], _conditions(settings), target, any_of=settings.any_of)
        return kept(inputs[0], holds)

    def fates(
        self, settings: FilterSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        yield from of_conditions(inputs[0], _conditions(settings), task, any_of=settings.any_of)

    def sentence(self, settings: FilterSettings, inputs: Sequence[InputShape]) -> str:
        between = " or " if settings.any_of else " and "
        said = between.join(str(entry) for entry in _conditions(settings))
        return f"Keep the rows of {inputs[0].name} in which {said or 'nothing is asked yet'}."


def day_of_conditions(conditions: Sequence[Condition]) -> str:
    """Today, where a period is told from it; "" otherwise."""
    return str(today()) if any(entry.how is Comparison.PERIOD for entry in conditions) else ""


def _conditions(settings: FilterSettings) -> list[Condition]:
    return [entry.condition for entry in settings.conditions]
