"""Fields whose values appear in no report: those that are marked so, and whatever is read from them."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import msgspec

from keen_trellis.core.insight.guards import CONFIDENTIAL
from keen_trellis.core.link import LinkField
from keen_trellis.core.table import Table, fields_behind
from keen_trellis.flow.analysis.value import LEFT_OUT
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.kinds import Kinds


def confidential(flow: Flow, kinds: Kinds) -> tuple[str, ...]:
    """The names of the fields that the flow and its guards mark as confidential."""
    found = dict.fromkeys(flow.confidential)
    for step in flow.steps:
        kind = kinds.find(step.kind)
        if kind is None or not kind.has_guards:
            continue
        for guard in kinds.settings(step).guards:
            if guard.startswith(CONFIDENTIAL):
                found[guard.removeprefix(CONFIDENTIAL).strip()] = None
    return tuple(found)


class Withheld(msgspec.Struct):
    """names: of fields, wherever they occur; a field that is read from one of them is withheld, too."""

    names: frozenset[str]
    _known: dict[tuple[Table, str], bool] = msgspec.field(default_factory=dict)

    def __bool__(self) -> bool:
        return bool(self.names)

    def hides(self, table: Table, name: str) -> bool:
        """Whether the values of a field are withheld."""
        if not self.names:
            return False
        key = (table, name)
        if key not in self._known:
            self._known[key] = any(own in self.names for _, own, _ in fields_behind(table, name))
        return self._known[key]

    def of(self, table: Table) -> list[str]:
        """The fields of a table that are withheld."""
        return [name for name in table.names if self.hides(table, name)]

    def hides_link(self, links: Sequence[LinkField], left: Table, right: Table) -> bool:
        """Whether a value of one side of some link is withheld."""
        sides = [link.sides(left.fields, right.fields) for link in links]
        return any(self.hides(left, name) for one, _ in sides for name in one.names) or any(
            self.hides(right, name) for _, other in sides for name in other.names
        )

    def sentence(self, step: Step, said: str, inputs: Collection[Table]) -> str:
        """What a step says, unless values of withheld fields may be in it: where its settings name one."""
        if not self.names:
            return said
        hidden = {name for table in inputs for name in self.of(table)}
        told = step.settings.decode()
        named = sorted(name for name in hidden if name in said or name in told)
        return f"{LEFT_OUT}{', '.join(named)}.)" if named else said
