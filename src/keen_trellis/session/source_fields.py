"""Edits of the fields of a source: other types and names."""

from __future__ import annotations

import msgspec

from keen_trellis.core.values import FieldType
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.state import State


def field_settings(session: State, step_id: str, name: str) -> FieldSettings:
    """What is set for a field that is called so now."""
    settings: SourceSettings = KINDS.settings(session.flow.step(step_id))
    return next((e for e in settings.fields if (e.rename or e.name) == name), FieldSettings(name))


def set_field(session: State, step_id: str, entry: FieldSettings, said: str) -> None:
    """Set something for a field of a source as it is now; nothing set is as detected."""
    settings: SourceSettings = KINDS.settings(session.flow.step(step_id))
    others = tuple(other for other in settings.fields if other.name != entry.name)
    fields = others if entry == FieldSettings(entry.name) else (*others, entry)
    session.change_settings(step_id, msgspec.structs.replace(settings, fields=fields), said)


def read_as(session: State, step_id: str, name: str, kind: FieldType) -> None:
    """Read a field as another type."""
    entry = msgspec.structs.replace(field_settings(session, step_id, name), type=kind.value)
    set_field(session, step_id, entry, f"Read {name} as {kind.value}")


def call_as_before(session: State, step_id: str, now: str, before: str) -> None:
    """Give a field that was renamed in the source its old name back, so that all steps find it."""
    settings: SourceSettings = KINDS.settings(session.flow.step(step_id))
    entry = next((e for e in settings.fields if e.name == now), FieldSettings(now))
    renamed = msgspec.structs.replace(entry, rename=before)
    set_field(session, step_id, renamed, f"Call {now} {before} as before")
