"""What the rows of a group come to, as SQL."""

from __future__ import annotations

from collections.abc import Sequence

import sqlglot.expressions as exp

from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import NotInSql, has_value, is_null, numbered, ordered
from keen_trellis.flow.in_sql.widening import Widened

_ENDS = {Function.LEAST: exp.Min, Function.GREATEST: exp.Max}
_EXACT = (FieldType.INTEGER, FieldType.DECIMAL)
_BETWEEN = ", "
# Types whose values are one text each, everywhere.
_LISTED = (FieldType.TEXT, FieldType.INTEGER, FieldType.DATE)


def said_key(rows: Widened, key: Key) -> exp.Expr:
    """What rows are put together by. NotInSql."""
    value, kind = rows.scalars.value(key.text)
    if not isinstance(value, exp.Column) and not value.find(exp.Column):
        raise NotInSql(
            f"“{key.text}” is the same in all rows: databases take that for the number of a column."
        )
    if kind is None:
        raise NotInSql(f"“{key.text}” has no value at all, and no type yet.")
    return rows.compared(key.text, key.preparation)[0]


class Measuring:
    """Says the measures of some rows within groups; some look at the order of rows, in columns of theirs."""

    def __init__(self, rows: Widened, groups: Sequence[exp.Expr]) -> None:
        self._rows, self._groups = rows, groups
        self._to = rows.target.type_of

    def said(self, measure: Measure, made: Field, when: exp.Expr | None = None) -> exp.Expr:
        """What the rows of a group come to; those of them for which something holds. NotInSql."""
        if not measure.expression:
            return self._rows_counted(when)
        value, kind = self._rows.scalars.value(measure.expression)
        if when is not None:
            value = exp.Case(ifs=[exp.If(this=when, true=value)])
        said = f"{measure.function.value} of {measure.expression}"
        if kind is None:
            raise NotInSql(f"“{said}” is of a field without any value, which has no type yet.")
        function = measure.function
        if function is Function.COUNT:
            return exp.Cast(this=exp.Count(this=value), to=self._to(FieldType.INTEGER))
        if function is Function.COUNT_DISTINCT:
            distinct = exp.Distinct(expressions=[value])
            return exp.Cast(this=exp.Count(this=distinct), to=self._to(FieldType.INTEGER))
        if function in _ENDS and kind is not FieldType.BOOLEAN:
            return _ENDS[function](this=self._rows.target.in_order(value, kind))
        if function in (Function.FIRST, Function.LAST):
            return self._one(value, kind, is_last=function is Function.LAST)
        if function is Function.SUM and kind in _EXACT:
            return exp.Cast(this=exp.Sum(this=value), to=self._rows.target.holding(made.arrow_type))
        if function in (Function.SUM, Function.MEAN) and kind is FieldType.REAL:
            raise NotInSql(
                f"“{said}” depends on the order in which reals are added.", remedy="CAST them to decimals."
            )
        if function is Function.MEAN:
            return self._mean(value)
        if function is Function.MEDIAN and kind not in (FieldType.REAL, FieldType.BOOLEAN):
            return self._median(value, kind, made)
        if function is Function.LISTING and kind in _LISTED:
            return self._listing(value, kind)
        raise NotInSql(f"“{said}” has no SQL that means the same everywhere.")

    def _rows_counted(self, when: exp.Expr | None) -> exp.Expr:
        every: exp.Expr = exp.Star()
        if when is not None:
            every = exp.Case(ifs=[exp.If(this=when, true=exp.Literal.number(1))])
        return exp.Cast(this=exp.Count(this=every), to=self._to(FieldType.INTEGER))

    def _mean(self, value: exp.Expr) -> exp.Expr:
        real = self._to(FieldType.REAL)
        total = exp.Cast(this=exp.Sum(this=value), to=real)
        count = exp.Nullif(this=exp.Count(this=value.copy()), expression=exp.Literal.number(0))
        return exp.Div(this=total, expression=exp.Cast(this=count, to=real.copy()), typed=True, safe=False)

    def _filled(self, value: exp.Expr) -> list[exp.Expr]:
        """The groups, those rows of each that have a value apart from the others."""
        return [*(group.copy() for group in self._groups), is_null(value.copy())]

    def _one(self, value: exp.Expr, kind: FieldType, *, is_last: bool) -> exp.Expr:
        """The value of the first or last row of a group that has one."""
        nth = numbered([ordered(self._rows.place, descending=is_last)], self._filled(value))
        is_it = exp.EQ(this=nth, expression=exp.Literal.number(1))
        found = exp.Case(ifs=[exp.If(this=is_it, true=value.copy())])
        column = self._rows.with_column("last" if is_last else "first", found)
        if kind is FieldType.BOOLEAN:
            return exp.LogicalOr(this=column)
        return exp.Max(this=self._rows.target.in_order(column, kind))

    def _median(self, value: exp.Expr, kind: FieldType, made: Field) -> exp.Expr:
        """The value in the middle, or of numbers half the sum of the two that are."""
        in_order = ordered(self._rows.target.in_order(value.copy(), kind))
        nth = numbered([in_order, ordered(self._rows.place)], self._filled(value))
        partition = [group.copy() for group in self._groups] or None
        count = exp.Window(this=exp.Count(this=value.copy()), partition_by=partition)
        twice = exp.Mul(this=nth, expression=exp.Literal.number(2))
        most = exp.Add(this=count.copy(), expression=exp.Literal.number(2))
        is_middle = exp.and_(
            has_value(value.copy()), exp.Between(this=twice, low=count, high=most), wrap=False
        )
        column = self._rows.with_column("middle", exp.Case(ifs=[exp.If(this=is_middle, true=value.copy())]))
        lower = exp.Min(this=self._rows.target.in_order(column, kind))
        if kind not in _EXACT:
            return lower
        to = self._rows.target.holding(made.arrow_type)
        ends = [exp.Cast(this=end(this=column.copy()), to=to.copy()) for end in (exp.Min, exp.Max)]
        both = exp.Paren(this=exp.Add(this=ends[0], expression=ends[1]))
        half = exp.Mul(this=both, expression=exp.Literal.number("0.5"))
        return exp.Cast(this=half, to=to)

    def _listing(self, value: exp.Expr, kind: FieldType) -> exp.Expr:
        target = self._rows.target
        if not target.lists_by:
            raise NotInSql(f"The standard has no listing that {target.name} could be asked for.")
        text = target.day_as_text(value) if kind is FieldType.DATE else value
        if kind is FieldType.INTEGER:
            text = exp.Cast(this=value, to=self._to(FieldType.TEXT))
        place, between = ordered(self._rows.place), exp.Literal.string(_BETWEEN)
        if target.lists_by == "within group":
            listed = exp.GroupConcat(this=text, separator=between)
            return exp.WithinGroup(this=listed, expression=exp.Order(expressions=[place]))
        return exp.GroupConcat(this=exp.Order(this=text, expressions=[place]), separator=between)
