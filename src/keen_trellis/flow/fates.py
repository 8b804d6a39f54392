"""What becomes of rows at a step: dropped, matched, multiplied, changed, summed, and why."""

from __future__ import annotations

import enum
from collections.abc import Iterator, Sequence

import msgspec
import numpy as np

from keen_trellis.core.filtering import Comparison, Condition, fulfilled
from keen_trellis.core.link import parsed
from keen_trellis.core.table import Cells, ChosenRows, IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import shown_text
from keen_trellis.flow.wording import counted

BLANK, NO_PARTNER = "blank", "no partner"
_MOST_VALUES = 3
_MOST_PLACES = 3


class How(enum.Enum):
    """What becomes of a row; the value is its name in JSON."""

    DROPPED = "dropped"
    MATCHED = "matched"
    MULTIPLIED = "multiplied"
    UNMATCHED = "unmatched"
    PASSED_OVER = "passed-over"
    CHANGED = "changed"
    FILLED = "filled"
    SUMMED = "summed"
    NO_FIELD = "field-dropped"


class Fate(msgspec.Struct, frozen=True):
    """What became of some rows that are followed, in words. rows: how many of them."""

    how: How
    said: str
    rows: int


class Traced(msgspec.Struct, frozen=True):
    """Rows of one input of a step that are followed. after: those of its result that they are part of."""

    name: str
    table: Table
    rows: IndexVector
    after: IndexVector = msgspec.field(default_factory=lambda: np.zeros(0, np.int64))

    def not_among(self, kept: Table) -> IndexVector:
        """Those of the rows that are not among the rows that a step chose of its input."""
        assert isinstance(kept, ChosenRows)
        return self.rows[~np.isin(self.rows, kept.chosen)]


def cells_said(cells: Cells) -> list[str]:
    """What cells hold, in words."""
    texts = shown_text(cells.values).to_pylist()
    absent = cells.absent if cells.absent is not None else np.zeros(len(texts), dtype=bool)
    return [
        NO_PARTNER if gone else BLANK if text is None else f"“{text}”"
        for text, gone in zip(texts, absent, strict=True)
    ]


def values_said(table: Table, rows: IndexVector, names: Sequence[str]) -> str:
    """What rows have in some fields: Status “returned”, “open” and 2 more."""
    parts = []
    for name, cells in zip(names, table.take(rows, list(names)), strict=True):
        found = dict.fromkeys(cells_said(cells))
        shown = list(found)[:_MOST_VALUES]
        more = f" and {len(found) - len(shown):,} more" if len(found) > len(shown) else ""
        parts.append(f"{name} {', '.join(shown)}{more}")
    return "; ".join(parts)


def places_said(table: Table, rows: IndexVector) -> str:
    """Where rows are: loans.csv, row 12; loans.csv, row 17 and 3 more."""
    said = []
    for row in rows[:_MOST_PLACES].tolist():
        found = table.origins(int(row))
        said.append(str(found[0]) if found else f"row {row + 1:,}")
    more = f" and {len(rows) - len(said):,} more" if len(rows) > len(said) else ""
    return f"{'; '.join(said)}{more}"


def of_conditions(
    traced: Traced, conditions: Sequence[Condition], task: Task, *, any_of: bool = False
) -> Iterator[Fate]:
    """Which rows conditions drop, each of the conditions with what the rows have there."""
    table = ChosenRows(traced.table, traced.rows)
    stay = fulfilled(table, conditions, task, any_of=any_of)
    dropped = np.flatnonzero(~stay)
    for entry in conditions if len(dropped) else ():
        fails = dropped[~fulfilled(ChosenRows(table, dropped), [entry], task)]
        if len(fails):
            names = [entry.of]
            if entry.how is Comparison.TRUE:
                names = list(parsed(entry.of, table.fields).names)
            have = values_said(table, fails, names)
            said = f"dropped, since it is not so that {entry}: {have}"
            yield Fate(How.DROPPED, said, len(fails))


def of_groups(traced: Traced, groups: Table, keys: Sequence[str]) -> Iterator[Fate]:
    """Into which groups rows are summed up. keys: the fields that groups are told apart by."""
    told = []
    for row in traced.after[:_MOST_VALUES].tolist():
        members = counted(sum(len(rows) for _, rows in groups.parents(row)), traced.name)
        have = values_said(groups, np.array([row]), keys) if keys else "all rows together"
        told.append(f"{have}, of {members}")
    count = len(traced.after)
    more = f" and {count - len(told):,} more" if count > len(told) else ""
    said = f"summed into {'one row' if count == 1 else f'{count:,} rows'}: {'; '.join(told)}{more}"
    yield Fate(How.SUMMED, said, len(traced.rows))
