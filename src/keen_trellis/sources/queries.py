"""Checks that a query only reads: one SELECT, and no function that may reach outside the database.

The session cannot write anyway.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from keen_trellis.core.errors import SourceError
from keen_trellis.flow.addresses import shown_address
from keen_trellis.flow.trust import OUTPUT, SERVER, TRUST_OPTION, Reach, is_accepted_query
from keen_trellis.sources.connections import dialect_of

if TYPE_CHECKING:
    from sqlalchemy import Connection

_REMEDY = "Write one SELECT."
_LONGEST = 100_000  # characters
_SHOWN = 300  # characters
_DEEPEST = 100  # brackets in each other
_CALL = re.compile(r"(?<![\w$])([^\W\d][\w$]*)\s*(?=\(|--|/\*)")
_QUOTED_CALL = re.compile(r'(?="((?:[^"]|"")+)"\s*(?:\(|--|/\*))')
_ESCAPED_NAME = re.compile(r"u&\s*[\"']", re.IGNORECASE)
# Of those functions of these names that the server has: which one of them may do more than compute from its
# rows, being volatile, or not the server's own.
_MAY_REACH_OUTSIDE = """
    SELECT DISTINCT proname FROM pg_catalog.pg_proc
    WHERE proname = ANY(%s) AND (provolatile = 'v' OR pronamespace <> 'pg_catalog'::regnamespace)
    ORDER BY proname
"""


def checked_query(text: str, place: str) -> str:
    """The query without its closing semicolon. SourceError, pointing into it, unless it is one SELECT."""
    statement = _parsed(text, dialect_of(place))
    from sqlglot import exp

    if not isinstance(statement, exp.Query):
        raise SourceError("The query is not a SELECT.", where="query", remedy=_REMEDY)
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


class NotHarmless(SourceError):
    """A query calls functions that may reach outside the database. place, query: which."""

    option = TRUST_OPTION

    def __init__(self, place: str, query: str, functions: Sequence[str]) -> None:
        names = ", ".join(f"{name}()" for name in functions)
        super().__init__(
            f"The query calls {names}, which may do more than read rows, such as writing a file or "
            "contacting another server.",
            where=shown_address(place),
            remedy="Remove the call, or review and accept the query.",
        )
        self.place = place
        self.query = query


def check_functions(connection: Connection, text: str, place: str) -> None:
    """NotHarmless unless all functions of the query are PostgreSQL's own, immutable or stable, or the user
    accepted the query. SourceError where a session that cannot write is not to be had.

    SQLite has no function that reaches outside but those that are refused on every connection.
    """
    if connection.dialect.name == "sqlite":
        return
    if connection.dialect.name != "postgresql":
        raise SourceError(
            f"A query cannot be kept from writing in a {connection.dialect.name} database.",
            where=shown_address(place),
            remedy="Read its tables or views instead.",
        )
    if is_accepted_query(place, text):
        return
    names = called(text)
    found = connection.exec_driver_sql(_MAY_REACH_OUTSIDE, (list(names),)).scalars().all()
    if found:
        raise NotHarmless(place, text, found)


def called(text: str) -> tuple[str, ...]:
    """Everything in a query that may be the name of a function: what stands before a bracket, or before a
    comment that may hide one. Told from the letters alone, strings and comments included, so that it does
    not depend on reading SQL as the server does.
    """
    if _ESCAPED_NAME.search(text):
        raise SourceError(
            "The query writes a name or text with U&, which this program does not look into.",
            where="query",
            remedy="Write the letters themselves.",
        )
    found = [name.replace('""', '"') for name in _QUOTED_CALL.findall(text)]
    for name in _CALL.findall(text):
        found += [name, name.lower()]
    return tuple(dict.fromkeys(found))


def unusual_calls(text: str) -> tuple[str, ...]:
    """Those functions that a query calls and SQL as it is usually spoken does not know."""
    from sqlglot.dialects import Postgres

    known = {*Postgres.Parser.FUNCTIONS, *Postgres.Parser.FUNCTION_PARSERS, *Postgres.Tokenizer.KEYWORDS}
    try:
        return tuple(sorted({name.lower() for name in called(text) if name.upper() not in known}))
    except SourceError:
        return ()


def reach_said(entry: Reach) -> str:
    """What a flow reaches, in words."""
    if entry.sort == OUTPUT:
        return f"write the table {entry.text} of {entry.place}" if entry.text else f"write {entry.place}"
    if entry.sort == SERVER:
        return f"connect to {entry.place}"
    text = " ".join(entry.text.split())
    calls = unusual_calls(entry.text)
    said = f"run a query on {entry.place}: {text[:_SHOWN]}{' …' if len(text) > _SHOWN else ''}"
    return f"{said}; it calls {', '.join(f'{name}()' for name in calls)}" if calls else said


def is_ordered(text: str, place: str) -> bool:
    """Whether the query says in what order its rows come."""
    return _parsed(text, dialect_of(place)).args.get("order") is not None


@lru_cache(maxsize=16)
def _parsed(text: str, dialect: str) -> Any:
    import sqlglot
    from sqlglot.errors import SqlglotError

    _refuse_what_no_person_writes(text)
    try:
        statements = [entry for entry in sqlglot.parse(text, read=dialect) if entry is not None]
    except RecursionError as error:
        raise SourceError("The query is too deeply nested.", where="query", remedy=_REMEDY) from error
    except ValueError:  # a dialect that the parser does not know: standard SQL it is
        return _parsed(text, "")
    except SqlglotError as error:
        said = f"The query cannot be read. {_where(error)}"
        raise SourceError(said, where="query", remedy=_REMEDY) from error
    if len(statements) != 1:
        said = "There is no query." if not statements else f"These are {len(statements)} statements, not one."
        raise SourceError(said, where="query", remedy=_REMEDY)
    return statements[0]


def _refuse_what_no_person_writes(text: str) -> None:
    """SourceError for a query whose length or depth would hang or break the parser."""
    brackets = ((1 if sign == "(" else -1) for sign in text if sign in "()")
    deepest = max(itertools.accumulate(brackets), default=0)
    if len(text) > _LONGEST or deepest > _DEEPEST or "\0" in text:
        raise SourceError(
            f"The query has {len(text):,} characters and brackets {deepest:,} deep; at most {_LONGEST:,} and "
            f"{_DEEPEST} are read."
            if "\0" not in text
            else "The query holds the character NUL, which no query may.",
            where="query",
            remedy="Make a view of it in the database, and read that.",
        )


def _where(error: Any) -> str:
    details = getattr(error, "errors", None) or [{}]
    line, column = details[0].get("line"), details[0].get("col")
    word = details[0].get("highlight") or ""
    if not line:
        return "Something in it is not SQL."
    return f"Line {line}, character {column}: “{word}” is not expected there."
