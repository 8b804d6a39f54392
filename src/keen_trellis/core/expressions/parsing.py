"""Text to an expression: tokens are allow-listed, sqlglot parses, the nodes of its tree are allow-listed."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from functools import lru_cache
from typing import Any, ClassVar, TypeVar

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import Tokenizer as SqlTokenizer
from sqlglot import exp
from sqlglot.dialects.dialect import Dialect
from sqlglot.errors import ErrorLevel, SqlglotError
from sqlglot.tokenizer_core import Token, TokenType

from keen_trellis.core.day import today
from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions import arithmetic, conditions, functions, held, moments, text
from keen_trellis.core.expressions.expression import Expression, Node
from keen_trellis.core.expressions.instead import function_instead, sign_instead
from keen_trellis.core.table import Field, find_field
from keen_trellis.core.text_size import replaced
from keen_trellis.core.values import ARROW_TYPES, FieldType


def _listed(text: str) -> tuple[str, ...]:
    return tuple(text.split())


FUNCTIONS = _listed(
    """CAST COALESCE NULLIF UPPER LOWER TRIM SUBSTRING POSITION CHAR_LENGTH CHARACTER_LENGTH REPLACE ABS
    ROUND FLOOR CEILING CEIL MOD EXTRACT PARTNER_FOUND GREATEST LEAST SIGN POWER SQRT LPAD RPAD OVERLAY"""
)
_WORDS = _listed(
    """AND OR NOT IS DISTINCT NULL IN BETWEEN LIKE ESCAPE CASE WHEN THEN ELSE END AS TRUE FALSE FROM FOR
    LEADING TRAILING BOTH PLACING INTERVAL LIKE_REGEX CURRENT_DATE DATE TIME TIMESTAMP YEAR MONTH DAY HOUR
    MINUTE SECOND INTEGER INT BIGINT SMALLINT DECIMAL NUMERIC DEC REAL FLOAT DOUBLE PRECISION VARCHAR CHAR
    CHARACTER VARYING BOOLEAN"""
)
# sqlglot takes two words for one token in places.
_PAIRS = ("DOUBLE PRECISION", "CHARACTER VARYING")
_SIGNS = {"+", "-", "*", "/", "||", "=", "<>", "<", "<=", ">", ">=", "(", ")", ",", "."}
_TYPES = {
    exp.DataType.Type.INT: FieldType.INTEGER,
    exp.DataType.Type.BIGINT: FieldType.INTEGER,
    exp.DataType.Type.SMALLINT: FieldType.INTEGER,
    exp.DataType.Type.DECIMAL: FieldType.DECIMAL,
    exp.DataType.Type.FLOAT: FieldType.REAL,
    exp.DataType.Type.DOUBLE: FieldType.REAL,
    exp.DataType.Type.VARCHAR: FieldType.TEXT,
    exp.DataType.Type.TEXT: FieldType.TEXT,
    exp.DataType.Type.BOOLEAN: FieldType.BOOLEAN,
    exp.DataType.Type.DATE: FieldType.DATE,
    exp.DataType.Type.TIME: FieldType.TIME,
    exp.DataType.Type.TIMESTAMP: FieldType.TIMESTAMP,
}
_COMPARISONS = {exp.EQ: "=", exp.NEQ: "<>", exp.LT: "<", exp.LTE: "<=", exp.GT: ">", exp.GTE: ">="}
_ARITHMETIC = {exp.Mul: "*", exp.Div: "/", exp.Mod: "MOD"}
_TYPES_SAID = "CAST AS INTEGER, DECIMAL(10, 2), REAL, VARCHAR, BOOLEAN, DATE, TIME or TIMESTAMP."
_MOST_CHARACTERS = 10_000
_DIFFERENCE = "INTERVAL_BETWEEN"  # how the interval between two moments is handed to sqlglot
_2ND = "expression"  # how sqlglot calls the second side of an operator
Made = TypeVar("Made")


class _Scalar(Dialect):
    """SQL without statements: a field may be called comment, or show, as statements begin."""

    class Tokenizer(SqlTokenizer):
        """No word makes the rest of a text a command."""

        COMMANDS: ClassVar[set[TokenType]] = set()


_SCALAR = _Scalar()


def parse(
    text: str,
    fields: Sequence[Field],
) -> Expression:
    """The expression that `text` writes, over `fields`.

    CURRENT_DATE is the day of the computation (see `core.day`).  PARTNER_FOUND asks for the tables from which
    joins took the fields.

    UsageError, pointing into the text, for what does not parse, is not allowed or does not fit together.
    """
    reader, _, node = _read(text, fields)
    untyped = node.type is None
    if untyped:
        node = held.as_type(node, held.TEXT)
    return Expression(text, tuple(reader.names), node, untyped=untyped)


class Parsed(msgspec.Struct, frozen=True):
    """An expression as a tree of sqlglot's, which must not be changed, and what its parts mean.

    nodes: by the id of a part of the tree what computes it.  fields: by the id of a name its field.
    """

    tree: exp.Expression
    nodes: Mapping[int, Node]
    fields: Mapping[int, Field]


def parsed_tree(text: str, fields: Sequence[Field]) -> Parsed:
    """The tree of an expression with the types of its parts. Errors as `parse`."""
    reader, tree, _ = _read(text, fields)
    return Parsed(tree, reader.nodes, reader.meant)


def _read(text: str, fields: Sequence[Field]) -> tuple[_Reader, exp.Expression, Node]:
    if not text.strip():
        raise UsageError("The expression is empty.")
    if len(text) > _MOST_CHARACTERS:
        raise UsageError(f"The expression has {len(text):,} characters; the limit is {_MOST_CHARACTERS:,}.")
    reader = _Reader(text, fields, today())
    try:
        tree = _tree(text)
        return reader, tree, reader.read(tree)
    except RecursionError as error:
        raise UsageError("The expression is nested too deeply.") from error


@lru_cache(maxsize=1_024)
def _tree(text: str) -> Any:
    """What is written, as sqlglot reads it. It is only looked at: the next who asks gets the same."""
    try:
        tokens = _SCALAR.tokenize(text)
        _check_tokens(tokens, text)
        spoken = _spoken(text, tokens)
        parsed = _SCALAR.parse_into(exp.Condition, spoken, error_level=ErrorLevel.IMMEDIATE)
    except (SqlglotError, RecursionError) as error:
        raise _pointing(text, error) from error
    if len(parsed) != 1 or parsed[0] is None:
        raise UsageError(f"“{text}” is not one expression.")
    return parsed[0]


def _check_tokens(tokens: Sequence[Token], text: str) -> None:
    if not tokens:
        raise UsageError(f"“{text}” is nothing but a comment.")
    for token, following in zip(tokens, [*tokens[1:], None], strict=True):
        word = " ".join(token.text.upper().split())
        if token.comments:
            raise UsageError(f"“{text}” holds a comment.", remedy="Say it in the step's note.")
        if token.token_type in (TokenType.STRING, TokenType.NUMBER, TokenType.IDENTIFIER):
            continue
        written = text[token.start : token.end + 1]
        if token.token_type is TokenType.VAR and not (following and following.text == "("):
            continue
        if word in _SIGNS and written == token.text:
            continue
        called = following is not None and following.text == "("
        if not (called and function_instead(word)) and (
            word in FUNCTIONS or word in _WORDS or word in _PAIRS
        ):
            continue
        if called:
            raise UsageError(
                f"There is no function {written} (character {token.start + 1:,}).",
                remedy=function_instead(word) or f"The functions are: {', '.join(FUNCTIONS)}.",
            )
        if written.replace("_", "").isalnum():
            continue  # a word that is no keyword here is a field's name
        raise UsageError(
            f"“{written}” has no meaning in an expression (character {token.start + 1:,}).",
            remedy=sign_instead(written)
            or "Write names of fields with other characters than letters in double quotes.",
        )


def _spoken(text: str, tokens: Sequence[Token]) -> str:
    """The text as sqlglot can read it: it has another word for LIKE_REGEX, and none for `(a - b) UNIT`."""
    changes: list[tuple[int, int, str]] = []
    opened: list[int] = []
    for place, token in enumerate(tokens):
        if token.text.upper() == "LIKE_REGEX" and token.token_type is TokenType.VAR:
            changes.append((token.start, token.end + 1, "RLIKE"))
        elif token.token_type is TokenType.L_PAREN:
            opened.append(place)
        elif token.token_type is TokenType.R_PAREN and opened:
            start = opened.pop()
            unit = tokens[place + 1] if place + 1 < len(tokens) else None
            called = start > 0 and tokens[start - 1].token_type is TokenType.VAR
            if unit is not None and unit.text.upper() in moments.UNITS and not called:
                said = f"{_DIFFERENCE}('{unit.text.upper()}', "
                changes.append((tokens[start].start, tokens[start].end + 1, said))
                changes.append((unit.start, unit.end + 1, ""))
    for start, end, said in sorted(changes, reverse=True):
        text = text[:start] + said + text[end:]
    return text


def _pointing(text: str, error: Exception) -> UsageError:
    found = getattr(error, "errors", None)
    if found and found[0].get("col"):
        place, near = found[0]["col"], found[0].get("highlight") or ""
        return UsageError(
            f"“{text}” cannot be read at character {place:,}{f', near “{near}”' if near else ''}.",
            remedy="A field that is called as a word of SQL is written in double quotes."
            if near.isalpha()
            else "",
        )
    return UsageError(
        f"“{text}” cannot be read as an expression.", remedy="Is a quotation mark or bracket open?"
    )


class _Parts:
    """The arguments of one node of sqlglot's tree. Each must be taken: what was written and is not read would
    be a wrong answer that nothing announces.
    """

    def __init__(self, tree: exp.Expression) -> None:
        self._tree, self._left = tree, dict(tree.args)

    @property
    def of(self) -> int:
        """The id of the node."""
        return id(self._tree)

    def take(self, name: str) -> Any:
        """The argument called `name`, None if there is none."""
        return self._left.pop(name, None)

    def check(self) -> None:
        """Raise UsageError if an argument was written that nobody has taken."""
        left = [name for name, value in self._left.items() if value is not None and value not in (False, [])]
        if left:
            raise UsageError(
                f"{self._tree.key.upper()} has a part that is not computed here: {', '.join(left)}.",
                remedy="Leave it out, or write the expression another way.",
            )


class _Reader:
    """Turns sqlglot's tree into nodes that compute, with their types."""

    def __init__(self, text: str, fields: Sequence[Field], today: dt.date) -> None:
        self._text, self._fields, self._today = text, fields, today
        self.names: dict[str, None] = {}
        self.nodes: dict[int, Node] = {}
        self.meant: dict[int, Field] = {}

    def read(self, tree: Any) -> Node:
        """The node of a part of the tree."""
        found = _READERS.get(type(tree))
        if found is None:
            part = tree.sql() if isinstance(tree, exp.Expression) else str(tree)
            raise UsageError(
                f"“{part}” cannot be used in an expression.",
                remedy="Expressions are those of one row: no SELECT, no sums over rows.",
            )
        node = self.nodes[id(tree)] = self._whole(tree, lambda parts: found(self, parts))
        return node

    def _whole(self, tree: exp.Expression, read: Callable[[_Parts], Made]) -> Made:
        """What `read` makes of a node, all arguments of which it must take."""
        parts = _Parts(tree)
        made = read(parts)
        parts.check()
        return made

    def _next(self, parts: _Parts, name: str = "this") -> Node:
        return self.read(parts.take(name))

    def _condition(self, parts: _Parts, what: str, name: str = "this") -> Node:
        return conditions.condition(self._next(parts, name), what)

    def _text_of(self, tree: Any, what: str) -> str:
        return text.literal_text(self.read(tree), what)

    def _column(self, parts: _Parts) -> Node:
        table = parts.take("table")
        if table is not None:
            raise UsageError(
                f"“{table}.…” has a point in it.", remedy="Write names of fields in double quotes."
            )
        return self._next(parts)

    def _field(self, parts: _Parts) -> Node:
        name, of = parts.take("this"), parts.of
        if not parts.take("quoted") and all(entry.name != name for entry in self._fields):
            # Unquoted names fold their case in SQL; they mean the one field that is called so.
            alike = [entry.name for entry in self._fields if entry.name.casefold() == name.casefold()]
            if len(alike) == 1:
                name = alike[0]
        field = find_field(self._fields, name, f"“{self._text}”")
        self.names[field.name] = None
        self.meant[of] = field
        kind = field.arrow_type
        if field.untyped:
            return held.constant(None, pa.null())
        if not pa.types.is_decimal(kind):
            return Node(kind, lambda rows: rows.values(field.name))
        return held.as_type(Node(kind, lambda rows: rows.values(field.name)), held.decimal(kind.scale))

    def _literal(self, parts: _Parts) -> Node:
        written = parts.take("this")
        if parts.take("is_string"):
            return held.constant(written, held.TEXT)
        try:
            if written.isdecimal():
                return held.constant(int(written), held.INTEGER)
            if "e" in written.lower():
                return held.constant(float(written), held.REAL)
            value = Decimal(written)
            return held.constant(value, held.decimal(-int(value.as_tuple().exponent)))
        except (pa.ArrowInvalid, OverflowError, ValueError, ArithmeticError) as error:
            raise UsageError(f"The number {_shortened(written)} is too large.") from error

    def _negative(self, parts: _Parts) -> Node:
        # The least integer is no positive number with a minus before it.
        inner = parts.take("this")
        if isinstance(inner, exp.Literal) and inner.name == str(2**63):
            return held.constant(-(2**63), held.INTEGER)
        return arithmetic.negated(self.read(inner))

    def _is(self, parts: _Parts) -> Node:
        what = parts.take("expression")
        if isinstance(what, exp.Boolean):
            said = "IS TRUE" if what.this else "IS FALSE"
            return conditions.is_truth(self._condition(parts, said), bool(what.this))
        if not isinstance(what, exp.Null):
            raise UsageError("IS is for NULL, TRUE and FALSE here.", remedy="Compare with = instead.")
        return conditions.is_null(self._next(parts))

    def _in(self, parts: _Parts) -> Node:
        entries = parts.take("expressions")
        if not entries:
            raise UsageError("IN takes a list of values in brackets.")
        value = self._next(parts)
        found = [conditions.comparison("=", value, self.read(entry)) for entry in entries]
        while len(found) > 1:
            # By halves, so that long lists nest no deeper than need be.
            pairs = [conditions.either(*found[at : at + 2]) for at in range(0, len(found) - 1, 2)]
            found = pairs + found[2 * len(pairs) :]
        return found[0]

    def _between(self, parts: _Parts) -> Node:
        value, ends = self._next(parts), [self._next(parts, name) for name in ("low", "high")]

        def between(low: Node, high: Node) -> Node:
            return conditions.both(
                conditions.comparison(">=", value, low), conditions.comparison("<=", value, high)
            )

        # SQL:2016, 8.3: SYMMETRIC is true where either order of the two ends is.
        return (
            conditions.either(between(*ends), between(*ends[::-1]))
            if parts.take("symmetric")
            else between(*ends)
        )

    def _like(self, parts: _Parts, escape: str = "") -> Node:
        pattern = self._text_of(parts.take("expression"), "LIKE")
        found = conditions.like(self._next(parts), pattern, escape)
        return conditions.inverted(found) if parts.take("negate") else found

    def _escaped(self, parts: _Parts) -> Node:
        escape = self._text_of(parts.take("expression"), "ESCAPE")
        if len(escape) != 1:
            raise UsageError("ESCAPE takes one character.")
        inner = parts.take("this")
        if not isinstance(inner, exp.Like):
            raise UsageError("ESCAPE belongs to LIKE.")
        return self._whole(inner, lambda like: self._like(like, escape))

    def _joined_text(self, parts: _Parts) -> Node:
        parts.take("safe")  # how this dialect's blanks behave, nothing that was written
        return text.joined_text(self._next(parts), self._next(parts, _2ND))

    def _case(self, parts: _Parts) -> Node:
        tree = parts.take("this")
        value = self.read(tree) if tree is not None else None

        def branch(of: _Parts) -> tuple[Node, Node]:
            test, then = self._next(of), self._next(of, "true")
            return (test if value is None else conditions.comparison("=", value, test)), then

        branches = [self._whole(entry, branch) for entry in parts.take("ifs")]
        default = parts.take("default")
        return conditions.case(branches, self.read(default) if default is not None else None)

    def _coalesce(self, parts: _Parts) -> Node:
        first, others = self._next(parts), parts.take("expressions") or []
        return conditions.coalesce([first, *map(self.read, others)])

    def _cast(self, parts: _Parts) -> Node:
        node = self._next(parts)
        tree = parts.take("to")
        if not isinstance(tree, exp.DataType):
            raise UsageError(f"There is no type {tree.sql()}.", remedy=_TYPES_SAID)
        to, sizes = self._whole(tree, self._type_and_sizes)
        if to is FieldType.DECIMAL:
            digits, scale = (*sizes, 0)[:2] if sizes else (38, held.scale_of(node.arrow_type))
            if len(sizes) > 2 or not 1 <= digits <= 38 or not 0 <= scale <= digits:
                raise UsageError("A decimal has 1 to 38 digits, no more of them after the point.")
            made = held.cast(node, pa.decimal128(digits, scale))
            return held.as_type(made, held.decimal(scale))
        if not sizes:
            return held.cast(node, ARROW_TYPES[to])
        if to is not FieldType.TEXT or len(sizes) > 1:
            raise UsageError(f"The type {tree.sql()} takes no size here.", remedy=_TYPES_SAID)
        if not 1 <= sizes[0] <= held.LONGEST_VARCHAR:
            raise UsageError(f"The length of a VARCHAR is 1 to {held.LONGEST_VARCHAR:,}.")
        return held.cast(node, ARROW_TYPES[to], sizes[0])

    def _type_and_sizes(self, parts: _Parts) -> tuple[FieldType, list[int]]:
        named = parts.take("this")
        to = _TYPES.get(named)
        if to is None:
            raise UsageError(f"There is no type {getattr(named, 'value', named)}.", remedy=_TYPES_SAID)
        return to, [self._whole(size, self._size) for size in parts.take("expressions") or ()]

    def _size(self, parts: _Parts) -> int:
        return _plain_number(parts.take("this"), "The size of a type")

    def _length(self, parts: _Parts) -> Node:
        def length(values: pa.Array) -> pa.Array:
            return pc.utf8_length(values).cast(held.INTEGER)

        return text.on_text(length, self._next(parts), "CHAR_LENGTH", held.INTEGER)

    def _trim(self, parts: _Parts) -> Node:
        tree = parts.take("expression")
        letters = " " if tree is None else self._text_of(tree, "TRIM")
        trims = {"LEADING": pc.utf8_ltrim, "TRAILING": pc.utf8_rtrim, "BOTH": pc.utf8_trim}
        trim = trims[str(parts.take("position") or "BOTH").upper()]
        if not letters:
            raise UsageError("TRIM needs a character to take off.")
        return text.on_text(lambda values: trim(values, characters=letters), self._next(parts), "TRIM")

    def _substring(self, parts: _Parts) -> Node:
        start, length = parts.take("start"), parts.take("length")
        first = held.constant(1, held.INTEGER) if start is None else self.read(start)
        return text.substring(self._next(parts), first, None if length is None else self.read(length))

    def _replace(self, parts: _Parts) -> Node:
        old = self._text_of(parts.take("expression"), "REPLACE")
        written = parts.take("replacement")
        new = self._text_of(written, "REPLACE") if written is not None else ""
        if not old:
            return text.of_text(self._next(parts), "REPLACE")
        return text.on_text(lambda values: replaced(values, old, new), self._next(parts), "REPLACE")

    def _round(self, parts: _Parts) -> Node:
        places = parts.take("decimals")
        minus = isinstance(places, exp.Neg)
        number = (
            0
            if places is None
            else _plain_number(places.this if minus else places, "ROUND's second argument")
        )
        if number > 38:
            raise UsageError("ROUND takes at most 38 places.")
        return arithmetic.rounded(self._next(parts), -number if minus else number, "ROUND")

    def _extract(self, parts: _Parts) -> Node:
        part, tree = parts.take("this").name.upper(), parts.take(_2ND)
        if isinstance(tree, exp.Anonymous) and str(tree.this) == _DIFFERENCE:
            unit, node = self._between_moments(tree)
            if part != unit:
                raise UsageError(f"An interval of {unit} has no {part}.", remedy=f"EXTRACT({unit} FROM …).")
            return node
        return held.extract(part, self.read(tree))

    def _between_moments(self, tree: exp.Expression) -> tuple[str, Node]:
        """The unit of `(a - b) UNIT`, and how many of them there are."""
        unit, between = tree.expressions if len(tree.expressions) == 2 else (None, None)
        if not isinstance(between, exp.Sub) or unit is None:
            raise UsageError(
                "A unit behind brackets is for the interval between two moments.",
                remedy="Write EXTRACT(DAY FROM (later - earlier) DAY).",
            )
        node = moments.difference(unit.name, self.read(between.this), self.read(between.expression))
        return unit.name, node

    def _sum(self, sign: str, parts: _Parts) -> Node:
        """A sum or difference: of numbers, or of a moment and an interval."""
        trees = [parts.take("this"), parts.take(_2ND)]
        intervals = [self._interval(tree) for tree in trees]
        if intervals[1] is not None and intervals[0] is None:
            return moments.moved(self.read(trees[0]), intervals[1], 1 if sign == "+" else -1)
        if intervals[0] is not None and intervals[1] is None and sign == "+":
            return moments.moved(self.read(trees[1]), intervals[0], 1)
        one, other = self.read(trees[0]), self.read(trees[1])
        if sign == "-" and all(node.type is not None and node.type.is_moment for node in (one, other)):
            raise UsageError(
                "The interval between two dates has a unit.",
                remedy="Write EXTRACT(DAY FROM (later - earlier) DAY).",
            )
        return arithmetic.arithmetic(sign, one, other)

    def _interval(self, tree: Any) -> moments.Interval | None:
        """An interval that is written, also several times one; None for anything else."""
        if isinstance(tree, exp.Paren):
            return self._interval(tree.this)
        if isinstance(tree, exp.Neg):
            found = self._interval(tree.this)
            return (
                None
                if found is None
                else msgspec.structs.replace(found, count=arithmetic.negated(found.count))
            )
        if isinstance(tree, exp.Mul):
            for one, other in ((tree.this, tree.expression), (tree.expression, tree.this)):
                found = self._interval(one)
                if found is not None:
                    times = self.read(other)
                    if times.type not in (FieldType.INTEGER, None):
                        raise UsageError(
                            "An interval is multiplied by a whole number.", remedy="ROUND it before."
                        )
                    times = held.as_type(times, held.INTEGER)
                    return msgspec.structs.replace(
                        found, count=arithmetic.arithmetic("*", found.count, times)
                    )
        return self._whole(tree, self._written_interval) if isinstance(tree, exp.Interval) else None

    def _written_interval(self, parts: _Parts) -> moments.Interval:
        number, unit = parts.take("this"), parts.take("unit")
        if not isinstance(unit, exp.Var) or unit.name.upper() not in moments.UNITS:
            raise UsageError(
                "An interval has one unit here.",
                remedy=f"It can be {', '.join(moments.UNITS)}, as INTERVAL '3' MONTH.",
            )
        written = self._text_of(number, "INTERVAL").strip()
        if not re.fullmatch(r"[+-]?[0-9]{1,9}", written):
            raise UsageError(f"INTERVAL '{written}' is no whole number.", remedy="Write INTERVAL '3' MONTH.")
        return moments.Interval(held.constant(int(written), held.INTEGER), unit.name.upper())

    def _extreme(self, what: str, parts: _Parts) -> Node:
        parts.take("ignore_nulls")  # how this dialect's blanks behave, nothing that was written
        first, others = self._next(parts), parts.take("expressions") or []
        return functions.extreme([first, *map(self.read, others)], what)

    def _padded(self, parts: _Parts) -> Node:
        is_left, pad = bool(parts.take("is_left")), parts.take("fill_pattern")
        length = _plain_number(parts.take(_2ND), "The length that is padded to")
        letters = " " if pad is None else self._text_of(pad, "LPAD" if is_left else "RPAD")
        return functions.padded(self._next(parts), length, letters, left=is_left)

    def _overlaid(self, parts: _Parts) -> Node:
        length = parts.take("for_")
        start = self._next(parts, "from_")
        size = None if length is None else self.read(length)
        return functions.overlay(self._next(parts), self._next(parts, _2ND), start, size)

    def _like_regex(self, parts: _Parts) -> Node:
        pattern = self._text_of(parts.take(_2ND), "LIKE_REGEX")
        return functions.like_regex(self._next(parts), pattern)

    def _anonymous(self, parts: _Parts) -> Node:
        called, given = parts.take("this"), parts.take("expressions") or []
        if str(called) == _DIFFERENCE:
            raise UsageError(
                "An interval alone cannot be kept in a field.",
                remedy="Make a number of it: EXTRACT(DAY FROM (later - earlier) DAY).",
            )
        return self._partner_found(called, given)

    def _partner_found(self, called: Any, given: Sequence[Any]) -> Node:
        if str(called).upper() != "PARTNER_FOUND" or len(given) != 1:
            raise UsageError("PARTNER_FOUND takes the name of a table in single quotes.")
        name = self._text_of(given[0], "PARTNER_FOUND")
        names = [entry.name for entry in self._fields if entry.table == name]
        if not names:
            tables = dict.fromkeys(entry.table for entry in self._fields if entry.table)
            known = ", ".join(f"'{table}'" for table in tables) or "none"
            raise UsageError(
                f"No fields came from a table “{name}”.", remedy=f"The tables here are: {known}."
            )
        self.names |= dict.fromkeys(names)

        def found(rows: Any) -> pa.Array:
            return pa.array(~np.logical_and.reduce([rows.absent(field) for field in names]))

        return Node(held.BOOLEAN, found)


def _plain_number(tree: Any, what: str) -> int:
    """A whole number that is written as such; UsageError for anything else."""
    if (
        not isinstance(tree, exp.Literal)
        or tree.is_string
        or not tree.name.isdecimal()
        or len(tree.name) > 18
    ):
        raise UsageError(f"{what} is a plain whole number.")
    return int(tree.name)


def _shortened(text: str) -> str:
    return text if len(text) <= 40 else f"{text[:20]}…{text[-5:]}"


def _two_sides(make: Callable[[str, Node, Node], Node], sign: str) -> Callable[[_Reader, _Parts], Node]:
    return lambda self, parts: make(sign, self._next(parts), self._next(parts, _2ND))


# What reads each kind of node.
_READERS: dict[type, Callable[[_Reader, _Parts], Node]] = {
    exp.Column: _Reader._column,
    exp.Identifier: _Reader._field,
    exp.Literal: _Reader._literal,
    exp.Boolean: lambda self, parts: held.constant(parts.take("this"), held.BOOLEAN),
    exp.Null: lambda self, _: held.constant(None, pa.null()),
    exp.Paren: _Reader._next,
    exp.Neg: _Reader._negative,
    exp.And: lambda self, parts: conditions.both(
        self._condition(parts, "AND"), self._condition(parts, "AND", _2ND)
    ),
    exp.Or: lambda self, parts: conditions.either(
        self._condition(parts, "OR"), self._condition(parts, "OR", _2ND)
    ),
    exp.Not: lambda self, parts: conditions.inverted(self._condition(parts, "NOT")),
    exp.Is: _Reader._is,
    exp.NullSafeNEQ: lambda self, parts: conditions.is_distinct(self._next(parts), self._next(parts, _2ND)),
    exp.NullSafeEQ: lambda self, parts: conditions.inverted(
        conditions.is_distinct(self._next(parts), self._next(parts, _2ND))
    ),
    exp.In: _Reader._in,
    exp.Between: _Reader._between,
    exp.Like: _Reader._like,
    exp.Escape: _Reader._escaped,
    exp.DPipe: _Reader._joined_text,
    exp.Case: _Reader._case,
    exp.Cast: _Reader._cast,
    exp.Coalesce: _Reader._coalesce,
    exp.Nullif: lambda self, parts: conditions.null_if(self._next(parts), self._next(parts, _2ND)),
    exp.Upper: lambda self, parts: text.on_text(pc.utf8_upper, self._next(parts), "UPPER"),
    exp.Lower: lambda self, parts: text.on_text(pc.utf8_lower, self._next(parts), "LOWER"),
    exp.Length: _Reader._length,
    exp.Trim: _Reader._trim,
    exp.Substring: _Reader._substring,
    exp.StrPosition: lambda self, parts: text.position(self._next(parts, "substr"), self._next(parts)),
    exp.Replace: _Reader._replace,
    exp.Abs: lambda self, parts: arithmetic.absolute(self._next(parts)),
    exp.Round: _Reader._round,
    exp.Floor: lambda self, parts: arithmetic.rounded(self._next(parts), 0, "FLOOR"),
    exp.Ceil: lambda self, parts: arithmetic.rounded(self._next(parts), 0, "CEILING"),
    exp.Extract: _Reader._extract,
    exp.CurrentDate: lambda self, _: held.constant(self._today, held.DATE),
    exp.Anonymous: _Reader._anonymous,
    exp.Greatest: lambda self, parts: self._extreme("GREATEST", parts),
    exp.Least: lambda self, parts: self._extreme("LEAST", parts),
    exp.Sign: lambda self, parts: functions.sign_of(self._next(parts)),
    exp.Pow: lambda self, parts: functions.power(self._next(parts), self._next(parts, _2ND), "POWER"),
    exp.Sqrt: lambda self, parts: functions.power(self._next(parts), held.constant(0.5, held.REAL), "SQRT"),
    exp.Pad: _Reader._padded,
    exp.Overlay: _Reader._overlaid,
    exp.RegexpLike: _Reader._like_regex,
    **{kind: _two_sides(conditions.comparison, sign) for kind, sign in _COMPARISONS.items()},
    **{kind: _two_sides(arithmetic.arithmetic, sign) for kind, sign in _ARITHMETIC.items()},
    exp.Add: lambda self, parts: self._sum("+", parts),
    exp.Sub: lambda self, parts: self._sum("-", parts),
}
