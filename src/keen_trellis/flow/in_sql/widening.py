"""Rows of a query with more columns than their fields: what they are compared as, and of other rows."""

from __future__ import annotations

import sqlglot.expressions as exp

from keen_trellis.core.link import Preparation
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.made_here import Compared, Making
from keen_trellis.flow.in_sql.rows import (
    PREPARED,
    VALUE,
    NotInSql,
    Prepared,
    SqlRows,
    at,
    below,
    free_column,
    name_apart,
    named,
    passed_on,
    quoted,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget

# Types whose prepared values have a type that is known, and what they are compared as.
_PREPARED = (FieldType.TEXT, FieldType.INTEGER, FieldType.DATE)
_PREPARED_AS = {"": None, "text": FieldType.TEXT, "date": FieldType.DATE}


class Widened:
    """Some rows under a name in a part of a query, with columns besides their own.

    source: the query for them, where they are no part of their own.  scalars: expressions over them.
    prepared: the tables of prepared values that are read for that.
    """

    def __init__(
        self, rows: SqlRows, target: SqlTarget, alias: str = "", source: exp.Select | None = None
    ) -> None:
        self.rows, self.target, self.alias = rows, target, alias or rows.table
        self.scalars = Scalars(rows, target, self.alias)
        self._source = source
        self._taken = {*passed_on(rows), rows.place}
        self._prepared: dict[str, Prepared] = {}
        self._more: dict[str, exp.Expr] = {}

    @property
    def prepared(self) -> tuple[Prepared, ...]:
        return tuple(self._prepared.values())

    @property
    def place(self) -> exp.Expr:
        """What puts them in order."""
        return self.rows.column(self.rows.place, self.alias)

    def compared(self, text: str, preparation: Preparation) -> tuple[exp.Expr, FieldType | None]:
        """What a field or expression is compared as, and its type. NotInSql."""
        _, kind = self.scalars.value(text)
        if not preparation or kind is None:
            return self.scalars.key(text), kind
        if kind not in _PREPARED or preparation.compare_as not in _PREPARED_AS:
            raise NotInSql(f"{text} is {kind.value}, and is compared as a number or prepared otherwise.")
        return self.made_here(text, Compared(preparation)), _PREPARED_AS[preparation.compare_as] or kind

    def made_here(self, text: str, making: Making) -> exp.Column:
        """What is made here of a field or expression whose values are one text each."""
        entry = Prepared(self._table_of(text, making), self.rows.table, text, making)
        name = next((own for own, known in self._prepared.items() if known == entry), None)
        if name is None:
            name = self._free(f"prepared {len(self._prepared) + 1}")
            self._prepared[name] = entry
        return at(self.alias, name)

    def _table_of(self, text: str, making: Making) -> str:
        name, longest = f"{text} of {self.rows.table}, {making}", self.target.longest_name
        is_plain = isinstance(making, Compared) and not making.preparation.corrections
        if not is_plain or (longest is not None and len(name.encode()) > longest):
            return name_apart(name, (text, self.rows.table, making), longest)
        return name

    def with_column(self, name: str, value: exp.Expr) -> exp.Column:
        """A column more, called so or nearly so: of what looks at other rows."""
        free = self._free(name)
        self._more[free] = value
        return at(self.alias, free)

    def _free(self, name: str) -> str:
        free = free_column(name, self._taken)
        self._taken.add(free)
        return free

    def relation(self) -> exp.Expr:
        """They themselves, behind FROM."""
        return self._with_more(self._with_prepared())

    def select(self, where: exp.Expr | None = None) -> exp.Select:
        """A query of them; of those for which something holds, and no others are looked at."""
        if where is None or not self._more:
            made = exp.Select().from_(self.relation())
            return made if where is None else made.where(where)
        return exp.Select().from_(self._with_more(self._with_prepared(), where))

    def _with_prepared(self) -> exp.Expr:
        if not self._prepared:
            return self._own(self.alias)
        rows = self.rows
        columns = [*passed_on(rows).values(), rows.column(rows.place)]
        inner = exp.Select().from_(self._own(rows.table))
        for name, entry in self._prepared.items():
            value, _ = Scalars(rows, self.target).value(entry.text)
            own = exp.EQ(this=at(entry.table, VALUE), expression=value)
            inner = inner.join(exp.Table(this=quoted(entry.table)), on=own, join_type="left")
            columns.append(named(at(entry.table, PREPARED), name))
        return below(inner.select(*columns), self.alias)

    def _own(self, alias: str) -> exp.Expr:
        if self._source is not None:
            return below(self._source, alias)
        return self.rows.relation("" if alias == self.rows.table else alias)

    def _with_more(self, relation: exp.Expr, where: exp.Expr | None = None) -> exp.Expr:
        if not self._more:
            return relation
        columns = [self.rows.column(name, self.alias) for name in (*passed_on(self.rows), self.rows.place)]
        columns += [at(self.alias, name) for name in self._prepared]
        more = (named(value, name) for name, value in self._more.items())
        inner = exp.Select().select(*columns, *more).from_(relation)
        return below(inner if where is None else inner.where(where), self.alias)
