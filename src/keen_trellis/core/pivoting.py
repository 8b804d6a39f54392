"""Rows to columns: one row a group, with a field for each of some values that another field has there."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.conversion import read_as
from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.expression import Expression
from keen_trellis.core.filtering import places_among
from keen_trellis.core.joining import check_rows
from keen_trellis.core.link import value_of
from keen_trellis.core.measures import Groups, Measure, measured
from keen_trellis.core.summarising import Key, SummaryTable, summary_fields
from keen_trellis.core.table import ChosenRows, Field, IndexVector, Table, taken
from keen_trellis.core.task import Task
from keen_trellis.core.text_actions import check_new
from keen_trellis.core.values import shown_text

_SAID = 5  # values without a column


def pivoted_fields(
    fields: Sequence[Field], keys: Sequence[Key], of: str, columns: Sequence[str], measure: Measure
) -> tuple[Field, ...]:
    """The fields of a pivoted table: the keys, and one for each column, called so.

    UsageError where these cannot be: none is named, one twice, or one as a key is.
    """
    if not of:
        raise UsageError("It is not said whose values become columns.", remedy="Choose a field.")
    found = value_of(of, fields)
    if not columns:
        raise UsageError(f"It is not said which values of {of} become columns.", remedy="Choose them.")
    held = measure.field(fields)
    if not found.untyped:
        _told_apart(columns, found)
    known = summary_fields(fields, keys, ())
    check_new(known, columns)
    return (*known, *(msgspec.structs.replace(held, name=name) for name in columns))


class PivotedTable(SummaryTable):
    """Groups in order of first appearance; in each column what is measured of those rows of the group that
    have its value in `of`.

    columns: values as they are written.  A group with no such row is blank there, or 0 where rows are
    counted.  elsewhere: the rows of the table whose value has no column, or that are blank in `of`; they only
    make their group be there.  counts: by value without a column how many rows have it, the most frequent
    first, "" for blanks and the last entry for all others together.  DataError where a sum is too large, or
    there would be too many cells.
    """

    def __init__(
        self,
        table: Table,
        keys: Sequence[Key],
        of: str,
        columns: Sequence[str],
        measure: Measure,
        task: Task,
    ) -> None:
        fields = pivoted_fields(table.fields, keys, of, columns, measure)
        super().__init__(table, keys, (), task)
        task.checkpoint(0, 2, f"looking at {of}")
        found = value_of(of, table.fields)
        values = found.cells(table).values
        column: IndexVector = np.full(table.rows, -1)
        if not found.untyped:
            column = places_among(values, read_as(columns, found.type, of))
        rows = np.flatnonzero(column >= 0)
        check_rows("It", self.rows * len(columns), "Let fewer values become columns, or filter before it.")
        task.checkpoint(1, 2, measure.name)
        codes = self.groups.codes[rows].astype(np.int64) * len(columns) + column[rows]
        cells, _ = measured(ChosenRows(table, rows), Groups(codes, self.rows * len(columns)), measure)
        self.fields = fields
        read = tuple(dict.fromkeys((*found.names, *self._read_by(measure))))
        for number, name in enumerate(columns):
            self._made[name] = taken(cells, np.arange(number, self.rows * len(columns), len(columns)))
            self._reads[name] = read
        self.elsewhere: IndexVector = np.flatnonzero(column < 0)
        self.counts = _counted(shown_text(values.take(pa.array(self.elsewhere))))

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        if self is source:
            return rows
        seen = np.setdiff1d(self._table.rows_from(source, rows), self.elsewhere)
        return np.unique(self.groups.codes[seen])

    def _read_by(self, measure: Measure) -> tuple[str, ...]:
        return value_of(measure.expression, self._table.fields).names if measure.expression else ()


def _told_apart(columns: Sequence[str], of: Expression) -> None:
    """UsageError where two columns are for the same value."""
    place = places_among(*[read_as(columns, of.type, of.text)] * 2)
    same = np.flatnonzero(place != np.arange(len(columns)))
    if len(same):
        one, other = sorted((columns[int(same[0])], columns[int(place[same[0]])]))
        raise UsageError(f"“{one}” and “{other}” are the same {of.text}.", remedy="Name it once.")


def _counted(texts: pa.Array) -> dict[str, int]:
    """How often each text is there, blanks as "": the most frequent ones, and all others as one."""
    encoded = texts.fill_null("").dictionary_encode()
    counts = np.bincount(encoded.indices.to_numpy(zero_copy_only=False), minlength=len(encoded.dictionary))
    order = np.argsort(-counts, kind="stable")
    first = order[:_SAID]
    values = encoded.dictionary.take(pa.array(first)).to_pylist()
    told = dict(zip(values, counts[first].tolist(), strict=True))
    others = int(counts[order[_SAID:]].sum())
    return {**told, f"{len(order) - _SAID:,} others": others} if others else told
