"""Edits of the fields of a source: other types and names."""

from __future__ import annotations

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.values import FieldType
from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import LinkSettings
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


def leave_blank(session: State, step_id: str, name: str, kind: FieldType) -> None:
    """Let the values of a field that are not of its type be blank, this time and from now on."""
    entry = msgspec.structs.replace(field_settings(session, step_id, name), type=kind.value)
    set_field(session, step_id, entry, f"Leave blank what is no {kind.value} in {name}")


def correct(session: State, step_id: str, name: str, read: str, meant: str) -> None:
    """Read one value of a field as another; blank where that is empty."""
    entry = field_settings(session, step_id, name)
    pairs = dict(entry.correct) | {read: meant}
    said = f"Read {read} in {name} as {meant or 'blank'}"
    set_field(session, step_id, msgspec.structs.replace(entry, correct=tuple(pairs.items())), said)


def read_as_text(session: State, step_id: str, name: str) -> None:
    """Read a field as text, and compare it as text in every link in which it meets something else."""
    entry = msgspec.structs.replace(field_settings(session, step_id, name), type=FieldType.TEXT.value)

    def edit(flow: Flow) -> Flow:
        after = flow.downstream([step_id]) - {step_id}
        knots = {
            step.id: _comparing_as_text(session, flow, step, step_id, name)
            for step in flow.steps
            if step.id in after
        }
        settings: SourceSettings = KINDS.settings(flow.step(step_id))
        others = tuple(other for other in settings.fields if other.name != entry.name)
        flow = change_settings(flow, step_id, msgspec.structs.replace(settings, fields=(*others, entry)))
        for knot, changed in knots.items():
            flow = change_settings(flow, knot, changed) if changed is not None else flow
        return flow

    session.apply(f"Read {name} as text on both sides", edit)


def _comparing_as_text(
    session: State, flow: Flow, step: Step, source: str, name: str
) -> msgspec.Struct | None:
    """The settings of a step with a field of a source compared as text where it meets what is none."""
    kind = KINDS.find(step.kind)
    try:
        shapes = session.runner.input_shapes(flow, step)
    except TrellisError:
        return None  # it says itself what it lacks
    fields = [{field.name: field for field in shape.fields} for shape in shapes]

    def change(link: LinkSettings, other: int) -> LinkSettings:
        met = (fields[0].get(link.left), fields[other].get(link.right))
        is_it = [field is not None and (field.origin, field.name) == (source, name) for field in met]
        is_text = [field is not None and field.type is FieldType.TEXT for field in met]
        if (
            link.compare_as
            or not any(is_it)
            or all(one or text for one, text in zip(is_it, is_text, strict=True))
        ):
            return link
        return msgspec.structs.replace(link, compare_as=FieldType.TEXT.value)

    return kind.with_links(KINDS.settings(step), change) if kind is not None else None


def call_as_before(session: State, step_id: str, now: str, before: str) -> None:
    """Give a field that was renamed in the source its old name back, so that all steps find it."""
    settings: SourceSettings = KINDS.settings(session.flow.step(step_id))
    entry = next((e for e in settings.fields if e.name == now), FieldSettings(now))
    renamed = msgspec.structs.replace(entry, rename=before)
    set_field(session, step_id, renamed, f"Call {now} {before} as before")
