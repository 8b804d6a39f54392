"""Run values: named values of a flow that each run may set anew, written `:name` where they are used.

A step's settings are bound before they are decoded: in an expression the name becomes a literal, in other
texts that take it what the value is. The types of settings say which members these are. A database's query is
left as it is; its values are handed to the database beside it.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal, InvalidOperation
from functools import cache
from typing import Annotated, Any

import msgspec

from keen_trellis.core.errors import UsageError
from keen_trellis.flow.graph import Flow, RunValue, SharedFilter

TEXT, NUMBER, DATE, FILE = "text", "number", "date", "file"
TYPES = (TEXT, NUMBER, DATE, FILE)
_TAKES = "takes run values"
_EXPRESSION, _TEXT, _QUERY, _PATH = "expression", "text", "query", "path"
# Members of settings in which `:name` is a run value: in an expression a literal, in others their text; in a
# query it stays, for the database to be told.
ExpressionText = Annotated[str, msgspec.Meta(extra={_TAKES: _EXPRESSION})]
GivenText = Annotated[str, msgspec.Meta(extra={_TAKES: _TEXT})]
QueryText = Annotated[str, msgspec.Meta(extra={_TAKES: _QUERY})]
PathText = Annotated[str, msgspec.Meta(extra={_TAKES: _PATH})]
_NAME = re.compile(r"[A-Za-z_]\w*", re.ASCII)
_IN_TEXT = re.compile(r"(?<![\w:]):([A-Za-z_]\w*)", re.ASCII)
# In a query also what is in comments, and the sign of a cast.
IN_QUERY = re.compile(
    rf"""'(?:[^']|'')*'|"(?:[^"]|"")*"|--[^\n]*|/\*.*?\*/|::|{_IN_TEXT.pattern}|:""", re.ASCII | re.DOTALL
)
_Write = Callable[[str, str], str]
# What is in quotes is text, or the name of a field.
_IN_EXPRESSION = re.compile(rf"""'(?:[^']|'')*'|"(?:[^"]|"")*"|{_IN_TEXT.pattern}""", re.ASCII)


def check_run_value(value: RunValue) -> None:
    """Raise UsageError unless a value can be so called, and is what its type says."""
    if not _NAME.fullmatch(value.name):
        raise UsageError(
            f"A run value cannot be called “{value.name}”.",
            remedy="Its name is letters, digits and underscores, and begins with no digit.",
        )
    if value.type not in TYPES:
        raise UsageError(
            f"The run value “{value.name}” is “{value.type}”.", remedy=f"It can be {', '.join(TYPES)}."
        )
    if value.value:
        check_text(value, value.value)


def check_text(value: RunValue, text: str) -> None:
    """Raise UsageError unless a run value can have this text as its value."""
    if not fits(value.type, text):
        example = {NUMBER: "12 or 0.5", DATE: "2026-05-01"}[value.type]
        raise UsageError(
            f"{value.name} is a {value.type}, and “{text}” is none.", remedy=f"Write it like {example}."
        )
    if value.choices and text not in value.choices:
        raise UsageError(
            f"{value.name} cannot be “{text}”.", remedy=f"It can be: {', '.join(value.choices[:12])}."
        )


def fits(kind: str, text: str) -> bool:
    """Whether a text can be the value of a run value of this type."""
    try:
        if kind == NUMBER:
            return Decimal(text).is_finite()
        if kind == DATE:
            return dt.date.fromisoformat(text).isoformat() == text
    except (InvalidOperation, ValueError):
        return False
    return True


def check_run_values(values: Sequence[RunValue]) -> None:
    """Raise UsageError unless each can be so called, and no two are called the same."""
    seen: set[str] = set()
    for value in values:
        check_run_value(value)
        if value.name in seen:
            raise UsageError(f"Two run values are called “{value.name}”.", remedy="Rename one of them.")
        seen.add(value.name)


def with_given(flow: Flow, given: Mapping[str, str]) -> Flow:
    """The flow with other values, for a run. UsageError for a name that it has not, or what cannot be one."""
    known = {value.name: value for value in flow.values}
    for name, text in given.items():
        if name not in known:
            raise UsageError(
                f"The flow has no run value “{name}”.",
                remedy=f"It has: {', '.join(known)}." if known else "It has none.",
            )
        check_text(known[name], text)
        known[name] = msgspec.structs.replace(known[name], value=text)
    return msgspec.structs.replace(flow, values=tuple(known[value.name] for value in flow.values))


def values_said(values: Mapping[str, str]) -> str:
    """Run values by their names, written out."""
    return ", ".join(f"{name} = {value}" for name, value in values.items())


def is_used(flow: Flow, value: RunValue) -> bool:
    """Whether a step or a shared filter of the flow speaks of a run value."""
    texts = [step.settings for step in flow.steps]
    texts += [" ".join(shared.values).encode() for shared in flow.filters]
    return any(named_in(text, [value]) for text in texts)


def named_in(texts: bytes, values: Sequence[RunValue]) -> tuple[RunValue, ...]:
    """Those of some run values that settings, as JSON text, may speak of."""
    return tuple(value for value in values if b":" + value.name.encode() in texts)


def spoken_of(query: str, values: Sequence[RunValue]) -> tuple[RunValue, ...]:
    """Those of some run values that a query names."""
    named = {found[1] for found in IN_QUERY.finditer(query)}
    return tuple(value for value in values if value.name in named)


def literal(value: RunValue) -> str:
    """A run value as an expression writes it. UsageError if it has none yet."""
    text = text_of(value)
    if value.type == NUMBER:
        return f"({Decimal(text):f})"
    quoted = "'" + text.replace("'", "''") + "'"
    return f"DATE {quoted}" if value.type == DATE else quoted


def text_of(value: RunValue) -> str:
    """What a run value is. UsageError if it has none yet."""
    if not value.value:
        raise UsageError(
            f"The run value “{value.name}” has no value yet.",
            remedy=f"Give it one on the page of run values, or with --set {value.name}=VALUE.",
        )
    return value.value


def bound_text(text: str, values: Sequence[RunValue]) -> str:
    """A text with its run values put in. UsageError where one has none yet."""
    return _put(text, values, _IN_TEXT, text_of)


def bound_path(text: str, values: Sequence[RunValue]) -> str:
    """A path with its run values put in: only one that is a file may lead to another folder.

    UsageError where another one would, or where one has none yet.
    """
    return _put(text, values, _IN_TEXT, _part_of_path)


def _part_of_path(value: RunValue) -> str:
    text = text_of(value)
    if value.type != FILE and ("/" in text or "\0" in text or text in (".", "..")):
        raise UsageError(
            f"The run value “{value.name}” is “{text}”, which cannot be part of a file's name.",
            remedy="Let it have no slash, or make it a run value of the type file.",
        )
    return text


def files_of(flow: Flow) -> tuple[str, ...]:
    """The files of the margin, with the run values in their names put in as far as they have any."""
    known = tuple(value for value in flow.values if value.value)
    return tuple(bound_path(file, known) for file in flow.files) if known else flow.files


def bound_expression(text: str, values: Sequence[RunValue]) -> str:
    """An expression with its run values as literals. UsageError where one has none yet."""
    return _put(text, values, _IN_EXPRESSION, literal)


def _put(
    text: str, values: Sequence[RunValue], sign: re.Pattern[str], write: Callable[[RunValue], str]
) -> str:
    """A text with run values written where their signs stand. sign: how they do."""
    known = {value.name: value for value in values}

    def put(found: re.Match[str]) -> str:
        value = known.get(found[1] or "")
        return found[0] if value is None else write(value)

    return sign.sub(put, text)


def bound_filter(shared: SharedFilter | None, values: Sequence[RunValue]) -> SharedFilter | None:
    """A shared filter whose values may be run values, with these put in."""
    if shared is None or not values:
        return shared
    bound = tuple(bound_text(text, values) for text in shared.values)
    return msgspec.structs.replace(shared, values=bound)


def bound_settings(settings: bytes, kind: type[msgspec.Struct], values: Sequence[RunValue]) -> bytes:
    """Settings of this type, as JSON text, with the run values put in where its members take them."""
    ways = {_EXPRESSION: bound_expression, _TEXT: bound_text, _PATH: bound_path}

    def write(text: str, takes: str) -> str:
        return ways[takes](text, values) if takes in ways else text

    return _written(settings, kind, write)


def renamed_in(settings: bytes, kind: type[msgspec.Struct], old: str, new: str) -> bytes:
    """Settings of this type, as JSON text, that speak of a run value by its new name."""
    signs = {_TEXT: _IN_TEXT, _PATH: _IN_TEXT, _EXPRESSION: _IN_EXPRESSION, _QUERY: IN_QUERY}
    return _written(settings, kind, lambda text, takes: renamed_text(text, old, new, signs[takes]))


def renamed_text(text: str, old: str, new: str, sign: re.Pattern[str] = _IN_TEXT) -> str:
    """A text that speaks of a run value by its new name. sign: how it stands there."""
    return sign.sub(lambda found: f":{new}" if found[1] == old else found[0], text)


def _written(settings: bytes, kind: type[msgspec.Struct], write: _Write) -> bytes:
    return msgspec.json.encode(_walked(msgspec.json.decode(settings), _type_info(kind), write))


def _walked(value: Any, info: Any, write: _Write) -> Any:
    """A value of JSON as its type has it, with the texts in which run values stand written anew."""
    if isinstance(info, msgspec.inspect.Metadata):
        takes = (info.extra or {}).get(_TAKES)
        if takes is not None and isinstance(value, str):
            return write(value, takes)
        return _walked(value, info.type, write)
    if isinstance(info, msgspec.inspect.UnionType):
        for part in info.types:
            value = _walked(value, part, write)
        return value
    if isinstance(info, msgspec.inspect.StructType) and isinstance(value, dict):
        fields = {field.encode_name: field.type for field in info.fields}
        return {
            name: _walked(inner, fields[name], write) if name in fields else inner
            for name, inner in value.items()
        }
    if isinstance(info, msgspec.inspect.VarTupleType) and isinstance(value, list):
        return [_walked(inner, info.item_type, write) for inner in value]
    return value


@cache
def _type_info(kind: type[msgspec.Struct]) -> Any:
    return msgspec.inspect.type_info(kind)
