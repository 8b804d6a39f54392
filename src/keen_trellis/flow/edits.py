"""Edits: pure functions from a flow to a flow."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.quoting import quoted_name
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.kinds import Kinds, Standing, encode_settings
from keen_trellis.flow.naming import free_id, free_name
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinKind, JoinSettings
from keen_trellis.flow.steps.one_input import RailSettings
from keen_trellis.flow.steps.source import SourceKind, sources_of

if TYPE_CHECKING:
    from keen_trellis.flow.steps.blend import OtherSettings
    from keen_trellis.flow.steps.output import OutputSettings
    from keen_trellis.flow.steps.union import UnionSettings


def add_file(flow: Flow, path: str) -> Flow:
    """Put a file into the margin, last, unless it stands there."""
    if path in flow.files:
        return flow
    return msgspec.structs.replace(flow, files=(*flow.files, path))


def remove_file(flow: Flow, path: str) -> Flow:
    """Take a file that no rail begins at out of the margin."""
    return msgspec.structs.replace(flow, files=tuple(file for file in flow.files if file != path))


def move_files(flow: Flow, kinds: Kinds, moved: Mapping[str, str]) -> Flow:
    """Let the margin and all sources use files at other paths; `moved` has the new path by the old one."""
    files = tuple(dict.fromkeys(moved.get(file, file) for file in flow.files))
    flow = msgspec.structs.replace(flow, files=files)
    for step_id in sources_of(flow, kinds):
        settings: SourceSettings = kinds.settings(flow.step(step_id))
        if settings.path in moved:
            changed = msgspec.structs.replace(settings, path=moved[settings.path])
            flow = change_settings(flow, step_id, changed)
    return flow


def keep_log(flow: Flow, *, keeps: bool) -> Flow:
    """Let the runs of a flow be noted beside it, or not."""
    return msgspec.structs.replace(flow, keeps_log=keeps)


def with_confidential(flow: Flow, name: str, *, withheld: bool) -> Flow:
    """Let the values of fields with a name appear in no report, or appear again."""
    names = [entry for entry in flow.confidential if entry != name] + ([name] if withheld else [])
    return msgspec.structs.replace(flow, confidential=tuple(names))


def add_source(flow: Flow, settings: SourceSettings, name: str) -> tuple[Flow, str]:
    """Begin a rail at a table; the flow and the new step's id."""
    step = Step(
        id=_free_id(flow, name),
        kind=SourceKind.name,
        name=_free_name(flow, name),
        settings=encode_settings(settings),
    )
    flow = add_file(flow, settings.path) if settings.path else flow
    return _with_step(flow, step), step.id


def add_join(flow: Flow, left: Input, right: Input, settings: JoinSettings) -> tuple[Flow, str]:
    """Let two rails meet in a knot; the flow and the new step's id.

    What took rows from `left` before takes the joined rows now, so that a knot can be put into a rail.
    """
    one, other = rail_name(flow, left.step), rail_name(flow, right.step)
    name = f"{one} with {other.split(' with ')[0]}"
    return _add_knot(flow, JoinKind.name, name, left, right, settings)


def add_union(flow: Flow, first: Input, second: Input, settings: UnionSettings) -> tuple[Flow, str]:
    """Put the rows of one rail below those of another; the flow and the union's id.

    A union that is there already takes one rail more; otherwise what took rows from `first` takes all now.
    """
    from keen_trellis.flow.steps.union import UnionKind

    name = f"{rail_name(flow, first.step)} and {rail_name(flow, second.step)}"
    return _grown(flow, UnionKind.name, first, second, settings) or _add_knot(
        flow, UnionKind.name, name, first, second, settings
    )


def add_beside(flow: Flow, left: Input, right: Input) -> tuple[Flow, str]:
    """Put the rows of one rail next to those of another, by their place; the flow and the new step's id.

    What took rows from `left` before takes those of both now.
    """
    from keen_trellis.flow.steps.beside import BesideKind, BesideSettings

    name = f"{rail_name(flow, left.step)} beside {rail_name(flow, right.step)}"
    return _add_knot(flow, BesideKind.name, name, left, right, BesideSettings())


def add_blend(flow: Flow, main: Input, other: Input, settings: OtherSettings) -> tuple[Flow, str]:
    """Blend another rail into a main one; the flow and the blend's id.

    A blend that is there already takes one table more; otherwise what took rows from `main` takes the
    blended ones now.
    """
    from keen_trellis.flow.steps.blend import BlendKind, BlendSettings

    name = f"{rail_name(flow, main.step)} with {rail_name(flow, other.step)}"
    one = BlendSettings(others=(settings,))
    return _grown(flow, BlendKind.name, main, other, one) or _add_knot(
        flow, BlendKind.name, name, main, other, one
    )


def _grown(
    flow: Flow, kind: str, first: Input, more: Input, settings: msgspec.Struct
) -> tuple[Flow, str] | None:
    """The flow with one rail more at the knot of this kind whose rows are `first`, and its id; None if they
    are not of one.
    """
    step = flow.step(first.step)
    if step.kind != kind or first.port != ROWS:
        return None
    _refuse_circle(flow, first, more)
    longer = KINDS.of(step).with_more(KINDS.settings(step), settings)
    flow = _replaced(flow, msgspec.structs.replace(step, inputs=(*step.inputs, more)))
    return change_settings(flow, step.id, longer), step.id


def remove_other(flow: Flow, step_id: str, number: int) -> Flow:
    """Do without other table number `number`, from 0, of a blend. UsageError if it is the only one."""
    from keen_trellis.flow.steps.blend import BlendSettings, unused_port

    step = flow.step(step_id)
    blend: BlendSettings = decoded(step.settings, BlendSettings)
    if len(blend.others) < 2:
        raise UsageError("A blend needs another table.", remedy="Remove the blend instead.")
    others = tuple(entry for n, entry in enumerate(blend.others) if n != number)
    inputs = tuple(entry for n, entry in enumerate(step.inputs) if n != number + 1)
    flow = _replaced(flow, msgspec.structs.replace(step, inputs=inputs))
    flow = change_settings(flow, step_id, msgspec.structs.replace(blend, others=others))
    # The groups of later ones move up; what took those of this one says that they are gone.
    moved = {unused_port(n): unused_port(n - 1) for n in range(number + 1, len(blend.others))}
    moved[unused_port(number)] = f"{unused_port(number)} (removed)"
    return msgspec.structs.replace(
        flow, steps=tuple(_with_ports(entry, step_id, moved) for entry in flow.steps)
    )


def _refuse_circle(flow: Flow, onto: Input, rail: Input) -> None:
    if onto.step in flow.upstream(rail.step):
        raise UsageError("The rows would go round in a circle.", remedy="Branch the rail off before.")


def rail_name(flow: Flow, step_id: str) -> str:
    """What the rail is called on which a step stands."""
    step = flow.step(step_id)
    while len(step.inputs) == 1 and not _names_its_rows(step):
        step = flow.step(step.inputs[0].step)
    return step.name


def _names_its_rows(step: Step) -> bool:
    kind = KINDS.find(step.kind)
    return kind is not None and (kind.names_rail or kind.standing is Standing.ENDS)


def _add_knot(
    flow: Flow, kind: str, name: str, first: Input, second: Input, settings: msgspec.Struct
) -> tuple[Flow, str]:
    for entry in (first, second):
        flow.step(entry.step)
    name = _free_name(flow, name)
    step = Step(
        id=_free_id(flow, name),
        kind=kind,
        name=name,
        inputs=(first, second),
        settings=encode_settings(settings),
    )
    upstream_of_second = flow.upstream(second.step)
    steps = tuple(
        entry if entry.id in upstream_of_second else _redirected(entry, first, Input(step.id))
        for entry in flow.steps
    )
    return _with_step(msgspec.structs.replace(flow, steps=steps), step), step.id


def add_step(
    flow: Flow, kind: str, name: str, inputs: Sequence[Input], settings: msgspec.Struct
) -> tuple[Flow, str]:
    """Put a step of any kind behind some ports; the flow and the new step's id."""
    for entry in inputs:
        flow.step(entry.step)
    step = Step(
        id=_free_id(flow, name),
        kind=kind,
        name=_free_name(flow, name),
        inputs=tuple(inputs),
        settings=encode_settings(settings),
    )
    return _with_step(flow, step), step.id


def insert_before(
    flow: Flow, step_id: str, place: int, kind: str, settings: RailSettings
) -> tuple[Flow, str]:
    """Put a step of one input on the way to input number `place` of a step; the flow and the new one's id."""
    consumer = flow.step(step_id)
    flow, new = add_step(flow, kind, settings.caption, [consumer.inputs[place]], settings)
    inputs = tuple(Input(new) if n == place else entry for n, entry in enumerate(consumer.inputs))
    return _replaced(flow, msgspec.structs.replace(consumer, inputs=inputs)), new


def insert_after(flow: Flow, rows: Input, kind: str, settings: RailSettings) -> tuple[Flow, str]:
    """Put a step of one input behind a port, before all that took rows there; the flow and its id."""
    steps = flow.steps
    flow, new = add_step(flow, kind, settings.caption, [rows], settings)
    redirected = tuple(_redirected(entry, rows, Input(new)) for entry in steps)
    return msgspec.structs.replace(flow, steps=(*redirected, flow.step(new))), new


def add_output(flow: Flow, rows: Input, settings: OutputSettings) -> tuple[Flow, str]:
    """Write the rows at a port to a file when the flow runs; the flow and the new step's id."""
    from keen_trellis.flow.steps.output import OutputKind

    flow.step(rows.step)
    name = _free_name(flow, settings.file_name)
    step = Step(
        id=_free_id(flow, name),
        kind=OutputKind.name,
        name=name,
        inputs=(rows,),
        settings=encode_settings(settings),
    )
    return _with_step(flow, step), step.id


def change_settings(flow: Flow, step_id: str, settings: msgspec.Struct) -> Flow:
    """Give a step other settings; members that this program does not know stay as they are.

    A step that is called by what it does is called by what it does now.
    """
    step = flow.step(step_id)
    name = step.name
    if isinstance(settings, RailSettings):
        before = decoded(step.settings, type(settings))
        if re.fullmatch(rf"{re.escape(before.caption)}( \d+)?", name):
            name = free_name(
                settings.caption, {entry.name for entry in flow.steps if entry.id != step_id}, " "
            )
    changed = msgspec.structs.replace(step, name=name, settings=encode_settings(settings, step.settings))
    return _replaced(flow, changed)


def skip(flow: Flow, step_id: str, *, skipped: bool) -> Flow:
    """Let the rows of a step's first input pass through as if it were not there, or use it again."""
    step = flow.step(step_id)
    if not step.inputs:
        raise UsageError("A source cannot be skipped.", remedy="Skip the steps after it.")
    return _replaced(flow, msgspec.structs.replace(step, skipped=skipped))


def annotate(flow: Flow, step_id: str, note: str) -> Flow:
    """Give a step the user's words about it; none take them away."""
    return _replaced(flow, msgspec.structs.replace(flow.step(step_id), note=note.strip()))


def move_earlier(flow: Flow, step_id: str) -> Flow:
    """Let a step of one input change places with the one before it on its rail.

    UsageError where that is no such step, or where a branch begins between the two.
    """
    step = flow.step(step_id)
    before = flow.find(step.inputs[0].step) if len(step.inputs) == 1 else None
    if before is None or len(before.inputs) != 1 or step.inputs[0].port != ROWS:
        raise UsageError("There is no step before it on this rail that it could change places with.")
    if KINDS.ends_rail(step) or KINDS.ends_rail(before):
        raise UsageError("An output is always at the end of its rail.")
    if len(flow.consumers(before.id)) > 1:
        raise UsageError(
            f"Between {before.name} and {step.name} a branch begins.", remedy="Move the branch first."
        )
    steps = tuple(
        entry if entry.id in (step.id, before.id) else _redirected(entry, Input(step.id), Input(before.id))
        for entry in flow.steps
    )
    flow = msgspec.structs.replace(flow, steps=steps)
    flow = _replaced(flow, msgspec.structs.replace(step, inputs=before.inputs))
    return _replaced(flow, msgspec.structs.replace(before, inputs=(Input(step.id),)))


def move_later(flow: Flow, step_id: str) -> Flow:
    """Let a step of one input change places with the one behind it on its rail; UsageError as above."""
    behind = flow.consumers(step_id)
    if len(behind) != 1 or len(flow.step(step_id).inputs) != 1:
        raise UsageError("There is no single step after it to change places with.")
    return move_earlier(flow, behind[0].id)


def move_along(flow: Flow, step_id: str, other: str, *, after: bool) -> Flow | None:
    """Move a step of one input along its rail until it is right before, or right after, another one; None
    where that is not on its rail, or where it is there already.
    """

    def is_there(moved: Flow) -> bool:
        one, before = (step_id, other) if after else (other, step_id)
        return any(entry.step == before for entry in moved.step(one).inputs)

    if is_there(flow):
        return None
    for move in (move_earlier, move_later):
        moved = flow
        with suppress(UsageError):
            while True:
                moved = move(moved, step_id)
                if is_there(moved):
                    return moved
    return None


def rename(flow: Flow, step_id: str, name: str) -> Flow:
    """Give a step another name, which no other step may have."""
    name = name.strip()
    if not name:
        raise UsageError("A step needs a name.")
    if any(step.name == name and step.id != step_id for step in flow.steps):
        raise UsageError(f"Another step is called “{name}” already.", remedy="Choose another name.")
    return _replaced(flow, msgspec.structs.replace(flow.step(step_id), name=name))


def swap_sides(flow: Flow, step_id: str, settings: JoinSettings) -> Flow:
    """Let left and right of a knot change places; the rows kept stay the same, order and names may not."""
    step = flow.step(step_id)
    left, right = step.inputs
    swapped = msgspec.structs.replace(
        step, inputs=(right, left), settings=encode_settings(settings.swapped, step.settings)
    )
    return _replaced(flow, swapped)


def remove_step(flow: Flow, step_id: str) -> Flow:
    """Take a step out. What took its rows takes those of its first input; without one it says what it lacks,
    and so does what took a stub of it.
    """
    step = flow.step(step_id)
    remaining = [entry for entry in flow.steps if entry.id != step_id]
    if step.inputs:
        remaining = [_redirected(entry, Input(step_id), step.inputs[0]) for entry in remaining]
    return msgspec.structs.replace(flow, steps=tuple(remaining))


def reconnect(flow: Flow, step_id: str, place: int, rows: Input) -> Flow:
    """Let input number `place` of a step take other rows; UsageError if they would go round in a circle."""
    step = flow.step(step_id)
    _refuse_circle(flow, Input(step_id), rows)
    inputs = tuple(rows if n == place else entry for n, entry in enumerate(step.inputs))
    return _replaced(flow, msgspec.structs.replace(step, inputs=inputs))


_NO_FIELDS = ("values", "value", "pairs", "corrections", "path", "sheet")


def replace_field(flow: Flow, step_id: str, old: str, new: str) -> Flow:
    """Let a step use another field wherever it names `old`, alone or quoted in an expression."""

    def changed(value: object) -> object:
        if isinstance(value, str):
            return new if value == old else value.replace(quoted_name(old), quoted_name(new))
        if isinstance(value, list):
            return [changed(entry) for entry in value]
        if isinstance(value, dict):
            return {key: entry if key in _NO_FIELDS else changed(entry) for key, entry in value.items()}
        return value

    step = flow.step(step_id)
    settings = msgspec.json.encode(changed(msgspec.json.decode(step.settings)))
    return _replaced(flow, msgspec.structs.replace(step, settings=settings))


def paste_step(flow: Flow, step: Step, inputs: Sequence[Input], *, in_between: bool) -> tuple[Flow, str]:
    """Put a copy of a step behind some ports; in_between: before all that took the first one's rows."""
    new = msgspec.structs.replace(
        step, id=_free_id(flow, step.name), name=_free_name(flow, step.name), inputs=tuple(inputs)
    )
    steps = flow.steps
    if in_between:
        steps = tuple(_redirected(entry, inputs[0], Input(new.id)) for entry in steps)
    return msgspec.structs.replace(flow, steps=(*steps, new)), new.id


def carry_on(flow: Flow, before: Input, ids: Mapping[str, str], new: str) -> Flow:
    """Let what took rows of a pasted step take them from the one that was pasted behind it."""
    old, pasted = Input(ids[before.step], before.port), set(ids.values())
    steps = tuple(
        entry if entry.id in pasted or entry.id == new else _redirected(entry, old, Input(new))
        for entry in flow.steps
    )
    return msgspec.structs.replace(flow, steps=steps)


def _with_step(flow: Flow, step: Step) -> Flow:
    return msgspec.structs.replace(flow, steps=(*flow.steps, step))


def _replaced(flow: Flow, step: Step) -> Flow:
    steps = tuple(step if entry.id == step.id else entry for entry in flow.steps)
    return msgspec.structs.replace(flow, steps=steps)


def _with_ports(step: Step, of: str, moved: Mapping[str, str]) -> Step:
    """The step, taking other ports of the step `of`."""
    inputs = tuple(
        Input(of, moved.get(entry.port, entry.port)) if entry.step == of else entry for entry in step.inputs
    )
    return msgspec.structs.replace(step, inputs=inputs)


def _redirected(step: Step, old: Input, new: Input) -> Step:
    if old not in step.inputs:
        return step
    return msgspec.structs.replace(
        step, inputs=tuple(new if entry == old else entry for entry in step.inputs)
    )


def _free_id(flow: Flow, name: str) -> str:
    return free_id(name, {step.id for step in flow.steps}, "step")


def _free_name(flow: Flow, name: str) -> str:
    return free_name(name, {step.name for step in flow.steps})
