"""Undo and redo: a list of flows, each with the name of the edit that made it."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from keen_trellis.flow.graph import Flow


class History(msgspec.Struct):
    """The flow as it is, was, and would be again."""

    flow: Flow
    _before: list[tuple[str, Flow]] = msgspec.field(default_factory=list)
    _after: list[tuple[str, Flow]] = msgspec.field(default_factory=list)

    def push(self, flow: Flow, edit: str) -> None:
        """Make `flow` the current one; `edit` says what was done. Nothing happens if it is the same."""
        if flow == self.flow:
            return
        self._before.append((edit, self.flow))
        self._after.clear()
        self.flow = flow

    def undo(self) -> str:
        """Go back by one edit; its name. There must be one."""
        edit, flow = self._before.pop()
        self._after.append((edit, self.flow))
        self.flow = flow
        return edit

    def redo(self) -> str:
        """Go forward by one edit again; its name. There must be one."""
        edit, flow = self._after.pop()
        self._before.append((edit, self.flow))
        self.flow = flow
        return edit

    def carry(self, change: Callable[[Flow], Flow]) -> None:
        """Change every flow, those before and after it too, in what no edit is about."""
        self.flow = change(self.flow)
        for flows in (self._before, self._after):
            flows[:] = [(edit, change(flow)) for edit, flow in flows]

    def drop_last(self) -> None:
        """Go back by one edit as if it had never been made: it cannot be redone."""
        self.undo()
        self._after.pop()

    @property
    def edits(self) -> list[tuple[str, Flow, Flow]]:
        """The edits that can be undone, the latest first, each with the flow before and after it."""
        flows = [flow for _, flow in self._before] + [self.flow]
        return [(name, before, flows[number + 1]) for number, (name, before) in enumerate(self._before)][::-1]

    @property
    def undo_name(self) -> str:
        """The name of the edit that undo would take back, "" if there is none."""
        return self._before[-1][0] if self._before else ""

    @property
    def redo_name(self) -> str:
        """The name of the edit that redo would make again, "" if there is none."""
        return self._after[-1][0] if self._after else ""
