"""The columns-to-rows step: some fields of a row become rows, with the field's name and its cell."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.core.unpivoting import unpivoted, unpivoted_fields, unpivoted_plan
from keen_trellis.flow.fates import Fate, How, Traced
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed, rows_called

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows, Stacked
    from keen_trellis.flow.in_sql.target import SqlTarget


class ColumnsToRowsSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """of: the fields that become rows.  name_field, value_field: the new ones.

    no_blanks: blank cells make no row.
    """

    of: tuple[str, ...] = ()
    name_field: str = "field"
    value_field: str = "value"
    no_blanks: bool = False

    @property
    def caption(self) -> str:
        return f"{listed(list(self.of), 2)} to rows" if self.of else "columns to rows"


class ColumnsToRowsKind(OneInputKind[ColumnsToRowsSettings]):
    """One input; of each row one for each of some fields, all other fields repeated."""

    name = "columns-to-rows"
    settings_type = ColumnsToRowsSettings

    def fields(
        self, settings: ColumnsToRowsSettings, inputs: Sequence[InputShape], port: str
    ) -> tuple[Field, ...]:
        if not settings.of:
            return inputs[0].fields
        return unpivoted_fields(inputs[0].fields, settings.of, settings.name_field, settings.value_field)

    def compute(
        self, settings: ColumnsToRowsSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        table = inputs[0].table
        if not settings.of:
            return StepResult({ROWS: table})
        made = unpivoted(
            table,
            settings.of,
            settings.name_field,
            settings.value_field,
            context.task,
            blanks=not settings.no_blanks,
        )
        return StepResult({ROWS: made})

    def sql(
        self, settings: ColumnsToRowsSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said | Stacked:
        from keen_trellis.flow.in_sql.rows import kept
        from keen_trellis.flow.in_sql.windows import said_unpivoted

        (rows,) = inputs
        if not settings.of:
            return kept(rows)
        names = settings.name_field, settings.value_field
        plan = unpivoted_plan(rows.fields, settings.of, *names)
        return said_unpivoted(rows, settings.of, names, plan, target, blanks=not settings.no_blanks)

    def fates(
        self, settings: ColumnsToRowsSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        traced = inputs[0]
        fields = listed(list(settings.of))
        if not len(traced.after):
            yield Fate(How.DROPPED, f"dropped, since it is blank in {fields}", len(traced.rows))
        elif len(traced.after) > len(traced.rows):
            said = f"became {len(traced.after):,} rows, one for each of {fields}"
            yield Fate(How.MULTIPLIED, said, len(traced.rows))

    def sentence(self, settings: ColumnsToRowsSettings, inputs: Sequence[InputShape]) -> str:
        name = inputs[0].name
        if not settings.of:
            return f"Of {name}, no field becomes rows."
        each = f"one {rows_called(name)[0]} for each of {listed(list(settings.of))}"
        blanks = ", none for blank cells" if settings.no_blanks else ""
        new = f"its name in {settings.name_field} and its cell in {settings.value_field}"
        return f"Of {name}, make {each}, {new}{blanks}."
