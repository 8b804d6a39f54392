"""Tables for the tests, and SQLite as the judge of joins."""

import datetime as dt
import sqlite3
from collections import Counter

import pyarrow as pa
from hypothesis import strategies as st

from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice, JoinedTable, plan_fields
from keen_trellis.core.link import LinkField, Operator
from keen_trellis.core.match import Match
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.values import ARROW_TYPES, FieldType


def table(**columns: list) -> ArrowTable:
    """A table from Python lists; text, integers and reals are compared by Arrow."""
    arrays = {}
    for name, values in columns.items():
        array = pa.array(values)
        if pa.types.is_string(array.type) or pa.types.is_null(array.type):
            array = array.cast(pa.large_string())
        arrays[name] = array
    return ArrowTable(pa.table(arrays))


def rows_of(found) -> list[tuple]:
    """All rows of a table as tuples, None for blank and for no partner."""
    columns = [cells.values.to_pylist() for cells in found.take(None, found.names)]
    return list(zip(*columns, strict=True)) if columns else []


def joined(
    left, right, found: Match, links, kind: JoinType, choice: FieldChoice | None = None
) -> JoinedTable:
    """A joined table with all fields of both sides, link fields on both."""
    choice = choice or FieldChoice(both_links=True)
    plan = plan_fields(left.fields, right.fields, links, kind, choice, "Right")
    return JoinedTable(left, right, found, kind, plan)


_VALUES = {
    FieldType.TEXT: st.sampled_from(
        ["a", "A", " a", "b", "ab", "é", "É", "straße", "STRASSE", "\u00a0a", "Z", "0", "00"]
    ),
    FieldType.INTEGER: st.one_of(
        st.integers(-3, 3), st.sampled_from([2**53 + 1, 2**62, -(2**63), 2**63 - 1, 10**12])
    ),
    FieldType.REAL: st.sampled_from([0.0, -0.0, 1.0, 1.5, -2.25, 1e300, float(2**53)]),
    FieldType.DATE: st.dates(dt.date(1890, 1, 1), dt.date(1890, 1, 5)),
}


@st.composite
def columns(draw, kinds: list[FieldType], most: int = 12):
    """Columns `k0`, `k1`, ... of the given types with blanks and duplicates, and `n`, the row's number."""
    rows = draw(st.integers(0, most))
    made = {
        f"k{number}": pa.array(
            draw(st.lists(st.one_of(st.none(), _VALUES[kind]), min_size=rows, max_size=rows)),
            ARROW_TYPES[kind],
        )
        for number, kind in enumerate(kinds)
    }
    made["n"] = pa.array(range(rows), pa.int64())
    return ArrowTable(pa.table(made))


class Judge:
    """Two tables in SQLite, joined as SQL has it."""

    def __init__(self, left: ArrowTable, right: ArrowTable) -> None:
        self._base = sqlite3.connect(":memory:")
        for name, rows in (("l", left), ("r", right)):
            fields = ", ".join(f'"{field.name}"' for field in rows.fields)
            self._base.execute(f"CREATE TABLE {name} ({fields})")
            marks = ", ".join("?" * len(rows.fields))
            stored = [tuple(_stored(value) for value in row) for row in rows_of(rows)]
            self._base.executemany(f"INSERT INTO {name} VALUES ({marks})", stored)

    def rows(
        self,
        kind: JoinType,
        links: list[LinkField],
        fields: tuple[str, ...],
        other: tuple[str, ...],
        *,
        any_of: bool = False,
    ) -> Counter:
        """The rows of a join, as a multiset."""
        on = (" OR " if any_of else " AND ").join(
            f'(l."{link.left}" {_sign(link)} r."{link.right}")' for link in links
        )
        left = ", ".join(f'l."{name}"' for name in fields)
        right = ", ".join(f'r."{name}"' for name in other)
        exists = f"EXISTS (SELECT 1 FROM {{}} WHERE {on})"
        parts = {
            JoinType.INNER: [f"SELECT {left}, {right} FROM l JOIN r ON {on}"],
            JoinType.LEFT_OUTER: [f"SELECT {left}, {right} FROM l LEFT JOIN r ON {on}"],
            JoinType.RIGHT_OUTER: [f"SELECT {left}, {right} FROM r LEFT JOIN l ON {on}"],
            JoinType.FULL_OUTER: [f"SELECT {left}, {right} FROM l FULL JOIN r ON {on}"],
            JoinType.LEFT_ANTI: [f"SELECT {left} FROM l WHERE NOT {exists.format('r')}"],
            JoinType.RIGHT_ANTI: [f"SELECT {right} FROM r WHERE NOT {exists.format('l')}"],
            JoinType.LEFT_SEMI: [f"SELECT {left} FROM l WHERE {exists.format('r')}"],
            JoinType.RIGHT_SEMI: [f"SELECT {right} FROM r WHERE {exists.format('l')}"],
            JoinType.FULL_ANTI: [
                f"SELECT {left}, {', '.join(['NULL'] * len(other))} FROM l WHERE NOT {exists.format('r')}",
                f"SELECT {', '.join(['NULL'] * len(fields))}, {right} FROM r WHERE NOT {exists.format('l')}",
            ],
        }[kind]
        found: Counter = Counter()
        for query in parts:
            found.update(self._base.execute(query).fetchall())
        return found

    def close(self) -> None:
        self._base.close()


def _sign(link: LinkField) -> str:
    if link.blanks:
        return "IS" if link.operator is Operator.EQUAL else "IS NOT"
    return link.operator.value


def _stored(value):
    return value.isoformat() if isinstance(value, dt.date) else value


def as_judged(rows: list[tuple]) -> Counter:
    """Our rows as SQLite hands them out."""
    return Counter(tuple(_stored(value) for value in row) for row in rows)


__all__ = ["Judge", "as_judged", "columns", "joined", "match", "rows_of", "table"]
