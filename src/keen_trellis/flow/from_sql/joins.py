"""The tables of a query and how they are joined: each join is a knot, with its condition as links."""

from __future__ import annotations

import sqlglot.expressions as exp

from keen_trellis.core.errors import UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.flow.from_sql.relation import Relation, conjuncts, is_of, resolved, side_of
from keen_trellis.flow.steps.join import LinkSettings

_OPERATORS: dict[type[exp.Expr], str] = {
    exp.EQ: "=",
    exp.NEQ: "<>",
    exp.LT: "<",
    exp.LTE: "<=",
    exp.GT: ">",
    exp.GTE: ">=",
}
_TURNED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}
_TYPES = {
    ("", ""): JoinType.INNER,
    ("", "INNER"): JoinType.INNER,
    ("LEFT", ""): JoinType.LEFT_OUTER,
    ("LEFT", "OUTER"): JoinType.LEFT_OUTER,
    ("RIGHT", ""): JoinType.RIGHT_OUTER,
    ("RIGHT", "OUTER"): JoinType.RIGHT_OUTER,
    ("FULL", ""): JoinType.FULL_OUTER,
    ("FULL", "OUTER"): JoinType.FULL_OUTER,
    ("", "CROSS"): JoinType.CROSS,
    ("LEFT", "SEMI"): JoinType.LEFT_SEMI,
    ("", "SEMI"): JoinType.LEFT_SEMI,
    ("LEFT", "ANTI"): JoinType.LEFT_ANTI,
    ("", "ANTI"): JoinType.LEFT_ANTI,
}


def type_of(join: exp.Join) -> JoinType:
    """The join type that a query asks for; UsageError for one that is none here."""
    asked = (join.side.upper(), join.kind.upper())
    if asked not in _TYPES or join.args.get("method"):
        words = [part for part in (str(join.args.get("method") or ""), *asked) if part]
        raise UsageError(
            f"A join like “{' '.join(words)} JOIN” has no counterpart here.",
            remedy="Say with ON or USING what must be equal, and which rows are kept.",
        )
    return _TYPES[asked]


def link_of(tree: exp.Expr, left: Relation, right: Relation) -> LinkSettings | None:
    """A condition between two tables as a link; None for one that is none."""
    bare = tree.unnest()
    if isinstance(bare, exp.NullSafeEQ):
        operator, blanks = "=", True
    elif isinstance(bare, exp.NullSafeNEQ):
        operator, blanks = "<>", True
    elif type(bare) in _OPERATORS:
        operator, blanks = _OPERATORS[type(bare)], False
    else:
        return None
    one, other = bare.this, bare.expression
    if is_of(one, right) and is_of(other, left) and not (is_of(one, left) and is_of(other, right)):
        one, other, operator = other, one, _TURNED.get(operator, operator)
    if not (is_of(one, left) and is_of(other, right)):
        return None
    ours, ours_is = side_of(resolved(one, left))
    theirs, theirs_is = side_of(resolved(other, right))
    return LinkSettings(
        ours,
        theirs,
        operator=operator,
        blank_matches_blank=blanks,
        left_is_expression=ours_is,
        right_is_expression=theirs_is,
    )


def alternatives(tree: exp.Expr) -> list[exp.Expr]:
    """The parts of a condition one of which is enough; one where it is no such condition."""
    bare = tree.unnest()
    if isinstance(bare, exp.Or):
        return [*alternatives(bare.this), *alternatives(bare.expression)]
    return [bare]


class Condition:
    """The condition of a join taken apart. links: between the two tables; any_of: one is enough.  of_left,
    of_right: what only speaks of one of them.  rest: what neither does.
    """

    def __init__(self, tree: exp.Expr | None, left: Relation, right: Relation) -> None:
        self.links: list[LinkSettings] = []
        self.any_of = False
        self.of_left: list[exp.Expr] = []
        self.of_right: list[exp.Expr] = []
        self.rest: list[exp.Expr] = []
        parts = conjuncts(tree)
        if len(parts) == 1 and len(alternatives(parts[0])) > 1:
            found = [link_of(entry, left, right) for entry in alternatives(parts[0])]
            if all(link is not None for link in found):
                self.links, self.any_of = [link for link in found if link is not None], True
                return
        for part in parts:
            link = link_of(part, left, right)
            if link is not None:
                self.links.append(link)
            elif is_of(part, right) and not is_of(part, left):
                self.of_right.append(part)
            elif is_of(part, left):
                self.of_left.append(part)
            elif not _is_true(part):
                self.rest.append(part)


def _is_true(tree: exp.Expr) -> bool:
    bare = tree.unnest()
    one = isinstance(bare, exp.EQ) and isinstance(bare.this, exp.Literal) and bare.this == bare.expression
    return one or (isinstance(bare, exp.Boolean) and bool(bare.this))
