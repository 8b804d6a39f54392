"""The sort step: the rows in another order."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.sorting import SortKey, check_keys, sorted_rows
from keen_trellis.core.table import ChosenRows
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult
from keen_trellis.flow.run_values import ExpressionText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget


class SortKeySettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """of: a field or expression.  blanks_first: otherwise they come last, either way."""

    of: ExpressionText
    descending: bool = False
    blanks_first: bool = False

    @property
    def key(self) -> SortKey:
        return SortKey(self.of, self.descending, self.blanks_first)


def order_said(keys: Sequence[SortKeySettings]) -> str:
    """The keys of an order, in words."""
    return ", then ".join(f"{entry.of}{', descending' if entry.descending else ''}" for entry in keys)


class SortSettings(RailSettings, frozen=True, omit_defaults=True):
    """keys: the first one counts most."""

    keys: tuple[SortKeySettings, ...] = ()

    @property
    def caption(self) -> str:
        return f"sort by {listed([entry.of for entry in self.keys], 2)}" if self.keys else "sort"


class SortKind(OneInputKind[SortSettings]):
    """One input; the same rows in another order."""

    name = "sort"
    settings_type = SortSettings

    def check(self, settings: SortSettings, inputs: Sequence[InputShape]) -> None:
        check_keys([entry.key for entry in settings.keys], inputs[0].fields)

    def compute(self, settings: SortSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = inputs[0].table
        rows = sorted_rows(table, [entry.key for entry in settings.keys], context.task)
        return StepResult({ROWS: ChosenRows(table, rows)})

    def sql(self, settings: SortSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.ordering import said_order
        from keen_trellis.flow.in_sql.rows import kept, numbered

        order = said_order(inputs[0], [entry.key for entry in settings.keys], target)
        return msgspec.structs.replace(kept(inputs[0]), place=numbered(order))

    def sentence(self, settings: SortSettings, inputs: Sequence[InputShape]) -> str:
        return f"Sort {inputs[0].name} by {order_said(settings.keys) or 'nothing yet'}."
