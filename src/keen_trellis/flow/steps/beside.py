"""The beside step: the rows of two rails next to each other, by their place."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.beside import beside, fields_beside
from keen_trellis.core.laddering import Rung
from keen_trellis.core.link import Take
from keen_trellis.core.table import Field
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, Standing, StepKind, StepResult
from keen_trellis.flow.wording import rows_called

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class BesideSettings(msgspec.Struct, frozen=True):
    """Nothing can be set: the first row is put next to the first, and so on."""


class BesideKind(StepKind[BesideSettings]):
    """Two inputs of as many rows; the fields of both."""

    name = "beside"
    settings_type = BesideSettings
    input_names = ("left", "right")
    standing = Standing.KNOT

    def fields(self, settings: BesideSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        left, right = inputs
        plan = fields_beside(left.fields, right.fields, left.name, right.name)
        return tuple(entry.field for entry in plan)

    def fingerprint(self, settings: BesideSettings, inputs: Sequence[InputShape]) -> object:
        return [entry.name for entry in inputs]

    def compute(self, settings: BesideSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        left, right = inputs
        return StepResult({ROWS: beside(left.table, right.table, left.name, right.name)})

    def sql(self, settings: BesideSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.joins import JoinSaying

        left, right = inputs
        plan = fields_beside(left.fields, right.fields, left.name, right.name)
        return JoinSaying(inputs, [Rung(())], Take(), target).beside(plan)

    def sentence(self, settings: BesideSettings, inputs: Sequence[InputShape]) -> str:
        one, other = (rows_called(entry.name)[0] for entry in inputs)
        return f"Next to each {one}, put the {other} at the same place."
