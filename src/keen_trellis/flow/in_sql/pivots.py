"""Values of a field that become columns, as SQL."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.conversion import read_as
from keen_trellis.core.measures import Measure
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import NotInSql, Said, SqlRows
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.summaries import said_summary
from keen_trellis.flow.in_sql.target import SqlTarget


def said_pivot(
    rows: SqlRows,
    keys: Sequence[Key],
    of: str,
    columns: Sequence[str],
    measure: Measure,
    made: Sequence[Field],
    target: SqlTarget,
) -> Said:
    """One row a group, and in each column what is measured of those of its rows that have the value."""
    scalars = Scalars(rows, target)
    value, kind = scalars.value(of)
    if kind is None or kind is FieldType.REAL:
        said = "real" if kind is FieldType.REAL else "blank in every row"
        raise NotInSql(f"“{of}” is {said}: its values make no columns in SQL.")
    known = read_as(columns, kind, of).to_pylist()
    tests = [exp.EQ(this=value.copy(), expression=scalars.literal(entry, kind)) for entry in known]
    measures = [msgspec.structs.replace(measure, name=name) for name in columns]
    return said_summary(rows, keys, measures, made, target, tests)
