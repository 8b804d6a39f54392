"""The distinct step: of rows with the same key one stays."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from keen_trellis.core.distinct import check_distinct, distinct_rows
from keen_trellis.core.link import Preparation, Take, Taken
from keen_trellis.core.summarising import Key, grouped
from keen_trellis.core.table import ChosenRows
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import Fate, How, Traced, places_said
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult
from keen_trellis.flow.run_values import ExpressionText
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import distinct_said, listed

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget

_SAID = 3  # rows of which each is told what is kept in its place


class KeySettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """One part of a key. of: a field or expression.  ignore, compare_as: as those of a link."""

    of: ExpressionText
    ignore: tuple[str, ...] = ()
    compare_as: str = ""

    @property
    def key(self) -> Key:
        return Key(self.of, Preparation.ignoring(self.ignore, self.compare_as))


class DistinctSettings(RailSettings, frozen=True, omit_defaults=True, kw_only=True):
    """keys: rows that are equal in them are the same; none means all fields.

    keep: which one stays: first, last, least:EXPRESSION or greatest:EXPRESSION.  blanks_stay: rows with a
    blank in the key all stay.
    """

    keys: tuple[KeySettings, ...] = ()
    keep: ExpressionText = Taken.FIRST.value
    blanks_stay: bool = False

    @property
    def caption(self) -> str:
        return f"distinct {listed([entry.of for entry in self.keys], 2)}".strip()


class DistinctKind(OneInputKind[DistinctSettings]):
    """One input; the same fields, fewer rows."""

    name = "distinct"
    settings_type = DistinctSettings

    def check(self, settings: DistinctSettings, inputs: Sequence[InputShape]) -> None:
        check_distinct(_keys(settings), Take.named(settings.keep), inputs[0].fields)

    def compute(
        self, settings: DistinctSettings, inputs: Sequence[InputRows], context: Context
    ) -> StepResult:
        table, take = inputs[0].table, Take.named(settings.keep)
        rows = distinct_rows(table, _keys(settings), take, context.task, blanks_stay=settings.blanks_stay)
        return StepResult({ROWS: ChosenRows(table, rows)})

    def sql(
        self, settings: DistinctSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget
    ) -> Said:
        from keen_trellis.flow.in_sql.ordering import said_distinct

        keys = _keys(settings) or [Key(entry.name) for entry in inputs[0].fields]
        take = Take.named(settings.keep)
        return said_distinct(inputs[0], keys, take, target, blanks_stay=settings.blanks_stay)

    def fates(
        self, settings: DistinctSettings, inputs: Sequence[Traced], result: StepResult, task: Task
    ) -> Iterator[Fate]:
        (traced,) = inputs
        gone = traced.not_among(result.rows)
        if not len(gone):
            return
        codes = grouped(traced.table, _keys(settings) or [Key(name) for name in traced.table.names]).codes
        for row in gone[:_SAID].tolist():
            same = np.flatnonzero(codes == codes[row])
            kept = result.rows.rows_from(traced.table, same)
            said = f"dropped, since {places_said(result.rows, kept)} has the same key and is kept"
            yield Fate(How.DROPPED, said, 1)
        if len(gone) > _SAID:
            yield Fate(How.DROPPED, "dropped, as others of the same key are kept", len(gone) - _SAID)

    def sentence(self, settings: DistinctSettings, inputs: Sequence[InputShape]) -> str:
        keys = [entry.of for entry in settings.keys]
        return distinct_said(inputs[0].name, keys, settings.keep, blanks_stay=settings.blanks_stay)


def _keys(settings: DistinctSettings) -> list[Key]:
    return [entry.key for entry in settings.keys]
