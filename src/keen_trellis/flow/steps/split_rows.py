"""The split-rows step: each part of a text becomes a row of its own."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.splitting import fields_of_parts, rows_of_parts
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import Fate, How, Traced
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, shapes_of
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import rows_called

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class SplitRowsSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """of: a text.  between: what divides it.  number: a field that numbers a row's parts; "" for none."""

    of: str
    between: str
    number: str = ""

    @property
    def caption(self) -> str:
        return f"a row for each of {self.of}"


class SplitRowsKind(OneInputKind[SplitRowsSettings]):
    """One input; each row as often as a text of it has parts, with one of them in each."""

    name = "split-rows"
    settings_type = SplitRowsSettings

    def fields(
        self, settings: SplitRowsSettings, inputs: Sequence[InputShape], port: str
    ) -> tuple[Field, ...]:
        return fields_of_parts(inputs[0].fields, settings.of, settings.between, settings.number)

    def compute(
        self, settings: SplitRowsSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        table = inputs[0].table
        made = rows_of_parts(table, settings.of, settings.between, settings.number, context.task)
        return StepResult({ROWS: made})

    def sql(
        self, settings: SplitRowsSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said:
        from keen_trellis.flow.in_sql.parts import said_parts

        made = self.fields(settings, shapes_of(inputs), port)
        return said_parts(inputs[0], settings.of, settings.between, settings.number, made, target)

    def fates(
        self, settings: SplitRowsSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        traced = inputs[0]
        if len(traced.after) > len(traced.rows):
            said = f"became {len(traced.after):,} rows, one for each part of {settings.of}"
            yield Fate(How.MULTIPLIED, said, len(traced.rows))

    def sentence(self, settings: SplitRowsSettings, inputs: Sequence[InputShape]) -> str:
        name = inputs[0].name
        numbered = f", numbered in {settings.number}" if settings.number else ""
        each = f"one {rows_called(name)[0]} for each part of {settings.of}"
        return f"Of {name}, make {each}, divided at “{settings.between}”{numbered}."
