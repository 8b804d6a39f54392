"""The correct step: single values of texts are read as others."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.text_actions import check_mended, corrected
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class CorrectSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """fields: texts.  pairs: what is written, and what it is read as."""

    fields: tuple[str, ...] = ()
    pairs: tuple[tuple[str, str], ...] = ()

    @property
    def caption(self) -> str:
        return f"correct {listed(list(self.fields), 1)}" if self.fields else "corrections"


class CorrectKind(OneInputKind[CorrectSettings]):
    """One input; the same fields and rows, single values read as others."""

    name = "correct"
    settings_type = CorrectSettings

    def check(self, settings: CorrectSettings, inputs: Sequence[InputShape]) -> None:
        check_mended(inputs[0].fields, settings.fields, ())

    def compute(self, settings: CorrectSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        return StepResult({ROWS: corrected(inputs[0].table, settings.fields, settings.pairs, context.task)})

    def sql(self, settings: CorrectSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.fields import said_made_here
        from keen_trellis.flow.in_sql.made_here import Corrected

        making = Corrected(settings.pairs)
        rows, made = inputs[0], {name: (name, making) for name in settings.fields}
        return said_made_here(rows, rows.fields, made, target)

    def sentence(self, settings: CorrectSettings, inputs: Sequence[InputShape]) -> str:
        values = "1 value" if len(settings.pairs) == 1 else f"{len(settings.pairs):,} values"
        return f"In {listed(list(settings.fields)) or 'no field'} of {inputs[0].name}, correct {values}."
