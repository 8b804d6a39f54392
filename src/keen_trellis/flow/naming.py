"""Names that nothing else has, and steps by their names."""

from __future__ import annotations

import re
from collections.abc import Collection, Container

from keen_trellis.core.errors import UsageError
from keen_trellis.flow.graph import Flow


def free_name(wanted: str, taken: Container[str], between: str = " ", *, folded: bool = False) -> str:
    """The wanted name, or the first of “name 2”, “name 3” and so on that is not taken.

    folded: case does not tell names apart, and those taken are casefolded.
    """
    name, number = wanted, 2
    while (name.casefold() if folded else name) in taken:
        name, number = f"{wanted}{between}{number}", number + 1
    return name


def free_id(name: str, taken: Container[str], otherwise: str) -> str:
    """An id that a reader of the file knows the name by, `otherwise` where nothing of the name can stand."""
    return free_name(re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or otherwise, taken, "-")


def step_named(
    flow: Flow, name: str, among: Collection[str] | None = None, missing: str = "No step is called “{}”."
) -> str:
    """The id of the step with this name or id; UsageError if none has it, or several have.

    among: the ids of those that may be meant; without it all.  missing: what is said where it is none.
    """
    steps = [step for step in flow.steps if among is None or step.id in among]
    found = [step.id for step in steps if step.id == name] or [s.id for s in steps if s.name == name]
    if len(found) == 1:
        return found[0]
    if found:
        raise UsageError(
            f"Several steps are called “{name}”.", remedy=f"Name one by its id: {', '.join(found)}."
        )
    known = ", ".join(step.name for step in steps[:20])
    raise UsageError(missing.format(name), remedy=f"There are: {known}.")
