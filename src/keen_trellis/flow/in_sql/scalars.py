"""Fields and expressions over some rows as SQL."""

from __future__ import annotations

import math
from typing import Any

import sqlglot.expressions as exp

from keen_trellis.core.expressions.parsing import parsed_tree
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import NotInSql, SqlRows
from keen_trellis.flow.in_sql.saying import Saying
from keen_trellis.flow.in_sql.target import SqlTarget


class Scalars:
    """Expressions over some rows, for a target. alias: what the rows are called where it stands."""

    def __init__(self, rows: SqlRows, target: SqlTarget, alias: str = "") -> None:
        self.rows, self.target, self._alias = rows, target, alias

    def value(self, text: str) -> tuple[exp.Expr, FieldType | None]:
        """A field, or else an expression, and its type; None where it is always blank."""
        for entry in self.rows.fields:
            if entry.name == text:
                return self.column(text), None if entry.untyped else entry.type
        read = parsed_tree(text, self.rows.fields)
        return Saying(self, read).said(read.tree), read.nodes[id(read.tree)].type

    def has_partner(self, name: str) -> exp.Expr | None:
        """Whether the cell of a field has a partner; None where no column says that."""
        return self.rows.has_partner(name, self._alias)

    def may_be_empty(self, text: str) -> bool:
        """Whether a field or expression may give an empty text."""
        known = {entry.name for entry in self.rows.fields}
        if text in known:
            return text in self.rows.empty
        return self.value(text)[1] is FieldType.TEXT

    def key(self, text: str) -> exp.Expr:
        """A value as rows are put together by it: an empty text is a blank."""
        value, _ = self.value(text)
        if self.may_be_empty(text):
            return exp.Nullif(this=value, expression=exp.Literal.string(""))
        return value

    def column(self, name: str) -> exp.Expr:
        """A field."""
        return self.rows.column(name, self._alias)

    def in_order(self, text: str) -> exp.Expr:
        """A value as it is ordered."""
        return self.target.in_order(*self.value(text))

    def literal(self, value: Any, kind: FieldType) -> exp.Expr:
        """A value that is known."""
        if value is None:
            return exp.Cast(this=exp.Null(), to=self.target.type_of(kind))
        if kind is FieldType.TEXT:
            return exp.Literal.string(value)
        if kind is FieldType.BOOLEAN:
            return exp.Boolean(this=value)
        if kind is FieldType.REAL:
            return exp.Cast(this=exp.Literal.string(_real_said(value)), to=self.target.type_of(kind))
        if kind.is_number:
            number = exp.Literal.number(str(abs(value)))
            return exp.Neg(this=number) if value < 0 else number
        written = value.isoformat(" ") if kind is FieldType.TIMESTAMP else value.isoformat()
        return exp.Cast(this=exp.Literal.string(written), to=self.target.type_of(kind))

    def check_compared(self, one: FieldType | None, other: FieldType | None, said: str) -> None:
        """NotInSql unless values of two types compare there as they do here."""
        if one is not other and FieldType.REAL in (one, other) and None not in (one, other):
            raise NotInSql(
                f"“{said}” compares a real with another number, which databases round first.",
                remedy="CAST both to one type.",
            )


def _real_said(value: float) -> str:
    if math.isnan(value):
        return "NaN"
    return repr(value) if math.isfinite(value) else "Infinity" if value > 0 else "-Infinity"
