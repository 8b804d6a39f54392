"""The mark of each source: two letters and a hue, the same everywhere in the window."""

from __future__ import annotations

import msgspec

from keen_trellis.flow.graph import Flow
from keen_trellis.flow.steps import KINDS


class Mark(msgspec.Struct, frozen=True):
    """letters: two, the first in upper case.  hue: number of the source's hue."""

    letters: str
    hue: int


def marks_of(flow: Flow) -> dict[str, Mark]:
    """The mark of every source step by its id, no two alike where names allow it."""
    marks: dict[str, Mark] = {}
    taken: set[str] = set()
    for number, step in enumerate(entry for entry in flow.steps if KINDS.begins_rail(entry)):
        letters = [letter for letter in step.name if letter.isalnum()] or ["?"]
        wanted = [letters[0].upper() + second.lower() for second in letters[1:] + list("23456789")]
        found = next((pair for pair in wanted if pair not in taken), wanted[0])
        taken.add(found)
        marks[step.id] = Mark(found, number)
    return marks


def first_source(flow: Flow, step_id: str) -> str:
    """The source step whose rows lead to `step_id`: its first input's first input and so on, "" if lost."""
    step = flow.find(step_id)
    while step is not None and step.inputs:
        step = flow.find(step.inputs[0].step)
    return step.id if step is not None and KINDS.begins_rail(step) else ""


def mark_of(flow: Flow, step_id: str) -> Mark | None:
    """The mark of the source whose rows lead to `step_id`, if it has one."""
    return marks_of(flow).get(first_source(flow, step_id))


def hue_of(flow: Flow, step_id: str) -> int | None:
    """The hue of the source whose rows lead to `step_id`, if it has one."""
    mark = mark_of(flow, step_id)
    return mark.hue if mark else None
