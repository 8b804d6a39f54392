"""What a join compares: pairs of link fields, how both are prepared, with which operator, and which of the
matching rows are taken.
"""

from __future__ import annotations

import enum
from collections.abc import Iterable, Sequence

import msgspec

from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.expressions.expression import Expression
from keen_trellis.core.preparations import PREPARATIONS
from keen_trellis.core.table import Field, find_field
from keen_trellis.core.values import FieldType, comparable

COMPARE_AS = ("text", "number", "date")


class Operator(enum.Enum):
    """How two link fields compare; its value is its sign."""

    EQUAL = "="
    UNEQUAL = "<>"
    LESS = "<"
    AT_MOST = "<="
    GREATER = ">"
    AT_LEAST = ">="

    @property
    def mirrored(self) -> Operator:
        """The operator that says the same with the sides swapped."""
        return _MIRRORED.get(self, self)


_MIRRORED = {
    Operator.LESS: Operator.GREATER,
    Operator.GREATER: Operator.LESS,
    Operator.AT_MOST: Operator.AT_LEAST,
    Operator.AT_LEAST: Operator.AT_MOST,
}


class Preparation(msgspec.Struct, frozen=True):
    """How a link field is prepared before it is compared; the same on both sides.

    compare_as: one of COMPARE_AS, or "" for as it is.  corrections: pairs "read X as Y".
    """

    case: bool = False
    outer_spaces: bool = False
    accents: bool = False
    punctuation: bool = False
    inner_spaces: bool = False
    leading_zeros: bool = False
    compare_as: str = ""
    corrections: tuple[tuple[str, str], ...] = ()

    @staticmethod
    def ignoring(
        names: Iterable[str], compare_as: str = "", corrections: Iterable[tuple[str, str]] = ()
    ) -> Preparation:
        """The preparation that ignores what `names` say; UsageError for an unknown name."""
        wanted = [name.strip() for name in names]
        for name in wanted:
            if name not in PREPARATIONS:
                raise UsageError(
                    f"“{name}” is not something a link can ignore.",
                    remedy=f"It can ignore: {', '.join(PREPARATIONS)}.",
                )
        if compare_as and compare_as not in COMPARE_AS:
            raise UsageError(
                f"Nothing compares as “{compare_as}”.", remedy=f"It can be: {', '.join(COMPARE_AS)}."
            )
        chosen = {name.replace("-", "_"): True for name in wanted}
        return Preparation(compare_as=compare_as, corrections=tuple(corrections), **chosen)

    @property
    def names(self) -> tuple[str, ...]:
        """What is ignored, by name, in the order in which it is applied."""
        return tuple(name for name in PREPARATIONS if getattr(self, name.replace("-", "_")))

    def __bool__(self) -> bool:
        return self != Preparation()


ANY_DISTANCE = "any"
SIDES_OF_NEAR = ("both", "before", "after")


class Likeness(msgspec.Struct, frozen=True):
    """How alike two values must be that need not be equal.

    at_least: of texts, 1 to 100 (see `core.likeness`).  within: of numbers how far apart they may be, of
    moments in days; "any", or "", for any distance.  side: whether the right value may be `before` the left
    one, `after` it or `both`; the same value is both.  best: only the partners that are most alike, or
    nearest.
    """

    at_least: float = 85.0
    within: str = ""
    side: str = "both"
    best: bool = False

    @property
    def swapped(self) -> Likeness:
        """The same seen from the other side; which one is the nearest, a left row says."""
        turned = {"before": "after", "after": "before"}
        return msgspec.structs.replace(self, side=turned.get(self.side, self.side))


class LinkField(msgspec.Struct, frozen=True):
    """One side of the left table compared with one of the right.

    left, right: names of fields, or expressions over one side's fields where the two flags say so.
    blanks: a blank matches a blank (IS [NOT] DISTINCT FROM); with = and <> only.  likeness: they need not be
    equal, but so much alike or so near; with = only.
    """

    left: str
    right: str
    preparation: Preparation = msgspec.field(default_factory=Preparation)
    operator: Operator = Operator.EQUAL
    blanks: bool = False
    left_is_expression: bool = False
    right_is_expression: bool = False
    likeness: Likeness | None = None

    @property
    def as_written(self) -> LinkField:
        """The same link with nothing prepared, and equal values only."""
        return msgspec.structs.replace(self, preparation=Preparation(), likeness=None)

    @property
    def swapped(self) -> LinkField:
        """The same link seen from the other side."""
        return msgspec.structs.replace(
            self,
            left=self.right,
            right=self.left,
            operator=self.operator.mirrored,
            left_is_expression=self.right_is_expression,
            right_is_expression=self.left_is_expression,
            likeness=self.likeness.swapped if self.likeness is not None else None,
        )

    @property
    def is_plain(self) -> bool:
        """Whether both sides are fields as they are."""
        return not (self.left_is_expression or self.right_is_expression)

    @property
    def is_plain_equality(self) -> bool:
        """Whether two fields as they are compare with =."""
        return self.operator is Operator.EQUAL and self.is_plain and self.likeness is None

    def sides(self, left: Sequence[Field], right: Sequence[Field]) -> tuple[Expression, Expression]:
        """Both sides as expressions, one without a type yet as of the other's type; UsageError for an unknown
        field or what does not parse.
        """
        one = _side(self.left, left, "the left table", is_expression=self.left_is_expression)
        other = _side(self.right, right, "the right table", is_expression=self.right_is_expression)
        if one.untyped:
            one = one.held_as(other.arrow_type)
        elif other.untyped:
            other = other.held_as(one.arrow_type)
        return one, other


def _side(text: str, fields: Sequence[Field], table: str, *, is_expression: bool) -> Expression:
    if is_expression:
        return parsed(text, fields)
    return Expression.of_field(find_field(fields, text, table))


def parsed(text: str, fields: Sequence[Field]) -> Expression:
    """The expression that `text` writes over `fields`; UsageError if it writes none."""
    # Imported here: most links need no parser, and the window is up before the first one does.
    from keen_trellis.core.expressions.parsing import parse

    return parse(text, fields)


def value_of(text: str, fields: Sequence[Field]) -> Expression:
    """The field called so, or else the expression that the text writes."""
    for entry in fields:
        if entry.name == text:
            return Expression.of_field(entry)
    return parsed(text, fields)


class Taken(enum.Enum):
    """Which of its matches a left row takes; its value is its name on the command line."""

    EVERY = "every"
    FIRST = "first"
    LAST = "last"
    ONE = "one"
    PAIR_OFF = "pair-off"
    LEAST = "least"
    GREATEST = "greatest"


class Take(msgspec.Struct, frozen=True):
    """Which matches are taken. expression: a field of the right table, or one over its fields, for the least
    and the greatest.
    """

    kind: Taken = Taken.EVERY
    expression: str = ""

    @staticmethod
    def named(text: str) -> Take:
        """What `every`, `first`, `least:EXPRESSION` and so on mean; UsageError for anything else."""
        name, colon, expression = text.partition(":")
        by_value = name in (Taken.LEAST.value, Taken.GREATEST.value)
        if (
            name not in {kind.value for kind in Taken}
            or by_value != bool(colon)
            or by_value != bool(expression.strip())
        ):
            known = ", ".join(
                f"{k.value}:EXPRESSION" if k in (Taken.LEAST, Taken.GREATEST) else k.value for k in Taken
            )
            raise UsageError(f"“{text}” is not a way to take matches.", remedy=f"The ways are: {known}.")
        return Take(Taken(name), expression.strip())

    @property
    def name(self) -> str:
        """As it is named on the command line and in flow files."""
        return f"{self.kind.value}:{self.expression}" if self.expression else self.kind.value


def check_links(links: Sequence[LinkField], left: Sequence[Field], right: Sequence[Field]) -> None:
    """Raise an error of ours unless every link names sides of both tables that can be compared."""
    if not links:
        raise UsageError(
            "The join has no link field yet.", remedy="Choose a field of each side that must be equal."
        )
    if sum(link.likeness is not None for link in links) > 1:
        raise UsageError(
            "Two link fields compare by likeness.",
            remedy="Compare one of them with =, or give the other a rung of its own.",
        )
    for link in links:
        one, other = link.sides(left, right)
        if link.likeness is not None:
            untyped = one.untyped and other.untyped  # then nothing matches, whatever is asked
            _check_likeness(link, link.likeness, None if untyped else (one.type, other.type))
        if link.blanks and link.operator not in (Operator.EQUAL, Operator.UNEQUAL):
            said = f"{link.left} {link.operator.value} {link.right}"
            raise UsageError(f"A blank is neither more nor less than another: {said}.")
        if not link.preparation.compare_as and not comparable(one.type, other.type):
            raise DataError(
                f"{link.left} is {one.type.value} and {link.right} is {other.type.value}: "
                "they can never be equal.",
                remedy=_type_remedy(one.type, other.type),
            )


def _check_likeness(link: LinkField, likeness: Likeness, types: tuple[FieldType, FieldType] | None) -> None:
    said = f"{link.left} with {link.right}"
    if link.operator is not Operator.EQUAL or link.blanks:
        raise UsageError(f"{said} is compared by likeness, and also by {link.operator.value} or as a blank.")
    if types is None:
        return
    left, right = types
    as_text = link.preparation.compare_as == "text" or left is right is FieldType.TEXT
    if link.preparation.compare_as in ("", "text") and as_text:
        if not 1 <= likeness.at_least <= 100:
            raise UsageError(f"{said}: texts are 1 to 100 alike.", remedy="85 is a good one to begin with.")
        if likeness.within or likeness.side != "both":
            raise UsageError(
                f"{said} are texts: they have no distance.", remedy="Say how alike they must be."
            )
        return
    near = (left.is_number and right.is_number) or (left.is_moment and right.is_moment)
    if link.preparation.compare_as or not near:
        raise DataError(
            f"{said}: {left.value} and {right.value} are neither alike nor near.",
            remedy="Compare texts, numbers or dates; or both as text.",
        )
    if likeness.side not in SIDES_OF_NEAR:
        raise UsageError(f"“{likeness.side}” is no side.", remedy=f"It can be {', '.join(SIDES_OF_NEAR)}.")
    if likeness.within in ("", ANY_DISTANCE) and not likeness.best:
        raise UsageError(
            f"{said}: it is not said how near.", remedy="Say within how much, or take the nearest."
        )


def check_take(take: Take, right: Sequence[Field]) -> None:
    """Raise UsageError unless the expression of `take` can be evaluated over the right table."""
    if take.expression:
        value_of(take.expression, right)


def _type_remedy(left: FieldType, right: FieldType) -> str:
    if FieldType.TEXT in (left, right):
        return "Compare both as text, as number or as date, or choose fields of the same type."
    return "Choose fields of the same type, or compare both as text."
