"""The number-rows step: what each row is among those of its group: its number, rank, running total, share."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.sorting import SortKey
from keen_trellis.core.table import Field
from keen_trellis.core.windowing import Window, Windowed, windowed, windowed_fields
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult, called, shapes_of
from keen_trellis.flow.run_values import ExpressionText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.steps.sort import SortKeySettings, order_said
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget

_SAID = {
    Window.ROW_NUMBER: "row number",
    Window.RANK: "rank",
    Window.DENSE_RANK: "rank without gaps",
    Window.RUNNING_TOTAL: "running total of {}",
    Window.SHARE: "share of total {}",
    Window.BEFORE: "{} of the row before",
    Window.AFTER: "{} of the row after",
}


class AddedSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """kind: row-number, rank, dense-rank, running-total, share, before or after.  field: the new one.  of: a
    field or expression, "" where it is made of none.
    """

    field: str
    kind: str
    of: ExpressionText = ""

    @property
    def windowed(self) -> Windowed:
        return Windowed(called(Window, self.kind, "number of a row"), self.of, self.field)

    @property
    def said(self) -> str:
        """What it is, in words."""
        return window_said(self.windowed.window, self.of)

    @property
    def is_named(self) -> bool:
        """Whether it has another name than what it is gives it."""
        return self.field != self.said


def window_said(window: Window, of: str) -> str:
    """A number of a row in words, which is also what its field is called unless it is given a name."""
    return _SAID[window].format(of)


class NumberRowsSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """added: the new fields.  within: fields or expressions; rows with the same of which are a group; none:
    all are one.  by: in which order a group's rows are seen; none is the order that they stand in.
    """

    added: tuple[AddedSettings, ...] = ()
    within: tuple[ExpressionText, ...] = ()
    by: tuple[SortKeySettings, ...] = ()

    @property
    def caption(self) -> str:
        return listed([entry.field for entry in self.added], 2) if self.added else "number rows"

    @property
    def order(self) -> list[SortKey]:
        return [entry.key for entry in self.by]

    @property
    def new(self) -> list[Windowed]:
        return [entry.windowed for entry in self.added]


class NumberRowsKind(OneInputKind[NumberRowsSettings]):
    """One input; the same rows where they are, with fields that say what they are among others."""

    name = "number-rows"
    settings_type = NumberRowsSettings

    def fields(
        self, settings: NumberRowsSettings, inputs: Sequence[InputShape], port: str
    ) -> tuple[Field, ...]:
        return windowed_fields(inputs[0].fields, settings.within, settings.order, settings.new)

    def compute(
        self, settings: NumberRowsSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        table = inputs[0].table
        if not settings.added:
            return StepResult({ROWS: table})
        made = windowed(table, settings.within, settings.order, settings.new, context.task)
        return StepResult({ROWS: made})

    def sql(
        self, settings: NumberRowsSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said:
        from keen_trellis.flow.in_sql.rows import kept
        from keen_trellis.flow.in_sql.windows import said_windows

        (rows,) = inputs
        if not settings.added:
            return kept(rows)
        made = self.fields(settings, shapes_of(inputs), port)
        return said_windows(rows, settings.within, settings.order, settings.new, made, target)

    def sentence(self, settings: NumberRowsSettings, inputs: Sequence[InputShape]) -> str:
        named = [
            f"{entry.said} as {entry.field}" if entry.is_named else entry.said for entry in settings.added
        ]
        within = f", within each {' and '.join(settings.within)}" if settings.within else ""
        by = f", by {order_said(settings.by)}" if settings.by else ""
        return f"To {inputs[0].name}{within}{by}, add {', '.join(named) or 'nothing yet'}."
