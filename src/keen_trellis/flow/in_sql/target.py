"""The databases whose SQL a flow can be said in."""

from __future__ import annotations

from dataclasses import dataclass, field

import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.held import scale_of
from keen_trellis.core.values import FieldType, type_of_arrow
from keen_trellis.flow.in_sql.rows import NotInSql

_SQL_TYPES = {
    FieldType.TEXT: "VARCHAR",
    FieldType.INTEGER: "BIGINT",
    FieldType.REAL: "DOUBLE PRECISION",
    FieldType.BOOLEAN: "BOOLEAN",
    FieldType.DATE: "DATE",
    FieldType.TIME: "TIME",
    FieldType.TIMESTAMP: "TIMESTAMP",
}


@dataclass(frozen=True)
class SqlTarget:
    """A database, or the standard itself.

    name: what it is called on the command line.  dialect: sqlglot's.  collation: by which texts stand in the
    order of their code points, "" where they always do.  longest_name: of a column or table in bytes, None
    for no limit.  folds_names: whether names that differ in case only are one.  lists_by: how the values of
    a group are listed: "order" in it, "within group", or "" for not at all.  says_days_by: the function
    and pattern that make a date a text, whatever a session has set.  casts_strictly: whether a text that is
    no number is an error where one is made of it.  others: what it computes otherwise.  divides_by:
    how it divides texts into rows, "" for not at all.  recurses: whether a query may read what it makes.
    types: those that it
    calls otherwise than the standard, "" for one that it has not.
    """

    name: str
    dialect: str
    collation: str = ""
    longest_name: int | None = None
    folds_names: bool = False
    lists_by: str = ""
    says_days_by: tuple[str, str] | None = None
    casts_strictly: bool = True
    divides_by: str = ""
    recurses: bool = True
    others: tuple[type[exp.Expr], ...] = ()
    types: dict[FieldType, str] = field(default_factory=dict, hash=False)

    def type_of(self, kind: FieldType, scale: int = 0) -> exp.DataType:
        """How it calls a type; decimals have 38 digits. NotInSql for one that it has not."""
        if not self.has_type(kind):
            raise NotInSql(f"{self.name} has no type {kind.value}.")
        if kind is FieldType.DECIMAL:
            return exp.DataType.build(f"DECIMAL(38, {scale})")
        return exp.DataType.build(self.types.get(kind, _SQL_TYPES[kind]), dialect=self.dialect or None)

    def has_type(self, kind: FieldType) -> bool:
        """Whether it has values of a type."""
        return self.types.get(kind, kind.value) != ""

    def holding(self, kind: pa.DataType) -> exp.DataType:
        """Its type for what is held here so."""
        return self.type_of(type_of_arrow(kind), scale_of(kind))

    def in_order(self, value: exp.Expr, kind: FieldType | None) -> exp.Expr:
        """A value as it is ordered."""
        if kind is FieldType.TEXT and self.collation:
            return exp.Collate(this=value, expression=exp.to_identifier(self.collation, quoted=True))
        return value

    def day_as_text(self, value: exp.Expr) -> exp.Expr:
        """A date as 2026-05-31."""
        if self.says_days_by is None:
            return exp.Cast(this=value, to=self.type_of(FieldType.TEXT))
        name, pattern = self.says_days_by
        return exp.Anonymous(this=name, expressions=[value, exp.Literal.string(pattern)])

    def written(self, tree: exp.Expr) -> str:
        """SQL as it takes it, laid out to be read."""
        return tree.sql(dialect=self.dialect or None, pretty=True, identify=True)


ANSI = SqlTarget("ansi", "")
POSTGRESQL = SqlTarget(
    "postgresql",
    "postgres",
    collation="C",
    longest_name=63,
    lists_by="order",
    says_days_by=("TO_CHAR", "YYYY-MM-DD"),
    divides_by="array",
    types={FieldType.TEXT: "TEXT"},
)
SPARK = SqlTarget(
    "spark",
    "spark",
    folds_names=True,
    lists_by="within group",
    divides_by="pattern",
    recurses=False,
    types={FieldType.TEXT: "STRING", FieldType.TIMESTAMP: "TIMESTAMP_NTZ", FieldType.TIME: ""},
)
# It tells no case apart in LIKE, takes what is too large for a whole number as a real, ends texts at the
# character NUL, and has no dates: they stand as texts that are written as the standard writes them.
SQLITE = SqlTarget(
    "sqlite",
    "sqlite",
    folds_names=True,
    casts_strictly=False,
    recurses=False,
    others=(
        exp.Like,
        exp.Add,
        exp.Sub,
        exp.Mul,
        exp.Div,
        exp.IntDiv,
        exp.Neg,
        exp.Length,
        exp.Substring,
        exp.Extract,
        exp.Interval,
    ),
    types={
        FieldType.TEXT: "TEXT",
        FieldType.DATE: "TEXT",
        FieldType.REAL: "",
        FieldType.DECIMAL: "",
        FieldType.TIME: "",
        FieldType.TIMESTAMP: "",
    },
)
TARGETS = {target.name: target for target in (ANSI, POSTGRESQL, SPARK, SQLITE)}


def target_named(name: str) -> SqlTarget:
    """The target that is called so; UsageError if there is none."""
    if name not in TARGETS:
        raise UsageError(f"There is no dialect “{name}”.", remedy=f"There are: {', '.join(TARGETS)}.")
    return TARGETS[name]
