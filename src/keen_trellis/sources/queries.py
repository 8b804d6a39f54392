"""Checks that a typed query only reads: one SELECT and nothing else. The session cannot write anyway."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from keen_trellis.core.errors import SourceError
from keen_trellis.sources.connections import dialect_of

_REMEDY = "Write one SELECT."


def checked_query(text: str, place: str) -> str:
    """The query without its closing semicolon. SourceError, pointing into it, unless it is one SELECT."""
    statement = _parsed(text, dialect_of(place))
    from sqlglot import exp

    if not isinstance(statement, exp.Query):
        raise SourceError("The query is no SELECT.", where="query", remedy=_REMEDY)
    changing = (
        exp.Insert,
        exp.Update,
        exp.Delete,
        exp.Merge,
        exp.Create,
        exp.Drop,
        exp.Alter,
        exp.Into,
        exp.Command,
    )
    found = statement.find(*changing)
    if found is not None:
        raise SourceError(
            f"The query does more than read: {found.key.upper()}.", where="query", remedy=_REMEDY
        )
    return text.strip().rstrip(";").rstrip()


def is_ordered(text: str, place: str) -> bool:
    """Whether the query says in what order its rows come."""
    return _parsed(text, dialect_of(place)).args.get("order") is not None


@lru_cache(maxsize=16)
def _parsed(text: str, dialect: str) -> Any:
    import sqlglot
    from sqlglot.errors import SqlglotError

    try:
        statements = [entry for entry in sqlglot.parse(text, read=dialect) if entry is not None]
    except ValueError:  # a dialect that the parser does not know: standard SQL it is
        return _parsed(text, "")
    except SqlglotError as error:
        said = f"The query cannot be read. {_where(error)}"
        raise SourceError(said, where="query", remedy=_REMEDY) from error
    if len(statements) != 1:
        said = "There is no query." if not statements else f"These are {len(statements)} statements, not one."
        raise SourceError(said, where="query", remedy=_REMEDY)
    return statements[0]


def _where(error: Any) -> str:
    details = getattr(error, "errors", None) or [{}]
    line, column = details[0].get("line"), details[0].get("col")
    word = details[0].get("highlight") or ""
    if not line:
        return "Something in it is not SQL."
    return f"Line {line}, character {column}: “{word}” is not expected there."
