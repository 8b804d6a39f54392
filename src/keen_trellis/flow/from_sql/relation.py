"""What a part of a query can name: its tables, and the fields of a rail that their columns are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.quoting import quoted_name
from keen_trellis.flow.graph import Input
from keen_trellis.flow.kinds import InputShape


class NoCounterpart(Exception):
    """A part of a query that no step does."""


class Scope(msgspec.Struct, frozen=True):
    """A table of a query. columns: by what they are called there the fields of the rail.  hidden: those that
    a name alone does not mean, since another table has the same by USING.
    """

    name: str
    columns: dict[str, str]
    hidden: frozenset[str] = frozenset()


class Relation(msgspec.Struct, frozen=True):
    """Rows of a rail as a query speaks of them."""

    rows: Input
    shape: InputShape
    scopes: tuple[Scope, ...] = msgspec.field(default=())

    def renamed(self, fields: dict[str, str]) -> tuple[Scope, ...]:
        """The tables with fields under other names; those without one are gone."""
        return tuple(
            msgspec.structs.replace(
                scope, columns={own: fields[at] for own, at in scope.columns.items() if at in fields}
            )
            for scope in self.scopes
        )

    def scope(self, name: str) -> Scope:
        """The table that is called so; UsageError if there is none."""
        found = [entry for entry in self.scopes if entry.name == name] or [
            entry for entry in self.scopes if entry.name.casefold() == name.casefold()
        ]
        if not found:
            known = ", ".join(entry.name for entry in self.scopes)
            raise UsageError(f"The query has no table “{name}” here.", remedy=f"It has: {known}.")
        return found[0]

    def names(self, column: exp.Column) -> bool:
        """Whether a column is one of these tables'."""
        try:
            self.field_of(column)
        except UsageError:
            return False
        return True

    def field_of(self, column: exp.Column) -> str:
        """The field of the rail that a column is. UsageError where there is none, or there are several."""
        scopes = [self.scope(column.table)] if column.table else list(self.scopes)
        name, is_quoted = column.name, bool(column.this.args.get("quoted"))
        found = [
            at
            for scope in scopes
            for own, at in scope.columns.items()
            if _same(own, name, is_quoted) and (bool(column.table) or own not in scope.hidden)
        ]
        exact = [at for scope in scopes for own, at in scope.columns.items() if own == name]
        if len(found) > 1 and len(exact) == 1:
            found = exact
        if len(set(found)) == 1:
            return found[0]
        said = column.sql()
        if found:
            raise UsageError(f"“{said}” can be several fields.", remedy="Name its table in the query.")
        known = ", ".join(own for scope in scopes for own in list(scope.columns)[:12])
        raise UsageError(f"There is no field “{said}”.", remedy=f"There are: {known}.")


def _same(own: str, name: str, is_quoted: bool) -> bool:
    """Whether a name in a query means a field: in any case, unless it is quoted."""
    return own == name if is_quoted else own.casefold() == name.casefold()


# --- expressions ---


def resolved(tree: exp.Expr, relation: Relation) -> exp.Expr:
    """The expression with its columns as fields of the rail. UsageError where one is none; NoCounterpart for
    what holds a query of its own.
    """
    if tree.find(exp.Subquery, exp.Select, exp.Exists):
        raise NoCounterpart("a query within an expression")
    if tree.find(exp.Window):
        raise NoCounterpart("a function over a window: number rows (running totals, ranks) does it here")

    def change(node: exp.Expr) -> exp.Expr:
        if isinstance(node, exp.Column):
            return exp.column(relation.field_of(node), quoted=True)
        return node

    made = tree.copy().transform(change)
    # From the innermost outwards: what is put in place of one is not looked into again.
    for node in reversed(list(made.find_all(exp.Length, exp.Mod, exp.DataType))):
        said = _spoken(node)
        if said is not node:
            made = said if node is made else made
            node.replace(said)
    return made


def _spoken(node: exp.Expr) -> exp.Expr:
    """Functions and types that ISO SQL writes otherwise."""
    if isinstance(node, exp.Length):
        return exp.Anonymous(this="CHAR_LENGTH", expressions=[node.this])
    if isinstance(node, exp.Mod):
        return exp.Anonymous(this="MOD", expressions=[node.this, node.expression])
    if isinstance(node, exp.DataType) and node.this == exp.DataType.Type.TEXT:
        return exp.DataType.build("VARCHAR")
    return node


def written(tree: exp.Expr) -> str:
    """A resolved expression as our steps read it."""
    return tree.sql(comments=False)


def plain_field(tree: exp.Expr) -> str:
    """The field that a resolved expression is; "" where it is more than a field."""
    bare = tree.unnest()
    return bare.name if isinstance(bare, exp.Column) and not bare.table else ""


def side_of(tree: exp.Expr) -> tuple[str, bool]:
    """A resolved expression as the side of a link or a key: a field's name, or an expression, and which."""
    name = plain_field(tree)
    return (name, False) if name else (written(tree), True)


def columns_in(tree: exp.Expr) -> Iterator[exp.Column]:
    """The columns of an expression, not those of queries within it."""
    return tree.find_all(exp.Column)


def is_of(tree: exp.Expr, relation: Relation) -> bool:
    """Whether all columns of an expression, and one at least, are of some tables."""
    columns = list(columns_in(tree))
    return bool(columns) and all(relation.names(column) for column in columns)


def conjuncts(tree: exp.Expr | None) -> list[exp.Expr]:
    """The parts of a condition that all must hold."""
    if tree is None:
        return []
    bare = tree.unnest()
    if isinstance(bare, exp.And):
        return [*conjuncts(bare.this), *conjuncts(bare.expression)]
    if isinstance(bare, exp.Between) and not isinstance(bare.this, exp.Literal):
        low, high = bare.args["low"], bare.args["high"]
        if len({column.table for column in columns_in(bare)}) > 1:
            # Each end is a link of its own.
            return [exp.GTE(this=bare.this, expression=low), exp.LTE(this=bare.this.copy(), expression=high)]
    return [bare]


def all_taken(tree: exp.Expr, names: Sequence[str]) -> list[str]:
    """What was written in a part of a query besides the arguments with these names."""
    left = [name for name, value in tree.args.items() if name not in names and value not in (None, False, [])]
    return [name.rstrip("_").replace("_", " ") for name in left]


def quoted(name: str) -> str:
    """A field's name as an expression writes it."""
    return quoted_name(name)
