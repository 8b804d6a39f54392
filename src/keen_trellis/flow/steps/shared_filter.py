"""The tie of a shared filter to a rail: rows in which the bound field fulfils the flow's filter stay."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from keen_trellis.core.errors import UsageError
from keen_trellis.core.filtering import Comparison, Condition, check_conditions, fulfilled
from keen_trellis.core.table import ChosenRows, find_field
from keen_trellis.core.task import Task
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.fates import Fate, Traced, of_conditions
from keen_trellis.flow.graph import ROWS, Flow, SharedFilter, Step
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called
from keen_trellis.flow.run_values import bound_filter
from keen_trellis.flow.steps.filter import day_of_conditions
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class TieSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """filter: the id of the shared filter.  of: the field that it is bound by on this rail.

    shared: the filter itself, put in when the flow is run; never in a file.
    """

    filter: str
    of: str
    shared: SharedFilter | None = None

    @property
    def caption(self) -> str:
        return f"by {self.of}"


class SharedFilterKind(OneInputKind[TieSettings]):
    """One input; the same fields, the rows that the shared filter lets through."""

    name = "shared-filter"
    settings_type = TieSettings

    def settled(self, settings: TieSettings, flow: Flow, step: str) -> TieSettings:
        shared = bound_filter(flow.shared_filter(settings.filter), flow.values)
        return msgspec.structs.replace(settings, shared=shared)

    def check(self, settings: TieSettings, inputs: Sequence[InputShape]) -> None:
        find_field(inputs[0].fields, settings.of, inputs[0].name)
        check_conditions(conditions_of(settings), inputs[0].fields)

    def fingerprint(self, settings: TieSettings, inputs: Sequence[InputShape]) -> object:
        conditions = conditions_of(settings)
        return settings.of, repr(conditions), day_of_conditions(conditions)

    def compute(self, settings: TieSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table, conditions = inputs[0].table, conditions_of(settings)
        if not conditions:
            return StepResult({ROWS: table})
        return StepResult(
            {ROWS: ChosenRows(table, np.flatnonzero(fulfilled(table, conditions, context.task)))}
        )

    def sql(self, settings: TieSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.conditions import said_conditions
        from keen_trellis.flow.in_sql.rows import kept

        return kept(inputs[0], said_conditions(inputs[0], conditions_of(settings), target, any_of=False))

    def fates(
        self, settings: TieSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        yield from of_conditions(inputs[0], conditions_of(settings), task)

    def sentence(self, settings: TieSettings, inputs: Sequence[InputShape]) -> str:
        said = " and ".join(str(entry) for entry in conditions_of(settings)) or "any value"
        return f"Keep the rows of {inputs[0].name} in which {said}."


def conditions_of(settings: TieSettings) -> list[Condition]:
    """What the rows must fulfil; nothing where no value is chosen. UsageError without a filter."""
    shared = settings.shared
    if shared is None:
        raise UsageError(
            "The shared filter that it is tied to is gone.", remedy="Undo its removal, or remove the tie."
        )
    how = called(Comparison, shared.is_, "comparison")
    if not shared.values and how not in (Comparison.FILLED, Comparison.BLANK):
        return []
    return [Condition(settings.of, how, shared.values)]


def tie_of(step: Step) -> str:
    """The id of the shared filter that a step ties to its rail, "" if it is no tie."""
    if step.kind != SharedFilterKind.name:
        return ""
    try:
        filter_id: str = decoded(step.settings, TieSettings).filter
    except msgspec.DecodeError:
        return ""  # the step itself says that its settings are wrong
    return filter_id
