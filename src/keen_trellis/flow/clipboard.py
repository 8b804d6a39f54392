"""Steps as text that can be copied from one flow and pasted into the same or another one."""

from __future__ import annotations

from collections.abc import Collection

import msgspec

from keen_trellis.core.errors import UsageError
from keen_trellis.flow import edits
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.graph import Flow, Input, Step
from keen_trellis.flow.kinds import Kinds

FORMAT = "keen-trellis/steps/1"


class _Copied(msgspec.Struct):
    """What is on the clipboard. The steps stand in the order of the flow, their settings as JSON."""

    format: str
    steps: list[dict[str, msgspec.Raw]]


def copied(flow: Flow, step_ids: Collection[str]) -> str:
    """The steps as text."""
    steps = [
        {
            "id": msgspec.Raw(msgspec.json.encode(step.id)),
            "kind": msgspec.Raw(msgspec.json.encode(step.kind)),
            "name": msgspec.Raw(msgspec.json.encode(step.name)),
            "note": msgspec.Raw(msgspec.json.encode(step.note)),
            "inputs": msgspec.Raw(msgspec.json.encode(step.inputs)),
            "settings": msgspec.Raw(step.settings),
        }
        for step in flow.in_order()
        if step.id in step_ids
    ]
    return msgspec.json.encode(_Copied(FORMAT, steps)).decode()


def are_steps(text: str) -> bool:
    """Whether a text is one that `copied` made."""
    return text.startswith(f'{{"format":"{FORMAT}"')


def pasted(flow: Flow, kinds: Kinds, text: str, behind: Input | None) -> tuple[Flow, list[str]]:
    """The flow with the steps of `text`, named anew where their names are taken; their ids.

    Steps that took rows of each other do so again. The first step on a rail that took rows from elsewhere is
    put behind `behind`, before all that took rows there; others take the rows that they took before, as far
    as the flow has them. UsageError if the text holds no steps.
    """
    try:
        found = decoded(text, _Copied)
        steps = [_step(entry) for entry in found.steps]
    except (msgspec.DecodeError, KeyError) as error:
        raise UsageError(
            "The clipboard holds no steps.", remedy="Copy steps in the trellis first."
        ) from error
    ids: dict[str, str] = {}
    for step in steps:
        inputs = [Input(ids[entry.step], entry.port) if entry.step in ids else entry for entry in step.inputs]
        from_elsewhere = bool(step.inputs) and step.inputs[0].step not in ids
        on_rail = kinds.on_rail(step) and len(inputs) == 1
        if from_elsewhere and behind is not None:
            inputs[0] = behind
        elif from_elsewhere and flow.find(inputs[0].step) is None:
            raise UsageError(
                f"{step.name} needs rows, and there is nothing here that it took them from.",
                remedy="Select the rail or step that it should come after.",
            )
        flow, new = edits.paste_step(flow, step, inputs, in_between=on_rail and from_elsewhere)
        ids[step.id] = new
        if on_rail and not from_elsewhere:
            flow = edits.carry_on(flow, step.inputs[0], ids, new)
    return flow, list(ids.values())


def _step(entry: dict[str, msgspec.Raw]) -> Step:
    return Step(
        id=decoded(entry["id"], str),
        kind=decoded(entry["kind"], str),
        name=decoded(entry["name"], str),
        note=decoded(entry["note"], str),
        inputs=decoded(entry["inputs"], tuple[Input, ...]),
        settings=bytes(entry["settings"]),
    )
