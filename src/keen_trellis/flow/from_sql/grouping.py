"""GROUP BY and the measures of a query, as the keys and measures of a summary."""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot.expressions as exp

from keen_trellis.core.measures import Function
from keen_trellis.flow.from_sql.relation import NoCounterpart, side_of, written
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.steps.summarise import MeasureSettings, measure_name

_FUNCTIONS: dict[type[exp.Expr], Function] = {
    exp.Sum: Function.SUM,
    exp.Avg: Function.MEAN,
    exp.Min: Function.LEAST,
    exp.Max: Function.GREATEST,
    exp.Median: Function.MEDIAN,
}


def measures_in(tree: exp.Expr) -> Iterator[exp.Expr]:
    """The outermost measures of an expression, with their filters."""
    for node in tree.walk(prune=lambda node: isinstance(node, exp.AggFunc | exp.Filter)):
        if isinstance(node, exp.AggFunc | exp.Filter):
            yield node


class Groups:
    """The groups of a query. keys, measures: of the summary; each part of an expression that is one of them
    is a field of its rows.
    """

    def __init__(self, keys: list[exp.Expr]) -> None:
        self._named: list[tuple[exp.Expr, str]] = []
        self.keys: list[str] = []
        self.measures: list[MeasureSettings] = []
        for key in keys:
            text, _ = side_of(key)
            if text not in self.keys:
                self.keys.append(text)
                self._named.append((key.unnest(), text))

    def add(self, tree: exp.Expr, alias: str = "") -> None:
        """Measure what a resolved expression needs. NoCounterpart for a function that is no measure here."""
        for found in measures_in(tree):
            if any(entry == found for entry, _ in self._named):
                continue
            function, of = _measured(found)
            taken = {*self.keys, *(entry.name for entry in self.measures)}
            is_all = tree.unnest() == found
            name = free_name((alias if is_all else "") or measure_name(function, of), taken)
            self.measures.append(MeasureSettings(name, function.value, of))
            self._named.append((found.copy(), name))

    def within(self, tree: exp.Expr) -> exp.Expr:
        """A resolved expression over the rows of the summary. NoCounterpart where it needs other fields."""

        def change(node: exp.Expr) -> exp.Expr:
            name = next((name for entry, name in self._named if entry == node), None)
            if name is None:
                return node
            made = exp.column(name, quoted=True)
            made.meta["of group"] = True
            return made

        made = tree.copy().transform(change)
        for column in made.find_all(exp.Column):
            if not column.meta.get("of group"):
                raise NoCounterpart(f"“{column.name}”, which is neither a key of the groups nor measured")
        return made


def _measured(tree: exp.Expr) -> tuple[Function, str]:
    """A measure as its function, and what it is made of."""
    condition = None
    if isinstance(tree, exp.Filter):
        condition, tree = tree.expression.this, tree.this
    inner = tree.this
    is_distinct = isinstance(inner, exp.Distinct)
    if is_distinct:
        if len(inner.expressions) != 1:
            raise NoCounterpart(f"“{tree.sql()}”, of several fields at once")
        inner = inner.expressions[0]
    if isinstance(tree, exp.Count):
        of = "" if isinstance(inner, exp.Star | exp.Literal) else side_of(inner)[0]
        function = Function.COUNT_DISTINCT if is_distinct else Function.COUNT
        if is_distinct and not of:
            raise NoCounterpart(f"“{tree.sql()}”")
    elif type(tree) in _FUNCTIONS:
        function, of = _FUNCTIONS[type(tree)], side_of(inner)[0]
        if is_distinct and function not in (Function.LEAST, Function.GREATEST):
            raise NoCounterpart(f"“{tree.sql()}”, which measures each value once")
    else:
        raise NoCounterpart(f"“{tree.sql()}”: there is no such measure")
    if condition is not None:
        value = written(inner) if of else "1"
        of = f"CASE WHEN {written(condition)} THEN {value} END"
    return function, of
