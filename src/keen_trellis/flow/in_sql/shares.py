"""A group's measure in shares on its rows, as SQL: by largest remainder (Hamilton's method)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.expressions.held import scale_of
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import Said, at, below, free_column, named, numbered, ordered
from keen_trellis.flow.in_sql.target import SqlTarget

_BLENDED = "blended"
# As many units as can be spread here, and the shares of a group come to less than this many.
_MOST_UNITS, _SHARES_BELOW = 2**63 - 1, 2**62


class Spread(msgspec.Struct, frozen=True):
    """A field that holds the measure of a row's whole group. group: what tells groups apart.  by: by what it
    is spread, None for equal shares.  scale: the decimal places of that.
    """

    field: Field
    group: exp.Expr
    by: exp.Expr | None
    scale: int = 0


class _Layers:
    """A query in layers, each with the columns of that below it and more."""

    def __init__(self, select: exp.Select, names: Sequence[str]) -> None:
        self.select, self._names = select, list(names)

    def add(self, more: Mapping[str, exp.Expr]) -> None:
        """A layer with these columns more, made of those below."""
        columns = [at(_BLENDED, name) for name in self._names]
        made = [named(value, name) for name, value in more.items()]
        self.select = exp.Select().select(*columns, *made).from_(below(self.select, _BLENDED))
        self._names += more

    def free(self, name: str) -> str:
        """A name that no column has."""
        return free_column(name, self._names)


def with_shares(said: Said, place: str, spread: Sequence[Spread], target: SqlTarget) -> Said:
    """The same rows, each with its share. Shares below zero, or zero in all of a group, and what is too large
    for them are an error there as they are here.
    """
    select, names = said.select(place), [*said.columns, place]
    told = []
    for entry in spread:
        group, weight = free_column("group", names), free_column("weight", names)
        by: exp.Expr = exp.Literal.number(1)
        if entry.by is not None:
            by = exp.Coalesce(this=entry.by, expressions=[exp.Literal.number(0)])
        select = select.select(named(entry.group, group), named(by, weight))
        told.append((group, weight))
        names += [group, weight]
    layers = _Layers(select, names)
    columns: dict[str, exp.Expr] = {name: at(_BLENDED, name) for name in said.columns}
    for entry, (group, weight) in zip(spread, told, strict=True):
        columns[entry.field.name] = _share(layers, entry, group, weight, place, target)
    rest = exp.Select().from_(below(layers.select, _BLENDED))
    return msgspec.structs.replace(said, columns=columns, place=at(_BLENDED, place), rest=rest)


def _share(
    layers: _Layers, entry: Spread, group: str, weight: str, place: str, target: SqlTarget
) -> exp.Expr:
    """The share of each row, of whole units of the measure."""
    field = entry.field
    scale = scale_of(field.arrow_type)
    wide = target.type_of(FieldType.DECIMAL)
    total, one = at(_BLENDED, field.name), exp.Literal.number(1)

    def over(function: exp.Expr) -> exp.Window:
        return exp.Window(this=function, partition_by=[at(_BLENDED, group)])

    least, whole = over(exp.Min(this=at(_BLENDED, weight))), over(exp.Sum(this=at(_BLENDED, weight)))
    below_zero = exp.LT(this=least, expression=exp.Literal.number(0))
    units = exp.Mul(this=exp.Abs(this=total.copy()), expression=exp.Literal.number(10**scale))
    shares = exp.Mul(this=whole.copy(), expression=exp.Literal.number(10**entry.scale))
    too_large = exp.GTE(this=shares, expression=exp.Literal.number(_SHARES_BELOW))
    too_many = exp.GT(this=units.copy(), expression=exp.Literal.number(_MOST_UNITS))
    # Nothing divides by zero.
    is_error = exp.or_(below_zero, too_large, too_many)
    divisor = exp.Case(ifs=[exp.If(this=is_error, true=exp.Literal.number(0))], default=whole)
    of, units_name = layers.free("of"), layers.free("units")
    layers.add({of: divisor, units_name: exp.Cast(this=units, to=wide.copy())})
    product = exp.Mul(this=at(_BLENDED, units_name), expression=at(_BLENDED, weight))
    floor, rest = layers.free("floor"), layers.free("rest")
    quotient = exp.IntDiv(this=exp.Paren(this=product), expression=at(_BLENDED, of))
    layers.add({floor: exp.Cast(this=quotient, to=wide.copy())})
    taken = exp.Mul(this=at(_BLENDED, floor), expression=at(_BLENDED, of))
    layers.add({rest: exp.Sub(this=product.copy(), expression=taken)})
    nth, left = layers.free("nth"), layers.free("left over")
    order = [ordered(at(_BLENDED, rest), descending=True), ordered(at(_BLENDED, place))]
    given = over(exp.Sum(this=at(_BLENDED, floor)))
    layers.add(
        {
            nth: numbered(order, [at(_BLENDED, group)]),
            left: exp.Sub(this=at(_BLENDED, units_name), expression=given),
        }
    )
    gets_one = exp.LTE(this=at(_BLENDED, nth), expression=at(_BLENDED, left))
    bonus = exp.Case(ifs=[exp.If(this=gets_one, true=one)], default=exp.Literal.number(0))
    share: exp.Expr = exp.Paren(this=exp.Add(this=at(_BLENDED, floor), expression=bonus))
    is_less = exp.LT(this=total.copy(), expression=exp.Literal.number(0))
    share = exp.Case(ifs=[exp.If(this=is_less, true=exp.Neg(this=share))], default=share.copy())
    if scale:
        unit = exp.Literal.number(f"0.{'1'.zfill(scale)}")
        share = exp.Mul(this=exp.Paren(this=share), expression=unit)
    return exp.Cast(this=share, to=target.holding(field.arrow_type))
