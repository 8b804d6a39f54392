"""The filter step: rows that fulfil its conditions stay."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.filtering import Comparison, Condition, check_conditions, fulfilled
from keen_trellis.core.table import ChosenRows, Field
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called, encode_settings


class ConditionSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """of: a field.  is_: how it compares, as `core.filtering` names it.  values: with what, as text.

    For “true”, `of` is an expression that must be so.
    """

    of: str
    is_: str = msgspec.field(name="is")
    values: tuple[str, ...] = ()

    @property
    def condition(self) -> Condition:
        return Condition(self.of, called(Comparison, self.is_, "comparison"), self.values)


class FilterSettings(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """conditions: all must hold, or any of them."""

    conditions: tuple[ConditionSettings, ...] = ()
    any_of: bool = False

    @property
    def caption(self) -> str:
        """The step's name as long as it has no other one."""
        first = str(self.conditions[0].condition) if self.conditions else "filter"
        return first + (" …" if len(self.conditions) > 1 else "")


class FilterKind:
    """One input; the same fields, fewer rows."""

    name = "filter"
    settings_type: type[msgspec.Struct] = FilterSettings
    input_names: tuple[str, ...] = ("rows",)
    path_settings: tuple[str, ...] = ()
    on_rail = True

    def ports(self, settings: FilterSettings) -> tuple[str, ...]:
        return (ROWS,)

    def fields(self, settings: FilterSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return inputs[0].fields

    def problems(self, settings: FilterSettings, inputs: Sequence[InputShape]) -> list[TrellisError]:
        try:
            check_conditions(_conditions(settings), inputs[0].fields)
        except TrellisError as error:
            return [error]
        return []

    def fingerprint(self, settings: FilterSettings, inputs: Sequence[InputShape]) -> object:
        return encode_settings(settings)

    def compute(self, settings: FilterSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = inputs[0].table
        stay = fulfilled(table, _conditions(settings), context.task, any_of=settings.any_of)
        return StepResult({ROWS: ChosenRows(table, np.flatnonzero(stay))})

    def sentence(self, settings: FilterSettings, inputs: Sequence[InputShape]) -> str:
        between = " or " if settings.any_of else " and "
        said = between.join(str(entry) for entry in _conditions(settings))
        return f"Keep the rows of {inputs[0].name} in which {said or 'nothing is asked yet'}."


def _conditions(settings: FilterSettings) -> list[Condition]:
    return [entry.condition for entry in settings.conditions]
