"""The choose step: which fields stay, what they are called, in which order and of which type."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.choosing import Chosen, chosen_fields, with_fields
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, Figures, InputRows, InputShape, StepResult, called
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class ChosenSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """of: a field.  name: what it is called from here on.  type: what it becomes, as SQL has it."""

    of: str
    name: str = ""
    type: str = ""

    @property
    def chosen(self) -> Chosen:
        return Chosen(self.of, self.name, called(FieldType, self.type, "type") if self.type else None)


class ChooseSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """fields: those that stay, in order.  others: all others follow, also later ones, but not those
    that are dropped.
    """

    fields: tuple[ChosenSettings, ...] = ()
    others: bool = True
    dropped: tuple[str, ...] = ()

    @property
    def caption(self) -> str:
        renamed = [entry.name for entry in self.fields if entry.name]
        if renamed:
            return f"rename {listed(renamed, 1)}"
        if self.dropped:
            return f"without {listed(list(self.dropped), 1)}"
        return f"keep {listed([entry.of for entry in self.fields], 1)}" if self.fields else "choose fields"


class ChooseKind(OneInputKind[ChooseSettings]):
    """One input; the same rows, other fields."""

    name = "choose"
    settings_type = ChooseSettings

    def fields(self, settings: ChooseSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return tuple(field for field, _ in _plan(settings, inputs[0].fields))

    def doubts(
        self, settings: ChooseSettings, figures: Figures, inputs: Sequence[InputShape]
    ) -> Iterator[tuple[str, str]]:
        if figures.lost:
            lost = ", ".join(f"{count:,} of {name}" for name, count in figures.lost.items())
            yield "lost", f"What could not be converted is blank: {lost}."

    def compute(self, settings: ChooseSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = inputs[0].table
        return StepResult({ROWS: with_fields(table, _plan(settings, table.fields), context.task)})

    def sql(self, settings: ChooseSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.fields import said_chosen

        return said_chosen(inputs[0], _plan(settings, inputs[0].fields), target)

    def sentence(self, settings: ChooseSettings, inputs: Sequence[InputShape]) -> str:
        names = [entry.name or entry.of for entry in settings.fields]
        rest = " and all others" if settings.others else ""
        without = (
            f", without {listed(list(settings.dropped))}" if settings.others and settings.dropped else ""
        )
        return f"Of {inputs[0].name}, keep {listed(names) or 'its fields'}{rest}{without}."


def _plan(settings: ChooseSettings, fields: Sequence[Field]) -> tuple[tuple[Field, Chosen], ...]:
    chosen = [entry.chosen for entry in settings.fields]
    return chosen_fields(fields, chosen, others=settings.others, dropped=settings.dropped)
