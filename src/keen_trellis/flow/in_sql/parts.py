"""A row for each part of a text, as SQL: databases divide texts by functions of their own."""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec
import sqlglot
import sqlglot.expressions as exp

from keen_trellis.core.preparing import WHITE_SPACE
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Said,
    SqlRows,
    at,
    has_value,
    kept,
    named,
    numbered,
    ordered,
    quoted,
)
from keen_trellis.flow.in_sql.target import SqlTarget

_PARTS, _DIVIDED, _PART, _NTH = "parts", "divided", "part", "nth"


def said_parts(
    rows: SqlRows, of: str, between: str, number: str, made: Sequence[Field], target: SqlTarget
) -> Said:
    """Each row as often as a text of it has parts, with one in each; once, with a blank, where it has none.
    made: the fields of that.  NotInSql.
    """
    field = next(entry for entry in rows.fields if entry.name == of)
    if field.untyped:
        raise NotInSql(f"“{of}” has no value at all, and no type yet.")
    said, nth = kept(rows), at(_PARTS, _NTH)
    columns = dict(said.columns)
    columns[of] = at(_PARTS, _PART)
    is_open = dict(rows.open)
    if number:
        counted = numbered([ordered(nth)], [rows.column(rows.place)])
        is_part = exp.If(this=has_value(nth.copy()), true=counted)
        integer = target.type_of(FieldType.INTEGER)
        columns[number] = exp.Cast(this=exp.Case(ifs=[is_part]), to=integer)
        # What is without partner has no parts either.
        is_open |= {number: rows.open[of]} if of in rows.open else {}
    parts = exp.Lateral(this=exp.Subquery(this=_parts(rows.column(of), between, target)))
    parts.set("alias", exp.TableAlias(this=quoted(_PARTS)))
    rest = exp.Select().from_(rows.relation()).join(parts, on=exp.true(), join_type="left")
    place = numbered([ordered(rows.column(rows.place)), ordered(nth.copy())])
    order = (*(entry.name for entry in made), *rows.tellers)
    columns = {name: columns[name] for name in order}
    return msgspec.structs.replace(
        said, columns=columns, place=place, rest=rest, open=is_open, empty=rows.empty - {of}
    )


def _parts(text: exp.Expr, between: str, target: SqlTarget) -> exp.Select:
    """The parts of a text that are not empty, without white space around them, each with its number."""
    if not target.divides_by:
        raise NotInSql(f"{target.name} divides no texts.")
    sign = _pattern(between) if target.divides_by == "pattern" else between
    source = sqlglot.parse_one(_SOURCES[target.divides_by], read=target.dialect)
    for column in list(source.find_all(exp.Column)):
        column.replace(text)
    for literal in list(source.find_all(exp.Literal)):
        if literal.is_string:
            literal.replace(exp.Literal.string(sign))
    spaces = exp.Literal.string(WHITE_SPACE)
    trimmed = exp.Trim(this=at(_DIVIDED, _PART), position="BOTH", expression=spaces)
    is_part = exp.NEQ(this=trimmed.copy(), expression=exp.Literal.string(""))
    assert isinstance(source, exp.Select)
    return source.select(named(trimmed, _PART), at(_DIVIDED, _NTH), append=False).where(is_part)


# How the parts of a text are had, by the target's way; "sign" is what divides them.
_SOURCES = {
    "array": "SELECT 1 FROM UNNEST(STRING_TO_ARRAY(t, 'sign')) WITH ORDINALITY AS divided(part, nth)",
    "pattern": "SELECT 1 FROM POSEXPLODE(SPLIT(t, 'sign', -1)) AS divided(nth, part)",
}


def _pattern(text: str) -> str:
    """A pattern that is a text itself."""
    return re.sub(r"([^\w\s])", r"\\\1", text, flags=re.ASCII) if text.isascii() else rf"\Q{text}\E"
