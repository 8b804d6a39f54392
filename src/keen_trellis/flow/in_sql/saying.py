"""The parts of one expression as SQL. What another database would compute otherwise is refused by name."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.day import today
from keen_trellis.core.expressions.held import scale_of
from keen_trellis.core.expressions.parsing import Parsed
from keen_trellis.core.values import FieldType, type_of_arrow
from keen_trellis.flow.in_sql.casts import CASTS, converted
from keen_trellis.flow.in_sql.columns import Columns
from keen_trellis.flow.in_sql.rows import NotInSql, is_null

_DAYS = 6  # digits of a number of days
_DAY = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
# Whole numbers up to here are reals without being rounded.
_EXACT_REALS = 2**53
# Numbers in SQL as in the flow: INTEGER is 32 bits elsewhere.
_LARGEST_PLAIN = 2**31 - 1
_ORDERING = (exp.LT, exp.LTE, exp.GT, exp.GTE)
_COMPARED = (exp.EQ, exp.NEQ, exp.NullSafeEQ, exp.NullSafeNEQ, *_ORDERING)


class Saying:
    """Says the parts of one expression."""

    def __init__(self, columns: Columns, read: Parsed) -> None:
        self._columns, self._read = columns, read
        self._target = columns.target

    def said(self, tree: exp.Expr) -> exp.Expr:
        """A part in SQL. NotInSql."""
        maker = _MAKERS.get(type(tree))
        if maker is None:
            raise self._refused(tree)
        return maker(self, tree)

    def type_of(self, tree: exp.Expr) -> FieldType | None:
        return self._read.nodes[id(tree)].type

    def partner_found(self, tree: exp.Anonymous) -> exp.Expr:
        """PARTNER_FOUND: whether a cell of the fields that a join took from a table has a partner."""
        rows, table = self._columns.rows, tree.expressions[0].name
        found = [self._columns.has_partner(entry.name) for entry in rows.fields if entry.table == table]
        known = [test for test in found if test is not None]
        if len(known) < len(found):
            raise self._refused(tree)
        return exp.Paren(this=exp.or_(*dict.fromkeys(known)))

    def _refused(self, tree: exp.Expr, why: str = "") -> NotInSql:
        return NotInSql(f"“{tree.sql()}” has no SQL that means the same everywhere{why}.")

    def column(self, tree: exp.Expr) -> exp.Expr:
        return self._columns.column(self._read.fields[id(tree.this)].name)

    def literal(self, tree: exp.Literal) -> exp.Expr:
        if tree.is_string or self.type_of(tree) is not FieldType.REAL:
            return tree.copy()
        return self._columns.literal(float(tree.name), FieldType.REAL)

    def negative(self, tree: exp.Expr) -> exp.Expr:
        if isinstance(tree.this, exp.Literal) and tree.this.name == str(2**63):
            raise self._refused(tree, ": the least whole number is written there as a decimal")
        return exp.Neg(this=self._of_known_type(tree.this, self._wide(tree)))

    def absolute(self, tree: exp.Expr) -> exp.Expr:
        return exp.Abs(this=self._of_known_type(tree.this, self._wide(tree)))

    def _check_read(self, tree: exp.Expr, names: Sequence[str]) -> None:
        """NotInSql where a part of the tree was written that is not among those named."""
        if any(value and name not in names for name, value in tree.args.items()):
            raise self._refused(tree)

    def of_parts(self, tree: exp.Expr, names: Sequence[str]) -> exp.Expr:
        """The same with its parts said; all that it has must be named."""
        self._check_read(tree, names)
        made: dict[str, Any] = {}
        for name in names:
            part = tree.args.get(name)
            if isinstance(part, list):
                made[name] = [self.said(entry) for entry in part]
            elif isinstance(part, exp.Expr):
                made[name] = self.said(part)
            else:
                made[name] = part
        return type(tree)(**made)

    def truth(self, tree: exp.Expr) -> exp.Expr:
        return exp.Is(this=self.bracketed(tree.this), expression=tree.expression.copy())

    def bracketed(self, tree: exp.Expr) -> exp.Expr:
        made = self.said(tree)
        plain = isinstance(made, exp.Column | exp.Paren | exp.Func | exp.Literal)
        return made if plain else exp.Paren(this=made)

    def comparison(self, tree: exp.Expr) -> exp.Expr:
        one, other = self.compared(tree, [tree.this, tree.expression])
        return type(tree)(this=one, expression=other)

    def compared(self, tree: exp.Expr, sides: Sequence[exp.Expr]) -> list[exp.Expr]:
        """Values that are compared with the first of them, each said."""
        types = [self.type_of(side) for side in sides]
        plain = [self._as_exact_real(side, types) for side in sides]
        for kind, is_plain in zip(types[1:], plain[1:], strict=True):
            if not is_plain and not plain[0]:
                self._columns.check_compared(types[0], kind, tree.sql())
        known = [self._read.nodes[id(side)] for side, kind in zip(sides, types, strict=True) if kind]
        to = self._target.holding(known[0].arrow_type) if known else self._target.type_of(FieldType.TEXT)
        made = [self._of_known_type(side, to.copy()) for side in sides]
        if isinstance(tree, (*_ORDERING, exp.Between)):
            made[0] = self._target.in_order(made[0], types[0])
        return made

    def _as_exact_real(self, tree: exp.Expr, types: Sequence[FieldType | None]) -> bool:
        """Whether a literal among reals is one of them, without being rounded."""
        number = tree.this if isinstance(tree, exp.Neg) else tree
        return (
            FieldType.REAL in types
            and isinstance(number, exp.Literal)
            and not number.is_string
            and number.name.isdecimal()
            and int(number.name) <= _EXACT_REALS
        )

    def one_of(self, tree: exp.Expr) -> exp.Expr:
        self._check_read(tree, ("this", "expressions"))
        first, *others = self.compared(tree, [tree.this, *tree.expressions])
        return exp.In(this=first, expressions=others)

    def between(self, tree: exp.Expr) -> exp.Expr:
        if tree.args.get("symmetric"):
            raise self._refused(tree)
        value, low, high = self.compared(tree, [tree.this, tree.args["low"], tree.args["high"]])
        return exp.Between(this=value, low=low, high=high)

    def like(self, tree: exp.Expr) -> exp.Expr:
        if tree.args.get("negate"):
            raise self._refused(tree)
        return with_escape(exp.Like(this=self.said(tree.this), expression=tree.expression.copy()))

    def escaped(self, tree: exp.Expr) -> exp.Expr:
        inner = tree.this
        if inner.args.get("negate"):
            raise self._refused(tree)
        like = exp.Like(this=self.said(inner.this), expression=inner.expression.copy())
        return exp.Escape(this=like, expression=tree.expression.copy())

    def case(self, tree: exp.Expr) -> exp.Expr:
        value, ifs = tree.args.get("this"), tree.args["ifs"]
        made = []
        for entry in ifs:
            if value is None:
                test = self.said(entry.this)
            else:
                one, other = self.compared(tree, [value, entry.this])
                test = exp.EQ(this=one, expression=other)
            made.append(exp.If(this=test, true=self._of_type(entry.args["true"], tree)))
        default = tree.args.get("default")
        last = None if default is None else self._of_type(default, tree)
        return exp.Case(ifs=made, default=last)

    def coalesced(self, tree: exp.Expr) -> exp.Expr:
        first, *others = (self._of_type(entry, tree) for entry in (tree.this, *tree.expressions))
        return exp.Coalesce(this=first, expressions=others)

    def _of_type(self, part: exp.Expr, whole: exp.Expr) -> exp.Expr:
        """A part as the type of the whole."""
        kind, wanted = self.type_of(part), self.type_of(whole)
        made = self.said(part)
        if wanted is None or kind is wanted:
            return made
        to = self._target.holding(self._read.nodes[id(whole)].arrow_type)
        return exp.Cast(this=made, to=to)

    def cast(self, tree: exp.Expr) -> exp.Expr:
        kind, node = self.type_of(tree.this), self._read.nodes[id(tree)]
        wanted = type_of_arrow(node.arrow_type)
        if wanted is FieldType.DATE and _is_day(tree.this):
            return self._columns.literal(dt.date.fromisoformat(tree.this.name), FieldType.DATE)
        sized = wanted is FieldType.TEXT and tree.args["to"].expressions
        if sized or (kind is not None and kind is not wanted and (kind, wanted) not in CASTS):
            raise self._refused(tree, ": what cannot be converted is blank here, and an error there")
        if kind is FieldType.DECIMAL and wanted is FieldType.DECIMAL:
            raise self._refused(tree)
        to, sizes = node.arrow_type, tree.args["to"].expressions
        if wanted is FieldType.DECIMAL and sizes:
            to = pa.decimal128(int(sizes[0].this.name), scale_of(to))
        return converted(self._target, self.said(tree.this), kind, to)

    def arithmetic(self, tree: exp.Expr) -> exp.Expr:
        if isinstance(tree.this, exp.Interval) or isinstance(tree.expression, exp.Interval):
            return self._days_moved(tree)
        sides = [self._of_known_type(side, self._wide(tree)) for side in (tree.this, tree.expression)]
        types = [self.type_of(tree.this), self.type_of(tree.expression)]
        if any(kind is not None and not kind.is_number for kind in types):
            raise self._refused(tree, ": intervals are computed otherwise")
        if not tree.find(exp.Column):
            # Numbers alone would be 32 bits wide.
            sides[0] = exp.Cast(this=sides[0], to=self._wide(tree))
        return type(tree)(this=_guarded(sides[0]), expression=_guarded(sides[1]))

    def _days_moved(self, tree: exp.Expr) -> exp.Expr:
        """A date and so many days more or less, as long as that is one of the years 1 to 9999."""
        interval, day = tree.expression, tree.this
        count = interval.this.name if isinstance(interval, exp.Interval) else ""
        is_plain = isinstance(tree, exp.Add | exp.Sub) and count.isdecimal() and len(count) <= _DAYS
        unit = str(interval.args.get("unit") or "").upper() if isinstance(interval, exp.Interval) else ""
        if not is_plain or unit != "DAY" or self.type_of(day) is not FieldType.DATE:
            raise self._refused(tree, ": intervals are computed otherwise")
        days = int(count) * (1 if isinstance(tree, exp.Add) else -1)
        first, last = dt.date.min.toordinal(), dt.date.max.toordinal()
        bounds = [
            self._columns.literal(dt.date.fromordinal(min(max(end - days, first), last)), FieldType.DATE)
            for end in (first, last)
        ]
        value = self.said(day)
        by = exp.Interval(this=exp.Literal.string(count), unit=exp.var("DAY"))
        moved = exp.Cast(this=type(tree)(this=value, expression=by), to=self._target.type_of(FieldType.DATE))
        inside = exp.Between(this=value.copy(), low=bounds[0], high=bounds[1])
        return exp.Case(ifs=[exp.If(this=inside, true=moved)])

    def _of_known_type(self, tree: exp.Expr, to: exp.DataType) -> exp.Expr:
        """A part, or a blank of a type where it is always blank: a table there holds it as any other."""
        return self.said(tree) if self.type_of(tree) is not None else exp.Cast(this=exp.Null(), to=to)

    def _wide(self, tree: exp.Expr) -> exp.DataType:
        node = self._read.nodes[id(tree)]
        return self._target.type_of(node.type or FieldType.INTEGER, scale_of(node.arrow_type))

    def quotient(self, tree: exp.Expr) -> exp.Expr:
        real = self._target.type_of(FieldType.REAL)
        one, other = (exp.Cast(this=self.said(side), to=real.copy()) for side in (tree.this, tree.expression))
        divisor = exp.Nullif(this=other, expression=exp.Literal.number(0))
        return exp.Div(this=one, expression=divisor, typed=True, safe=False)

    def remainder(self, tree: exp.Expr) -> exp.Expr:
        if {self.type_of(tree.this), self.type_of(tree.expression)} != {FieldType.INTEGER}:
            raise self._refused(tree)
        divisor = exp.Nullif(this=self.said(tree.expression), expression=exp.Literal.number(0))
        return exp.Mod(this=_guarded(self.said(tree.this)), expression=divisor)

    def extreme(self, tree: exp.Expr) -> exp.Expr:
        """GREATEST or LEAST: databases leave blanks out, where the standard's is blank."""
        parts = [tree.this, *tree.expressions]
        kind = self.type_of(tree)
        made = [self._target.in_order(self._of_type(part, tree), kind) for part in parts]
        if kind is None or FieldType.REAL in map(self.type_of, parts):
            raise self._refused(tree)
        first, *others = made
        some = exp.or_(*(is_null(self.said(part)) for part in parts))
        whole = type(tree)(this=first, expressions=others, ignore_nulls=True)
        return exp.Case(ifs=[exp.If(this=exp.Not(this=exp.Paren(this=some)), true=whole)])

    def rounded(self, tree: exp.Expr) -> exp.Expr:
        """ROUND, half away from zero, FLOOR and CEILING of exact numbers."""
        kind, node = self.type_of(tree.this), self._read.nodes[id(tree)]
        places = tree.args.get("decimals")
        is_minus = isinstance(places, exp.Neg)
        if kind is FieldType.INTEGER and not is_minus:
            return self.said(tree.this)
        if kind is not FieldType.DECIMAL:
            raise self._refused(tree)
        made = type(tree)(this=self.said(tree.this))
        if places is not None:
            made.set("decimals", places.copy())
        return exp.Cast(this=made, to=self._target.holding(node.arrow_type))

    def position(self, tree: exp.Expr) -> exp.Expr:
        part = tree.args["substr"]
        if not (isinstance(part, exp.Literal) and part.is_string and part.name):
            raise self._refused(tree)
        found = exp.StrPosition(this=self.said(tree.this), substr=part.copy())
        return exp.Cast(this=found, to=self._target.type_of(FieldType.INTEGER))

    def sign(self, tree: exp.Expr) -> exp.Expr:
        if self.type_of(tree.this) not in (FieldType.INTEGER, FieldType.DECIMAL):
            raise self._refused(tree)
        return exp.Cast(this=exp.Sign(this=self.said(tree.this)), to=self._target.type_of(FieldType.INTEGER))

    def length(self, tree: exp.Expr) -> exp.Expr:
        return exp.Cast(
            this=exp.Length(this=self.said(tree.this)), to=self._target.type_of(FieldType.INTEGER)
        )

    def substring(self, tree: exp.Expr) -> exp.Expr:
        numbers = [tree.args.get("start"), tree.args.get("length")]
        for number in numbers:
            if number is not None and not _is_small(number):
                raise self._refused(
                    tree, ", unless it begins and ends at a place that is written as a number"
                )
        start, length = numbers
        return exp.Substring(
            this=self.said(tree.this),
            start=start.copy() if start is not None else exp.Literal.number(1),
            length=length.copy() if length is not None else None,
        )

    def replaced(self, tree: exp.Expr) -> exp.Expr:
        new = tree.args.get("replacement")
        if not tree.expression.name:
            raise self._refused(tree)
        return exp.Replace(
            this=self.said(tree.this),
            expression=tree.expression.copy(),
            replacement=new.copy() if new is not None else exp.Literal.string(""),
        )

    def trimmed(self, tree: exp.Expr) -> exp.Expr:
        return self.of_parts(tree, ("this", "position", "expression"))

    def extracted(self, tree: exp.Expr) -> exp.Expr:
        part, kind = tree.this.name.upper(), self.type_of(tree.expression)
        if part not in ("YEAR", "MONTH", "DAY", "QUARTER", "HOUR", "MINUTE") or kind is None:
            raise self._refused(tree)
        made = exp.Extract(this=exp.var(part), expression=self.said(tree.expression))
        return exp.Cast(this=made, to=self._target.type_of(FieldType.INTEGER))

    def today(self, tree: exp.Expr) -> exp.Expr:
        # The day of the run here, which is not always the day there.
        return self._columns.literal(today(), FieldType.DATE)


def with_escape(like: exp.Like) -> exp.Expr:
    """LIKE as the standard has it: some databases take a backslash for an escape unless told otherwise."""
    pattern = like.expression.name
    if "\\" not in pattern:
        return like
    # A pattern is shorter than there are signs here.
    free = next(sign for sign in map(chr, range(33, 0x3000)) if sign not in pattern and sign not in "%_")
    return exp.Escape(this=like, expression=exp.Literal.string(free))


def _is_day(tree: exp.Expr) -> bool:
    """Whether it is a day written as 2026-01-31."""
    if not (isinstance(tree, exp.Literal) and tree.is_string and _DAY.fullmatch(tree.name)):
        return False
    try:
        dt.date.fromisoformat(tree.name)
    except ValueError:
        return False
    return True


def _is_small(tree: exp.Expr) -> bool:
    return isinstance(tree, exp.Literal) and tree.name.isdecimal() and 1 <= int(tree.name) <= _LARGEST_PLAIN


def _guarded(tree: exp.Expr) -> exp.Expr:
    """A side of an operator in brackets where it is an operator itself."""
    return exp.Paren(this=tree) if isinstance(tree, exp.Binary | exp.Neg) else tree


def _of(*names: str) -> Callable[[Saying, Any], exp.Expr]:
    return lambda saying, tree: saying.of_parts(tree, names)


def _logic(saying: Saying, tree: Any, kind: type[exp.Connector]) -> exp.Expr:
    sides = [saying.said(side) for side in (tree.this, tree.expression)]
    sides = [
        exp.Paren(this=side) if isinstance(side, exp.Connector) and type(side) is not kind else side
        for side in sides
    ]
    return kind(this=sides[0], expression=sides[1])


_MAKERS: dict[type, Callable[[Saying, Any], exp.Expr]] = {
    exp.Column: Saying.column,
    exp.Literal: Saying.literal,
    exp.Boolean: lambda _, tree: tree.copy(),
    exp.Null: lambda _, tree: tree.copy(),
    exp.Paren: lambda saying, tree: exp.Paren(this=saying.said(tree.this)),
    exp.Neg: Saying.negative,
    exp.And: partial(_logic, kind=exp.And),
    exp.Or: partial(_logic, kind=exp.Or),
    exp.Not: lambda saying, tree: exp.Not(this=saying.bracketed(tree.this)),
    exp.Is: Saying.truth,
    exp.In: Saying.one_of,
    exp.Between: Saying.between,
    exp.Like: Saying.like,
    exp.Escape: Saying.escaped,
    exp.DPipe: lambda saying, tree: exp.DPipe(
        this=saying.said(tree.this), expression=saying.said(tree.expression), safe=True
    ),
    exp.Anonymous: Saying.partner_found,
    exp.Case: Saying.case,
    exp.Coalesce: Saying.coalesced,
    exp.Nullif: Saying.comparison,
    exp.Cast: Saying.cast,
    exp.Greatest: Saying.extreme,
    exp.Least: Saying.extreme,
    exp.Round: Saying.rounded,
    exp.Floor: Saying.rounded,
    exp.Ceil: Saying.rounded,
    exp.StrPosition: Saying.position,
    exp.Sign: Saying.sign,
    exp.Length: Saying.length,
    exp.Trim: Saying.trimmed,
    exp.Substring: Saying.substring,
    exp.Replace: Saying.replaced,
    exp.Abs: Saying.absolute,
    exp.Extract: Saying.extracted,
    exp.CurrentDate: Saying.today,
    exp.Mod: Saying.remainder,
    exp.Div: Saying.quotient,
    **dict.fromkeys((exp.Add, exp.Sub, exp.Mul), Saying.arithmetic),
    **dict.fromkeys(_COMPARED, Saying.comparison),
}
