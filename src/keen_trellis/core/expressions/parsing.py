"""Text to an expression: tokens are allow-listed, sqlglot parses, the nodes of its tree are allow-listed."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError
from sqlglot.tokenizer_core import Token, TokenType

from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions import operations as op
from keen_trellis.core.expressions.expression import Expression, Node
from keen_trellis.core.table import Field, find_field
from keen_trellis.core.values import ARROW_TYPES, FieldType


def _listed(text: str) -> tuple[str, ...]:
    return tuple(text.split())


FUNCTIONS = _listed(
    """CAST COALESCE NULLIF UPPER LOWER TRIM SUBSTRING POSITION CHAR_LENGTH CHARACTER_LENGTH REPLACE ABS
    ROUND FLOOR CEILING CEIL MOD EXTRACT PARTNER_FOUND"""
)
_WORDS = _listed(
    """AND OR NOT IS NULL IN BETWEEN LIKE ESCAPE CASE WHEN THEN ELSE END AS TRUE FALSE FROM FOR
    LEADING TRAILING BOTH CURRENT_DATE DATE TIME TIMESTAMP YEAR MONTH DAY HOUR MINUTE SECOND INTEGER INT
    BIGINT SMALLINT DECIMAL NUMERIC DEC REAL FLOAT DOUBLE PRECISION VARCHAR CHAR CHARACTER VARYING
    BOOLEAN"""
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
    exp.DataType.Type.CHAR: FieldType.TEXT,
    exp.DataType.Type.TEXT: FieldType.TEXT,
    exp.DataType.Type.BOOLEAN: FieldType.BOOLEAN,
    exp.DataType.Type.DATE: FieldType.DATE,
    exp.DataType.Type.TIME: FieldType.TIME,
    exp.DataType.Type.TIMESTAMP: FieldType.TIMESTAMP,
}
_COMPARISONS = {exp.EQ: "=", exp.NEQ: "<>", exp.LT: "<", exp.LTE: "<=", exp.GT: ">", exp.GTE: ">="}
_ARITHMETIC = {exp.Add: "+", exp.Sub: "-", exp.Mul: "*", exp.Div: "/", exp.Mod: "MOD"}
_MOST_CHARACTERS = 10_000


def parse(
    text: str,
    fields: Sequence[Field],
    *,
    today: dt.date | None = None,
) -> Expression:
    """The expression that `text` writes, over `fields`.

    today: what CURRENT_DATE gives.  PARTNER_FOUND asks for the tables from which joins took the fields.
    UsageError, pointing into the text, for what does not parse, is not allowed or does not fit together.
    """
    if not text.strip():
        raise UsageError("The expression is empty.")
    if len(text) > _MOST_CHARACTERS:
        raise UsageError(f"The expression has {len(text):,} characters; the limit is {_MOST_CHARACTERS:,}.")
    try:
        tokens = sqlglot.tokenize(text)
        _check_tokens(tokens, text)
        parsed = sqlglot.parse(text, error_level=sqlglot.ErrorLevel.IMMEDIATE)
    except (SqlglotError, RecursionError) as error:
        raise _pointing(text, error) from error
    if len(parsed) != 1 or parsed[0] is None:
        raise UsageError(f"“{text}” is not one expression.")
    reader = _Reader(text, fields, today or dt.date.today())
    try:
        node = reader.read(parsed[0])
    except RecursionError as error:
        raise UsageError("The expression is nested too deeply.") from error
    if node.type is None:
        node = op.as_type(node, op.TEXT)
    return Expression(text, tuple(reader.names), node)


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
        if word in FUNCTIONS or word in _WORDS or word in _PAIRS:
            continue
        if following is not None and following.text == "(":
            raise UsageError(
                f"There is no function {written} (character {token.start + 1:,}).",
                remedy=f"The functions are: {', '.join(FUNCTIONS)}.",
            )
        if written.replace("_", "").isalnum():
            continue  # a word that is no keyword here is a field's name
        raise UsageError(
            f"“{written}” has no meaning in an expression (character {token.start + 1:,}).",
            remedy="Names of fields with other characters than letters stand in double quotes.",
        )


def _pointing(text: str, error: Exception) -> UsageError:
    found = getattr(error, "errors", None)
    if found and found[0].get("col"):
        place, near = found[0]["col"], found[0].get("highlight") or ""
        return UsageError(
            f"“{text}” cannot be read at character {place:,}{f', near “{near}”' if near else ''}."
        )
    return UsageError(
        f"“{text}” cannot be read as an expression.", remedy="Is a quotation mark or bracket open?"
    )


class _Reader:
    """Turns sqlglot's tree into nodes that compute, with their types."""

    def __init__(self, text: str, fields: Sequence[Field], today: dt.date) -> None:
        self._text, self._fields, self._today = text, fields, today
        self.names: dict[str, None] = {}
        self._readers: dict[type, Callable[[Any], Node]] = {
            exp.Column: self._field,
            exp.Identifier: self._field,
            exp.Literal: self._literal,
            exp.Boolean: lambda tree: op.constant(tree.this, op.BOOLEAN),
            exp.Null: lambda _: op.constant(None, pa.null()),
            exp.Paren: lambda tree: self.read(tree.this),
            exp.Neg: self._negative,
            exp.And: lambda tree: op.both(
                self._condition(tree.this, "AND"), self._condition(tree.expression, "AND")
            ),
            exp.Or: lambda tree: op.either(
                self._condition(tree.this, "OR"), self._condition(tree.expression, "OR")
            ),
            exp.Not: lambda tree: op.inverted(self._condition(tree.this, "NOT")),
            exp.Is: self._is,
            exp.In: self._in,
            exp.Between: self._between,
            exp.Like: lambda tree: self._like(tree, ""),
            exp.Escape: lambda tree: self._like(tree.this, self._text_of(tree.expression, "ESCAPE")),
            exp.DPipe: lambda tree: op.joined_text(self.read(tree.this), self.read(tree.expression)),
            exp.Case: self._case,
            exp.Cast: self._cast,
            exp.Coalesce: lambda tree: op.coalesce(
                [self.read(part) for part in (tree.this, *tree.expressions)]
            ),
            exp.Nullif: lambda tree: op.null_if(self.read(tree.this), self.read(tree.expression)),
            exp.Upper: lambda tree: op.on_text(pc.utf8_upper, self.read(tree.this), "UPPER"),
            exp.Lower: lambda tree: op.on_text(pc.utf8_lower, self.read(tree.this), "LOWER"),
            exp.Length: lambda tree: op.on_text(
                lambda values: pc.utf8_length(values).cast(op.INTEGER),
                self.read(tree.this),
                "CHAR_LENGTH",
                op.INTEGER,
            ),
            exp.Trim: self._trim,
            exp.Substring: self._substring,
            exp.StrPosition: lambda tree: op.position(self.read(tree.args["substr"]), self.read(tree.this)),
            exp.Replace: self._replace,
            exp.Abs: lambda tree: op.absolute(self.read(tree.this)),
            exp.Round: self._round,
            exp.Floor: lambda tree: op.rounded(self.read(tree.this), 0, "FLOOR"),
            exp.Ceil: lambda tree: op.rounded(self.read(tree.this), 0, "CEILING"),
            exp.Extract: lambda tree: op.extract(tree.this.name.upper(), self.read(tree.expression)),
            exp.CurrentDate: lambda _: op.constant(self._today, op.DATE),
            exp.Anonymous: self._partner_found,
        }
        for kind, sign in _COMPARISONS.items():
            self._readers[kind] = self._two_sides(op.comparison, sign)
        for kind, sign in _ARITHMETIC.items():
            self._readers[kind] = self._two_sides(op.arithmetic, sign)

    def read(self, tree: Any) -> Node:
        """The node of a part of the tree."""
        found = self._readers.get(type(tree))
        if found is None:
            part = tree.sql() if isinstance(tree, exp.Expression) else str(tree)
            raise UsageError(
                f"“{part}” is nothing that an expression can hold.",
                remedy="Expressions are those of one row: no SELECT, no sums over rows.",
            )
        return found(tree)

    def _two_sides(self, make: Callable[[str, Node, Node], Node], sign: str) -> Callable[[Any], Node]:
        return lambda tree: make(sign, self.read(tree.this), self.read(tree.expression))

    def _condition(self, tree: Any, what: str) -> Node:
        return op.condition(self.read(tree), what)

    def _text_of(self, tree: Any, what: str) -> str:
        return op.literal_text(self.read(tree), what)

    def _field(self, tree: Any) -> Node:
        if tree.args.get("table") is not None:
            raise UsageError(
                f"“{tree.sql()}” has a point in it.", remedy="Names of fields stand in double quotes."
            )
        identifier = tree.this if isinstance(tree, exp.Column) else tree
        name = identifier.name
        if not identifier.args.get("quoted"):
            # Unquoted names fold their case in SQL; they mean the one field that is called so.
            alike = [entry.name for entry in self._fields if entry.name.casefold() == name.casefold()]
            if len(alike) == 1:
                name = alike[0]
        field = find_field(self._fields, name, f"“{self._text}”")
        self.names[field.name] = None
        kind = field.arrow_type
        if not pa.types.is_decimal(kind):
            return Node(kind, lambda rows: rows.values(field.name))
        return op.as_type(Node(kind, lambda rows: rows.values(field.name)), op.decimal(kind.scale))

    def _literal(self, tree: Any) -> Node:
        written = tree.name
        if tree.is_string:
            return op.constant(written, op.TEXT)
        try:
            if written.isdecimal():
                return op.constant(int(written), op.INTEGER)
            if "e" in written.lower():
                return op.constant(float(written), op.REAL)
            value = Decimal(written)
            return op.constant(value, op.decimal(-int(value.as_tuple().exponent)))
        except (pa.ArrowInvalid, OverflowError, ValueError, ArithmeticError) as error:
            raise UsageError(f"The number {written} is too large.") from error

    def _negative(self, tree: Any) -> Node:
        # The least integer is no positive number with a minus before it.
        if isinstance(tree.this, exp.Literal) and tree.this.name == str(2**63):
            return op.constant(-(2**63), op.INTEGER)
        return op.negated(self.read(tree.this))

    def _is(self, tree: Any) -> Node:
        if not isinstance(tree.expression, exp.Null):
            raise UsageError("IS is for NULL here.", remedy="Compare with = instead.")
        return op.is_null(self.read(tree.this))

    def _in(self, tree: Any) -> Node:
        if not tree.expressions:
            raise UsageError("IN takes a list of values in brackets.")
        value = self.read(tree.this)
        found = [op.comparison("=", value, self.read(entry)) for entry in tree.expressions]
        while len(found) > 1:
            # By halves, so that long lists nest no deeper than need be.
            pairs = [op.either(*found[at : at + 2]) for at in range(0, len(found) - 1, 2)]
            found = pairs + found[2 * len(pairs) :]
        return found[0]

    def _between(self, tree: Any) -> Node:
        value = self.read(tree.this)
        low = op.comparison(">=", value, self.read(tree.args["low"]))
        return op.both(low, op.comparison("<=", value, self.read(tree.args["high"])))

    def _like(self, tree: Any, escape: str) -> Node:
        if len(escape) > 1:
            raise UsageError("ESCAPE takes one character.")
        return op.like(self.read(tree.this), self._text_of(tree.expression, "LIKE"), escape)

    def _case(self, tree: Any) -> Node:
        value = self.read(tree.this) if tree.this is not None else None
        branches = []
        for branch in tree.args["ifs"]:
            test = self.read(branch.this)
            if value is not None:
                test = op.comparison("=", value, test)
            branches.append((test, self.read(branch.args["true"])))
        default = tree.args.get("default")
        return op.case(branches, self.read(default) if default is not None else None)

    def _cast(self, tree: Any) -> Node:
        to = _TYPES.get(tree.to.this)
        if to is None:
            raise UsageError(
                f"There is no type {tree.to.sql()}.",
                remedy="CAST AS INTEGER, DECIMAL(10, 2), REAL, VARCHAR, BOOLEAN, DATE, TIME or TIMESTAMP.",
            )
        sizes = [int(size.name) for size in tree.to.expressions]
        node = self.read(tree.this)
        if to is FieldType.DECIMAL:
            digits, scale = (*sizes, 0)[:2] if sizes else (38, op.scale_of(node.arrow_type))
            if not 1 <= digits <= 38 or not 0 <= scale <= digits:
                raise UsageError("A decimal has 1 to 38 digits, no more of them behind the point.")
            made = op.cast(node, pa.decimal128(digits, scale))
            return op.as_type(made, op.decimal(scale))
        return op.cast(node, ARROW_TYPES[to], sizes[0] if to is FieldType.TEXT and sizes else None)

    def _trim(self, tree: Any) -> Node:
        letters = (
            self._text_of(tree.expression, "TRIM")
            if tree.expression is not None and tree.args.get("expression")
            else " "
        )
        trims = {"LEADING": pc.utf8_ltrim, "TRAILING": pc.utf8_rtrim}
        trim = trims.get(str(tree.args.get("position") or "BOTH").upper(), pc.utf8_trim)
        if not letters:
            raise UsageError("TRIM needs a character to take off.")
        return op.on_text(lambda values: trim(values, characters=letters), self.read(tree.this), "TRIM")

    def _substring(self, tree: Any) -> Node:
        start, length = tree.args.get("start"), tree.args.get("length")
        first = op.constant(1, op.INTEGER) if start is None else self.read(start)
        return op.substring(self.read(tree.this), first, None if length is None else self.read(length))

    def _replace(self, tree: Any) -> Node:
        old = self._text_of(tree.expression, "REPLACE")
        new = self._text_of(tree.args["replacement"], "REPLACE") if tree.args.get("replacement") else ""
        if not old:
            return op.of_text(self.read(tree.this), "REPLACE")
        return op.on_text(
            lambda values: pc.replace_substring(values, old, new), self.read(tree.this), "REPLACE"
        )

    def _round(self, tree: Any) -> Node:
        places = tree.args.get("decimals")
        minus = isinstance(places, exp.Neg)
        written = (places.this if minus else places).name if places is not None else "0"
        if not written.isdecimal() or int(written) > 38:
            raise UsageError("ROUND takes the number of places as a plain number.")
        return op.rounded(self.read(tree.this), -int(written) if minus else int(written), "ROUND")

    def _partner_found(self, tree: Any) -> Node:
        if str(tree.this).upper() != "PARTNER_FOUND" or len(tree.expressions) != 1:
            raise UsageError("PARTNER_FOUND takes the name of a table in single quotes.")
        name = self._text_of(tree.expressions[0], "PARTNER_FOUND")
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

        return Node(op.BOOLEAN, found)
