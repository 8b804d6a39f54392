"""What a flow's file says and this program does not read: misspelt members, or those of a newer version."""

from __future__ import annotations

import difflib
from collections.abc import Iterator
from functools import cache, lru_cache
from typing import Any

import msgspec

from keen_trellis.flow.file_format import (
    FILTER_MEMBERS,
    FLOW_MEMBERS,
    LIST_MEMBERS,
    STEP_MEMBERS,
    VALUE_MEMBERS,
)
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.last_run import LAST_RUN_MEMBER


class Unread(msgspec.Struct, frozen=True):
    """One member. step: the id of its step, "" for the flow itself.  name: what the step is called.

    member: where it is, as "links 2: operatr".  near: the member that it may be meant for, "" if none is like
    it.
    """

    step: str
    name: str
    member: str
    near: str = ""

    def __str__(self) -> str:
        meant = f" Did you mean “{self.near}”?" if self.near else ""
        where = f"{self.name}: " if self.name else ""
        return f"{where}“{self.member}” is not known to this version, and is not used.{meant}"


def unread(flow: Flow, kinds: Kinds) -> list[Unread]:
    """Every member of the flow, its shared filters, its steps and their settings that nothing here reads."""
    of_flow = (*FLOW_MEMBERS, LAST_RUN_MEMBER)
    found = [_made("", "", "", name, of_flow) for name, _ in flow.extra if name != LAST_RUN_MEMBER]
    for shared in flow.filters:
        found += [_made("", shared.name, "", name, FILTER_MEMBERS) for name, _ in shared.extra]
    for listed in flow.lists:
        found += [_made("", listed.id, "", name, LIST_MEMBERS) for name, _ in listed.extra]
    for value in flow.values:
        found += [_made("", value.name, "", name, VALUE_MEMBERS) for name, _ in value.extra]
    for step in flow.steps:
        found += [_made(step.id, step.name, "", name, STEP_MEMBERS) for name, _ in step.extra]
        kind = kinds.find(step.kind)
        if kind is None:
            continue  # the step itself says that its kind is not known
        for entry in _unknown_settings(kind.settings_type, step.settings):  # type: ignore[arg-type]
            found.append(_made(step.id, step.name, *entry))
    return found


@lru_cache(1024)  # asked again whenever anything in the window changes
def _unknown_settings(kind: type[msgspec.Struct], settings: bytes) -> tuple[tuple[str, str, list[str]], ...]:
    return tuple(_unknown(msgspec.json.decode(settings), _type_info(kind), ""))


@cache
def _type_info(kind: type[msgspec.Struct]) -> Any:
    return msgspec.inspect.type_info(kind)


def _made(step: str, name: str, where: str, member: str, known: Any) -> Unread:
    near = difflib.get_close_matches(member, known, n=1, cutoff=0.6)
    return Unread(step, name, f"{where}: {member}" if where else member, near[0] if near else "")


def _unknown(value: Any, info: Any, where: str) -> Iterator[tuple[str, str, list[str]]]:
    """Of each member without a field in its type: where it is, its name, and the names that there are."""
    if isinstance(info, msgspec.inspect.UnionType):
        for part in info.types:
            yield from _unknown(value, part, where)
    elif isinstance(info, msgspec.inspect.StructType) and isinstance(value, dict):
        fields = {field.encode_name: field.type for field in info.fields}
        for name, inner in value.items():
            if name in fields:
                yield from _unknown(inner, fields[name], f"{where}, {name}" if where else name)
            else:
                yield where, name, list(fields)
    elif isinstance(info, msgspec.inspect.VarTupleType) and isinstance(value, list):
        for number, inner in enumerate(value, 1):
            yield from _unknown(inner, info.item_type, f"{where} {number}")
