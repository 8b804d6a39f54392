"""The distinct step: of rows with the same key one stays."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from keen_trellis.core.distinct import check_distinct, distinct_rows
from keen_trellis.core.link import Preparation, Take, Taken
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import ChosenRows
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, StepResult
from keen_trellis.flow.steps.one_input import OneInputKind, RailSettings
from keen_trellis.flow.wording import distinct_said, listed


class KeySettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """One part of a key. of: a field or expression.  ignore, compare_as: as those of a link."""

    of: str
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
    keep: str = Taken.FIRST.value
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

    def sentence(self, settings: DistinctSettings, inputs: Sequence[InputShape]) -> str:
        keys = [entry.of for entry in settings.keys]
        return distinct_said(inputs[0].name, keys, settings.keep, blanks_stay=settings.blanks_stay)


def _keys(settings: DistinctSettings) -> list[Key]:
    return [entry.key for entry in settings.keys]
