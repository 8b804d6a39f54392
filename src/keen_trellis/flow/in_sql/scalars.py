"""Fields and expressions over some rows as SQL."""

from __future__ import annotations

import sqlglot.expressions as exp

from keen_trellis.core.expressions.parsing import parsed_tree
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.columns import Columns
from keen_trellis.flow.in_sql.saying import Saying


class Scalars(Columns):
    """Expressions over some rows, for a target."""

    def value(self, text: str) -> tuple[exp.Expr, FieldType | None]:
        """A field, or else an expression, and its type; None where it is always blank."""
        for entry in self.rows.fields:
            if entry.name == text:
                return self.column(text), None if entry.untyped else entry.type
        read = parsed_tree(text, self.rows.fields)
        return Saying(self, read).said(read.tree), read.nodes[id(read.tree)].type

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

    def in_order(self, text: str) -> exp.Expr:
        """A value as it is ordered."""
        return self.target.in_order(*self.value(text))
