"""The columns of some rows, and values that are known, as SQL."""

from __future__ import annotations

import math
from typing import Any

import sqlglot.expressions as exp

from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import NotInSql, SqlRows
from keen_trellis.flow.in_sql.target import SqlTarget


class Columns:
    """The columns of some rows, for a target. alias: what the rows are called where it stands."""

    def __init__(self, rows: SqlRows, target: SqlTarget, alias: str = "") -> None:
        self.rows, self.target, self._alias = rows, target, alias

    def column(self, name: str) -> exp.Expr:
        """A field."""
        return self.rows.column(name, self._alias)

    def has_partner(self, name: str) -> exp.Expr | None:
        """Whether the cell of a field has a partner; None where no column says that."""
        return self.rows.has_partner(name, self._alias)

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
