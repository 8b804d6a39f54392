"""A join as SQL: its pairs by a JOIN, its rows without partner by NOT EXISTS."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import JoinedField
from keen_trellis.core.joining import Side as Of
from keen_trellis.core.laddering import Rung
from keen_trellis.core.link import LinkField, Operator, Take, Taken
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.in_sql.casts import CASTS, converted, failing
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Prepared,
    Said,
    SqlRows,
    Stacked,
    at,
    below,
    free_column,
    has_value,
    is_null,
    named,
    numbered,
    ordered,
)
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.in_sql.widening import Widened

_SIGNS = {
    Operator.EQUAL: exp.EQ,
    Operator.UNEQUAL: exp.NEQ,
    Operator.LESS: exp.LT,
    Operator.AT_MOST: exp.LTE,
    Operator.GREATER: exp.GT,
    Operator.AT_LEAST: exp.GTE,
}
_BLANKS = {Operator.EQUAL: exp.NullSafeEQ, Operator.UNEQUAL: exp.NullSafeNEQ}
# What passes over no row that has a match.
_PASSES_NONE = (Taken.EVERY, Taken.ONE)
_LEFT, _RIGHT, _PAIRS = "left", "right", "pairs"
_PAIR_PLACES = ("left place", "right place")
_KEY, _ROWS = "key", "rows"


class JoinSaying:
    """Says the join of two inputs by the rungs of a ladder, mostly one. take: what a left row takes."""

    def __init__(
        self,
        inputs: Sequence[SqlRows],
        rungs: Sequence[Rung],
        take: Take,
        target: SqlTarget,
    ) -> None:
        self._left, self._right = inputs
        self._rows = {_LEFT: self._left, _RIGHT: self._right}
        self._target, self._take = target, take
        self._of = {side: Widened(rows, target, side) for side, rows in self._rows.items()}
        first = rungs[0]
        # Without links, in a cross join, each row finds every other.
        self._is_cross = not first.links
        self._ons = [self._condition(rung) for rung in rungs]
        # Whether a row is matched as one condition on both rows says.
        self._by_rungs = len(rungs) > 1
        any_of = first.any_of and len(first.links) > 1
        self._is_plain = take.kind is Taken.EVERY and not any_of and not self._by_rungs
        # Databases find no full outer join by other conditions than equalities.
        self._equal_only = self._is_plain and all(
            link.operator is Operator.EQUAL and not link.blanks for link in first.links
        )
        self._links = first.links
        if take.kind is Taken.PAIR_OFF and not self._is_cross:
            self._number_matches(first)

    def said(self, kind: JoinType, plan: Sequence[JoinedField]) -> Said | Stacked:
        """The rows of a type of join with these fields. NotInSql."""
        self._tell_partners(kind, plan)
        if kind is JoinType.CROSS:
            return self._pairs(plan, self._from_left().join(self._of[_RIGHT].relation(), join_type="cross"))
        if kind in (JoinType.LEFT_SEMI, JoinType.LEFT_ANTI):
            return self._one_side(plan, found=kind is JoinType.LEFT_SEMI, left=True)
        if kind in (JoinType.RIGHT_SEMI, JoinType.RIGHT_ANTI):
            return self._one_side(plan, found=kind is JoinType.RIGHT_SEMI, left=False)
        if kind is JoinType.FULL_ANTI:
            return Stacked((self._left_alone(plan), self._right_alone(plan)), self._open)
        if kind is JoinType.INNER:
            return self._pairs(plan, self._joined(""))
        if kind is JoinType.LEFT_OUTER:
            return self._pairs(plan, self._joined("left"))
        if kind is JoinType.FULL_OUTER and self._equal_only:
            return self._pairs(plan, self._joined("full"))
        if kind is JoinType.RIGHT_OUTER and self._is_plain:
            return self._pairs(plan, self._joined("right"))
        pairs = self._pairs(plan, self._joined("left" if kind is JoinType.FULL_OUTER else ""))
        # Rows that are passed over stand among those without partner.
        return Stacked((pairs, self._right_alone(plan, in_pairs=True)), self._open)

    def passed_over(self, plan: Sequence[JoinedField]) -> Said | Stacked:
        """The rows of both sides that match and yet end in no pair: none where each takes every match."""
        self._tell_partners(JoinType.FULL_ANTI, plan)
        if self._take.kind in _PASSES_NONE:
            none = self._checked(exp.Boolean(this=False))
            return msgspec.structs.replace(self._left_alone(plan), rest=self._from_left().where(none))
        return Stacked(tuple(self._left_out(plan, left=left) for left in (True, False)), self._open)

    def _left_out(self, plan: Sequence[JoinedField], *, left: bool) -> Said:
        matched = self._one_side(plan, found=True, left=left)
        own, other = (_LEFT, _RIGHT) if left else (_RIGHT, _LEFT)
        paired = exp.Exists(this=self._partners(own, other, in_pairs=True))
        return msgspec.structs.replace(matched, rest=matched.rest.where(exp.Not(this=paired)))

    def beside(self, plan: Sequence[JoinedField]) -> Said:
        """The first row of one with the first of the other, and so on: an error where one has more rows."""
        self._tell_partners(JoinType.INNER, plan)
        nth = [wide.with_column("nth", numbered([ordered(wide.place)])) for wide in self._of.values()]
        on = exp.EQ(this=nth[0], expression=nth[1])
        joined = self._from_left().join(self._of[_RIGHT].relation(), on=on, join_type="full")
        alone = exp.or_(*(is_null(place.copy()) for place in nth))
        said = (
            f"{self._left.name} and {self._right.name} have not the same number of rows: there is one more, "
        )
        number = exp.Coalesce(this=nth[0].copy(), expressions=[nth[1].copy()])
        text = exp.Cast(this=number, to=self._target.type_of(FieldType.TEXT))
        return self._pairs(plan, joined.where(failing(self._target, alone, said, text)))

    def counted(self) -> exp.Select:
        """One row of what the match comes to: the members of `KnotCounts` but the result's rows."""
        by_key = self._counted_by_key() if self._equal_only and not self._is_cross else None
        if by_key is not None:
            return by_key
        if self._is_cross:
            of = {
                side: self._count(exp.Select().from_(self._of[side].relation())) for side in (_LEFT, _RIGHT)
            }
            made: dict[str, exp.Expr] = {"pairs": exp.Mul(this=of[_LEFT], expression=of[_RIGHT])}
        else:
            made = {"pairs": self._count(self._joined(""))}
        for left in (True, False):
            own, other = (_LEFT, _RIGHT) if left else (_RIGHT, _LEFT)
            rows = self._count(exp.Select().from_(self._of[own].relation()))
            exists = exp.Exists(this=self._partners(own, other, in_pairs=False))
            matched = self._count(exp.Select().from_(self._of[own].relation()).where(exists))
            made[f"{own}_rows"] = rows
            made[f"{own}_matched"] = matched
            made[f"{own}_unmatched"] = exp.Sub(this=rows.copy(), expression=matched.copy())
            made[f"{own}_passed_over"] = exp.Literal.number(0)
            if self._take.kind not in _PASSES_NONE:
                place = at(_PAIRS, _PAIR_PLACES[0] if left else _PAIR_PLACES[1])
                distinct = exp.Count(this=exp.Distinct(expressions=[place]))
                paired = exp.Select().select(distinct).from_(below(self._places(), _PAIRS))
                made[f"{own}_passed_over"] = exp.Sub(
                    this=matched.copy(), expression=exp.Subquery(this=paired)
                )
        return exp.Select().select(*(named(value, name) for name, value in made.items()))

    def _counted_by_key(self) -> exp.Select | None:
        """The same by the rows of each key, which are fewer; None where a key is the same in all rows, which
        databases would take for the number of a column.
        """
        grouped, on = {}, []
        for side, wide in self._of.items():
            keys = self._keys(side)
            if not all(key.find(exp.Column) for key in keys):
                return None
            made = [named(key.copy(), f"{_KEY} {number}") for number, key in enumerate(keys)]
            select = exp.Select().select(*made, named(exp.Count(this=exp.Star()), _ROWS))
            grouped[side] = select.from_(wide.relation()).group_by(*keys)
        for number in range(len(self._links)):
            names = (at(side, f"{_KEY} {number}") for side in (_LEFT, _RIGHT))
            on.append(exp.EQ(this=next(names), expression=next(names)))
        joined = exp.Select().from_(below(grouped[_LEFT], _LEFT))
        joined = joined.join(below(grouped[_RIGHT], _RIGHT), on=exp.and_(*on, wrap=False), join_type="full")
        own, other = at(_LEFT, _ROWS), at(_RIGHT, _ROWS)
        counts: dict[str, exp.Expr] = {"pairs": exp.Mul(this=own, expression=other)}
        for side, (mine, theirs) in ((_LEFT, (own, other)), (_RIGHT, (other, own))):
            counts[f"{side}_rows"] = mine.copy()
            for name, test in (("matched", has_value(theirs.copy())), ("unmatched", is_null(theirs.copy()))):
                counts[f"{side}_{name}"] = exp.Case(ifs=[exp.If(this=test, true=mine.copy())])
        none, integer = exp.Literal.number(0), self._target.type_of(FieldType.INTEGER)
        summed: dict[str, exp.Expr] = {
            name: exp.Coalesce(this=exp.Sum(this=value), expressions=[none.copy()])
            for name, value in counts.items()
        }
        summed |= {f"{side}_passed_over": none.copy() for side in (_LEFT, _RIGHT)}
        whole = {name: exp.Cast(this=value, to=integer.copy()) for name, value in summed.items()}
        return joined.select(*(named(value, name) for name, value in whole.items()))

    @staticmethod
    def _count(rest: exp.Select) -> exp.Subquery:
        return exp.Subquery(this=rest.select(exp.Count(this=exp.Star()), append=False))

    def _tell_partners(self, kind: JoinType, plan: Sequence[JoinedField]) -> None:
        """Settle in which fields a cell may be without partner, and which columns say of which it is."""
        self._open: dict[str, str] = {}
        self._tellers: dict[tuple[str, str | None], str] = {}
        both = kind is JoinType.FULL_ANTI
        lacks = {_LEFT: kind.keeps_unmatched_right or both, _RIGHT: kind.keeps_unmatched_left or both}
        taken = {entry.field.name for entry in plan}
        for entry in plan:
            name = entry.field.name
            if entry.side not in (Of.LEFT, Of.RIGHT):
                if entry.left in self._left.open or entry.right in self._right.open:
                    self._open[name] = ""
                continue
            side = _LEFT if entry.side is Of.LEFT else _RIGHT
            rows = self._rows[side]
            own = rows.open.get(entry.left or entry.right)
            if own == "":
                self._open[name] = ""
            elif own is not None or lacks[side]:
                if (side, own) not in self._tellers:
                    teller = free_column(f"{rows.name} found", taken)
                    taken.add(teller)
                    self._tellers[side, own] = teller
                self._open[name] = self._tellers[side, own]

    def _teller(self, side: str, own: str | None, sides: Sequence[str]) -> exp.Expr:
        """Whether the cells of a side have a partner, in rows of these sides."""
        if side not in sides:
            return exp.false()
        if own is None:
            return has_value(self._place(side))
        return exp.Coalesce(this=self._rows[side].column(own, side), expressions=[exp.false()])

    def _condition(self, rung: Rung) -> exp.Expr:
        if not rung.links:
            return exp.true()
        any_of = rung.any_of
        made = [exp.Paren(this=self._link(entry)) if any_of else self._link(entry) for entry in rung.links]
        return exp.or_(*made, wrap=False) if any_of else exp.and_(*made, wrap=False)

    def _link(self, link: LinkField) -> exp.Expr:
        said = f"{link.left} {link.operator.value} {link.right}"
        if link.likeness is not None:
            said = f"{link.left} like {link.right}"
            raise NotInSql(
                f"“{said}” compares how alike values are, which no SQL says.",
                remedy="Find such partners here, and keep them as corrections of a link by =.",
            )
        one, kind = self._of[_LEFT].compared(link.left, link.preparation)
        other, other_kind = self._of[_RIGHT].compared(link.right, link.preparation)
        self._of[_LEFT].scalars.check_compared(kind, other_kind, said)
        if kind is None or other_kind is None:
            raise NotInSql(f"“{said}” compares a field without any value, which has no type yet.")
        if link.blanks and link.preparation.compare_as:
            raise NotInSql(f"“{said}” tells blanks from what cannot be converted.")
        if link.operator not in _BLANKS:
            one = self._target.in_order(one, kind)
        sign = _BLANKS[link.operator] if link.blanks else _SIGNS[link.operator]
        return sign(this=one, expression=other)

    def _from_left(self) -> exp.Select:
        return exp.Select().from_(self._of[_LEFT].relation())

    def _joined(self, kind: str) -> exp.Select:
        """The rows of both: pairs, and those without partner of the side or sides that `kind` says."""
        if self._take.kind is Taken.EVERY:
            return self._matched(kind)
        return self._through(self._places(), kind)

    def _matched(self, kind: str = "") -> exp.Select:
        """The same where each row takes every match."""
        if self._by_rungs:
            return self._through(self._found(), kind)
        on = self._ons[0].copy()
        return self._from_left().join(self._of[_RIGHT].relation(), on=on, join_type=kind)

    def _through(self, places: exp.Expr, kind: str) -> exp.Select:
        """The rows of both whose places a query gives."""
        first = exp.EQ(this=at(_PAIRS, _PAIR_PLACES[0]), expression=self._place(_LEFT))
        second = exp.EQ(this=at(_PAIRS, _PAIR_PLACES[1]), expression=self._place(_RIGHT))
        joined = self._from_left().join(below(places, _PAIRS), on=first, join_type=kind)
        return joined.join(self._of[_RIGHT].relation(), on=second, join_type=kind)

    @property
    def _both_places(self) -> list[exp.Expr]:
        sides = zip((_LEFT, _RIGHT), _PAIR_PLACES, strict=True)
        return [named(self._place(side), name) for side, name in sides]

    def _found(self) -> exp.Expr:
        """The places of all matches by rungs: of each rung those of left rows that none before it found."""
        found: exp.Expr | None = None
        for number, on in enumerate(self._ons):
            pairs = self._from_left().join(self._of[_RIGHT].relation(), on=on.copy())
            for before in self._ons[:number]:
                by_it = exp.Select().select(exp.Literal.number(1)).from_(self._of[_RIGHT].relation())
                pairs = pairs.where(exp.Not(this=exp.Exists(this=by_it.where(before.copy()))))
            pairs = pairs.select(*self._both_places)
            found = pairs if found is None else exp.Union(this=found, expression=pairs, distinct=False)
        assert found is not None
        return found

    def _places(self) -> exp.Select:
        """Which left row takes which right one: the places of both."""
        made = self._both_places
        joined = self._matched()
        if self._take.kind is Taken.PAIR_OFF:
            return joined.where(exp.EQ(this=self._nth[0], expression=self._nth[1])).select(*made)
        if self._take.expression:
            value, _ = self._of[_RIGHT].scalars.value(self._take.expression)
            joined = joined.where(has_value(value))
        each = below(joined.select(*made, *self._told_apart()), "found")
        names = [at("found", name) for name in _PAIR_PLACES]
        taken: exp.Expr = exp.EQ(this=at("found", "nth"), expression=exp.Literal.number(1))
        if self._take.kind is Taken.ONE:
            several = exp.GT(this=at("found", "nth"), expression=exp.Literal.number(1))
            taken = failing(
                self._target,
                several,
                "Each row must match one at most, and several match ",
                at("found", "of"),
            )
        return exp.Select().select(*names).from_(each).where(taken)

    def _told_apart(self) -> list[exp.Expr]:
        """Columns that tell which of the matches of a left row one is, or how many there are, and of what."""
        own = self._place(_LEFT)
        if self._take.kind is not Taken.ONE:
            return [named(numbered(self._taken_first(), [own]), "nth")]
        count = exp.Window(this=exp.Count(this=exp.Star()), partition_by=[own])
        value, kind = self._of[_LEFT].scalars.value(self._links[0].left)
        text = ARROW_TYPES[FieldType.TEXT]
        if (kind, FieldType.TEXT) in CASTS:
            value = converted(self._target, value, kind, text)
        elif kind is not FieldType.TEXT:
            value = exp.Cast(this=own.copy(), to=self._target.holding(text))
        return [named(count, "nth"), named(value, "of")]

    def _checked(self, holds: exp.Expr) -> exp.Expr:
        """A condition on rows of one side, looked at once each row is known to match one at most."""
        if self._take.kind is not Taken.ONE:
            return holds
        matches = below(self._places(), _PAIRS)
        count = exp.Subquery(this=exp.Select().select(exp.Count(this=exp.Star())).from_(matches))
        known = exp.GTE(this=count, expression=exp.Literal.number(0))
        return exp.Case(ifs=[exp.If(this=known, true=holds)], default=exp.false())

    def _number_matches(self, rung: Rung) -> None:
        """Number the rows of each key: the first of one side goes with the first of the other."""
        equal = all(link.operator is Operator.EQUAL for link in rung.links)
        if self._by_rungs or not equal or (rung.any_of and len(rung.links) > 1):
            raise NotInSql("Rows are paired off in SQL by fields that must all be equal.")
        self._nth = []
        for side, wide in self._of.items():
            nth = numbered([ordered(wide.place)], self._keys(side))
            self._nth.append(wide.with_column("nth", nth))

    def _keys(self, side: str) -> list[exp.Expr]:
        """What the links compare of a side, of each link."""
        of = self._of[side]
        return [
            of.compared(link.left if side == _LEFT else link.right, link.preparation)[0]
            for link in self._links
        ]

    def _taken_first(self) -> list[exp.Expr]:
        by_place = ordered(self._place(_RIGHT), descending=self._take.kind is Taken.LAST)
        if not self._take.expression:
            return [by_place]
        value = self._of[_RIGHT].scalars.in_order(self._take.expression)
        return [ordered(value, descending=self._take.kind is Taken.GREATEST), by_place]

    def _place(self, side: str) -> exp.Expr:
        return self._rows[side].column(self._rows[side].place, side)

    def _pairs(self, plan: Sequence[JoinedField], joined: exp.Select) -> Said:
        order = numbered([ordered(self._place(side)) for side in (_LEFT, _RIGHT)])
        columns = self._columns(plan, (_LEFT, _RIGHT))
        return Said(columns, order, joined, self._open, self._empty(plan), self._all_prepared)

    def _one_side(
        self, plan: Sequence[JoinedField], *, found: bool, left: bool, in_pairs: bool = False
    ) -> Said:
        """Rows of a side that match some row, or none.  in_pairs: that end in a pair, or in none."""
        own, other = (_LEFT, _RIGHT) if left else (_RIGHT, _LEFT)
        exists = exp.Exists(this=self._partners(own, other, in_pairs=in_pairs))
        where: exp.Expr = exists if found else exp.Not(this=exists)
        where = where if in_pairs else self._checked(where)
        rest = exp.Select().from_(self._of[own].relation()).where(where)
        columns = self._columns(plan, (own,))
        return Said(columns, self._place(own), rest, self._open, self._empty(plan), self._all_prepared)

    def _partners(self, own: str, other: str, *, in_pairs: bool) -> exp.Select:
        """The pairs of a row of a side, seen from it."""
        one = exp.Literal.number(1)
        is_any = not in_pairs or self._take.kind is Taken.EVERY
        if is_any and not self._by_rungs:
            return exp.Select().select(one).from_(self._of[other].relation()).where(self._ons[0].copy())
        pairs = below(self._found() if is_any else self._places(), _PAIRS)
        name = _PAIR_PLACES[0] if own == _LEFT else _PAIR_PLACES[1]
        same = exp.EQ(this=at(_PAIRS, name), expression=self._place(own))
        return exp.Select().select(one).from_(pairs).where(same)

    def _left_alone(self, plan: Sequence[JoinedField]) -> Said:
        return self._one_side(plan, found=False, left=True)

    def _right_alone(self, plan: Sequence[JoinedField], *, in_pairs: bool = False) -> Said:
        return self._one_side(plan, found=False, left=False, in_pairs=in_pairs)

    def _columns(self, plan: Sequence[JoinedField], sides: Sequence[str]) -> dict[str, exp.Expr]:
        """What gives each field where rows of these sides are there."""
        made: dict[str, exp.Expr] = {}
        for entry in plan:
            if entry.side in (Of.BOTH, Of.WHICH):
                made[entry.field.name] = self._told(entry, sides)
                continue
            if entry.side not in (Of.LEFT, Of.RIGHT, Of.EITHER, Of.LEFT_FIRST, Of.RIGHT_FIRST):
                raise NotInSql(f"The field “{entry.field.name}”, which says how a row was found, has no SQL.")
            own = {_LEFT: entry.left, _RIGHT: entry.right}
            order = (_RIGHT, _LEFT) if entry.side is Of.RIGHT_FIRST else (_LEFT, _RIGHT)
            values = [self._column(entry, side, own[side]) for side in order if side in sides and own[side]]
            if not values:
                kind = self._type(entry)
                made[entry.field.name] = exp.Cast(this=exp.Null(), to=kind)
            elif entry.side is Of.EITHER and len(values) > 1 and self._is_empty(entry):
                # A blank that matches an empty text stays a blank.
                no_left = exp.If(this=is_null(self._place(_LEFT)), true=values[1])
                made[entry.field.name] = exp.Case(ifs=[no_left], default=values[0])
            else:
                first, *others = values
                made[entry.field.name] = exp.Coalesce(this=first, expressions=others) if others else first
        made |= {teller: self._teller(side, own, sides) for (side, own), teller in self._tellers.items()}
        return made

    def _told(self, entry: JoinedField, sides: Sequence[str]) -> exp.Expr:
        """Whether both sides have a row, or which one has."""
        lacks = {side: is_null(self._place(side)) for side in sides}
        if entry.side is Of.BOTH:
            if len(sides) < 2:
                return exp.Boolean(this=False)
            return exp.and_(*(exp.Not(this=test) for test in lacks.values()))
        texts: list[exp.Expr] = [exp.Literal.string(text) for text in entry.said]
        if len(sides) < 2:
            return exp.Cast(this=texts[0 if sides[0] == _LEFT else 1], to=self._type(entry))
        ifs = [exp.If(this=lacks[_LEFT], true=texts[1]), exp.If(this=lacks[_RIGHT], true=texts[0])]
        said = exp.Case(ifs=ifs, default=texts[2 if len(texts) > 2 else 0])
        return exp.Cast(this=said, to=self._type(entry))

    def _column(self, entry: JoinedField, side: str, name: str) -> exp.Expr:
        rows = self._rows[side]
        own = next(field for field in rows.fields if field.name == name)
        column = rows.column(name, side)
        if own.arrow_type == entry.field.arrow_type:
            return column
        return exp.Cast(this=column, to=self._type(entry))

    def _type(self, entry: JoinedField) -> exp.DataType:
        return self._target.holding(entry.field.arrow_type)

    def _empty(self, plan: Sequence[JoinedField]) -> frozenset[str]:
        """The fields in which a text may be empty."""
        return frozenset(entry.field.name for entry in plan if self._is_empty(entry))

    def _is_empty(self, entry: JoinedField) -> bool:
        return entry.left in self._left.empty or entry.right in self._right.empty

    @property
    def _all_prepared(self) -> tuple[Prepared, ...]:
        return (*self._of[_LEFT].prepared, *self._of[_RIGHT].prepared)
