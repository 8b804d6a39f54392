"""The edits of run values: adding, changing, renaming and removing them, and who uses them."""

from __future__ import annotations

import msgspec

from keen_trellis.core.errors import UsageError
from keen_trellis.flow.graph import Flow, RunValue
from keen_trellis.flow.run_values import (
    bound_filter,
    check_run_value,
    named_in,
    renamed_in,
    renamed_text,
)
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session


def value_named(flow: Flow, name: str) -> RunValue | None:
    """The run value that is called so, or None."""
    return next((value for value in flow.values if value.name == name), None)


def check_name(session: Session, text: str, old: str = "") -> None:
    """Raise UsageError unless a run value can be called so. old: what it is called now."""
    check_run_value(RunValue(text))
    if text != old and value_named(session.flow, text) is not None:
        raise UsageError(f"There is a run value “{text}” already.", remedy="Choose another name.")


def add(session: Session, name: str) -> None:
    """Add a run value that can be called so, and select it."""

    def edit(flow: Flow) -> Flow:
        return msgspec.structs.replace(flow, values=(*flow.values, RunValue(name)))

    session.apply(f"Add the run value {name}", edit, Selection(value=name))


def change(session: Session, name: str, edit_name: str, /, **changes: object) -> None:
    """Give a run value another value, type or meaning, or other values that it can have. edit_name: what undo
    calls that.
    """

    def edit(flow: Flow) -> Flow:
        values = tuple(
            msgspec.structs.replace(value, **changes) if value.name == name else value
            for value in flow.values
        )
        for value in values:
            check_run_value(value)
        return msgspec.structs.replace(flow, values=values)

    session.apply(edit_name, edit)


def rename(session: Session, old: str, new: str) -> None:
    """Call a run value otherwise, wherever it is spoken of."""
    if old == new:
        return

    def edit(flow: Flow) -> Flow:
        own = [value for value in flow.values if value.name == old]
        values = tuple(
            msgspec.structs.replace(value, name=new) if value.name == old else value for value in flow.values
        )
        steps = tuple(
            msgspec.structs.replace(step, settings=renamed_in(step.settings, kind.settings_type, old, new))
            if (kind := KINDS.find(step.kind)) is not None and named_in(step.settings, own)
            else step
            for step in flow.steps
        )
        filters = tuple(
            msgspec.structs.replace(shared, values=tuple(renamed_text(v, old, new) for v in shared.values))
            for shared in flow.filters
        )
        files = tuple(renamed_text(file, old, new) for file in flow.files)
        return msgspec.structs.replace(flow, values=values, steps=steps, filters=filters, files=files)

    session.apply(f"Rename :{old} to :{new}", edit, Selection(value=new))


def remove(session: Session, name: str) -> None:
    """Take a run value out. UsageError, told, while something uses it."""
    used = users(session.flow, name)
    if used:
        session.failed.emit(
            UsageError(f":{name} is used by {', '.join(used[:4])}.", remedy="Take it out there first.")
        )
        return

    def edit(flow: Flow) -> Flow:
        values = tuple(value for value in flow.values if value.name != name)
        return msgspec.structs.replace(flow, values=values)

    session.apply(f"Remove the run value {name}", edit, Selection())


def users(flow: Flow, name: str) -> list[str]:
    """The names of the steps and shared filters that speak of a run value."""
    own = RunValue(name, value="\0")
    found = []
    for step in flow.steps:
        kind = KINDS.find(step.kind)
        if kind is not None and named_in(step.settings, [own]):
            other = renamed_in(step.settings, kind.settings_type, name, f"{name}_")
            if msgspec.json.decode(other) != msgspec.json.decode(step.settings):
                found.append(step.name)
    return found + [shared.name for shared in flow.filters if bound_filter(shared, [own]) != shared]
