"""The tables that a query names, among those that are there."""

from __future__ import annotations

from collections.abc import Mapping

from keen_trellis.core.errors import UsageError
from keen_trellis.flow.edits import add_source
from keen_trellis.flow.from_sql.query import TableOf
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import sources_of

_LISTED = 12


def finding(named: Mapping[str, SourceSettings]) -> TableOf:
    """What finds a table: a rail of the flow that is called so, or else one of some tables by their names.

    A name is meant in any case, and with or without its schema.
    """

    def find(flow: Flow, name: str, again: str) -> tuple[Flow, str]:
        # Where the query has a table a second time it is a rail of its own, called `again`.
        rails = {flow.step(step).name: step for step in sources_of(flow, KINDS)}
        rail = _meant(name, rails)
        if rail and not again:
            return flow, rails[rail]
        table = _meant(name, named)
        if table:
            return add_source(flow, named[table], again or name.rpartition(".")[2])
        if rail:
            return add_source(flow, KINDS.settings(flow.step(rails[rail])), again)
        known = ", ".join(list(dict.fromkeys([*rails, *named]))[:_LISTED]) or "none"
        raise UsageError(
            f"The query’s table “{name}” is not here.",
            remedy=f"Open the file or database that has it. There are: {known}.",
        )

    return find


def _meant(name: str, among: Mapping[str, object]) -> str:
    """The one that a name means: called just so, then in any case, then without a schema; "" for none."""
    bare = name.rpartition(".")[2].casefold()
    for found in (
        [other for other in among if other == name],
        [other for other in among if other.casefold() == name.casefold()],
        [other for other in among if other.rpartition(".")[2].casefold() == bare],
    ):
        if len(found) == 1:
            return found[0]
        if found:
            raise UsageError(f"“{name}” can be several tables: {', '.join(found[:_LISTED])}.")
    return ""
