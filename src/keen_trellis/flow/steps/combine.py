"""The combine step: several fields make one text."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.table import Field
from keen_trellis.core.text_actions import combined, combined_fields
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class CombineSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """of: fields of any type.  between: what is written between them.  into: the new field's name."""

    of: tuple[str, ...]
    into: str
    between: str = " "

    @property
    def caption(self) -> str:
        return f"combine {self.into}"


class CombineKind(OneInputKind[CombineSettings]):
    """One input; the same rows, one field more."""

    name = "combine"
    settings_type = CombineSettings

    def fields(self, settings: CombineSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return combined_fields(inputs[0].fields, settings.of, settings.into)

    def compute(self, settings: CombineSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = combined(inputs[0].table, settings.of, settings.between, settings.into)
        return StepResult({ROWS: table})

    def sql(self, settings: CombineSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.windows import said_combined

        return said_combined(inputs[0], settings.of, settings.between, settings.into, target)

    def sentence(self, settings: CombineSettings, inputs: Sequence[InputShape]) -> str:
        names = listed(list(settings.of))
        return f"Combine {names} of {inputs[0].name} into {settings.into}, “{settings.between}” between them."
