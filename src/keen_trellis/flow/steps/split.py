"""The split step: a text is divided into several fields."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_trellis.core.table import Field
from keen_trellis.core.text_actions import split, split_fields
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, shapes_of
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class SplitSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """of: a text.  between: what divides it.  into: the names of its parts; the last one has the rest."""

    of: str
    between: str
    into: tuple[str, ...]

    @property
    def caption(self) -> str:
        return f"split {self.of}"


class SplitKind(OneInputKind[SplitSettings]):
    """One input; the same rows, the parts of a text behind it."""

    name = "split"
    settings_type = SplitSettings

    def fields(self, settings: SplitSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return split_fields(inputs[0].fields, settings.of, settings.between, settings.into)

    def compute(self, settings: SplitSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = split(inputs[0].table, settings.of, settings.between, settings.into)
        return StepResult({ROWS: table})

    def sql(self, settings: SplitSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.fields import said_made_here
        from keen_trellis.flow.in_sql.made_here import PartOfSplit

        count = len(settings.into)
        made = {
            name: (settings.of, PartOfSplit(settings.between, number, count))
            for number, name in enumerate(settings.into, 1)
        }
        fields = self.fields(settings, shapes_of(inputs), port)
        return said_made_here(inputs[0], fields, made, target)

    def sentence(self, settings: SplitSettings, inputs: Sequence[InputShape]) -> str:
        names = listed(list(settings.into))
        return f"Split {settings.of} of {inputs[0].name} at “{settings.between}” into {names}."
