"""Where a row comes from, step by step back to its sources, and where a source's row goes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec
import numpy as np

from keen_trellis.core.table import IndexVector, RowOrigin, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text
from keen_trellis.flow.graph import ROWS, Flow, Step
from keen_trellis.flow.kinds import StepResult
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps.join import (
    MATCHED,
    PASSED_OVER,
    UNMATCHED_LEFT,
    UNMATCHED_RIGHT,
)
from keen_trellis.flow.wording import counted

_MOST_ROWS = 5


class Trace(msgspec.Struct, frozen=True):
    """One step of a row's way. depth: how far from where it began.  said: what became of it there.

    row: its number at the port, -1 if it is not there.  origin: of a source's row.  cell: what the cell that
    is followed was there, with its field's name; "" where it is not read from.
    """

    step: str
    name: str
    port: str
    depth: int
    said: str
    row: int = -1
    origin: RowOrigin | None = None
    cell: str = ""


def back(
    runner: Runner, flow: Flow, step_id: str, port: str, row: int, task: Task, field: str = ""
) -> list[Trace]:
    """The way of one row back to file, sheet and row of each source. Raises what computing it raises.

    field: whose cell is followed, and said at each step that it is read from.
    """
    known: dict[int, tuple[Step, str]] = {}
    before = flow.upstream(step_id) - {step_id}
    for step in flow.in_order():
        if step.id in before:
            for name, table in runner.result(flow, step.id, task).ports.items():
                known.setdefault(id(table), (step, name))
    table = runner.result(flow, step_id, task).ports[port]
    start = flow.step(step_id)
    names = (field,) if field else ()
    if id(table) in known:  # an output has its input's own rows
        own = Trace(step_id, start.name, port, 0, f"row {row + 1:,}", row, None, _cell(table, row, names))
        return [own, *_back(known, table, row, 1, names)]
    return list(_back({**known, id(table): (start, port)}, table, row, 0, names))


def _back(
    known: dict[int, tuple[Step, str]], table: Table, row: int, depth: int, names: Sequence[str]
) -> Iterator[Trace]:
    """names: the fields that the cell which is followed is read from here."""
    found = known.get(id(table))
    parents = table.parents(row)
    if found is not None:
        step, port = found
        origin = table.origins(row)[0] if not parents else None
        said = str(origin) if origin is not None else f"row {row + 1:,}"
        yield Trace(step.id, step.name, port, depth, said, row, origin, _cell(table, row, names))
        depth += 1
    for parent, rows in parents:
        theirs = [own for name in names for source, own in table.read_from(name) if source is parent]
        for number in rows[:_MOST_ROWS]:
            yield from _back(known, parent, int(number), depth, tuple(dict.fromkeys(theirs)))
        hidden = len(rows) - _MOST_ROWS
        if hidden > 0 and id(parent) in known:
            step, port = known[id(parent)]
            yield Trace(step.id, step.name, port, depth, f"and {hidden:,} more rows")


def _cell(table: Table, row: int, names: Sequence[str]) -> str:
    """Cells of one row, each with its field's name."""
    if not names:
        return ""
    said = []
    for name, cells in zip(names, table.take(np.array([row]), list(names)), strict=True):
        text = as_text(cells.values)[0].as_py()
        absent = cells.absent is not None and bool(cells.absent[0])
        said.append(f"{name}: {'no partner' if absent else 'blank' if text is None else text}")
    return "; ".join(said)


def forward(runner: Runner, flow: Flow, step_id: str, row: int, task: Task) -> list[Trace]:
    """Where a source's row goes: matched, unmatched or passed over at each knot, and into which outputs."""
    start = flow.step(step_id)
    table = runner.result(flow, step_id, task).rows
    made = [Trace(step_id, start.name, ROWS, 0, f"{table.origins(row)[0]}", row)]
    reached = {step_id: 0}
    for step in flow.in_order():
        depths = [reached[entry.step] for entry in step.inputs if entry.step in reached]
        if not depths:
            continue
        task.checkpoint(0, 0, f"following the row through {step.name}")
        result = runner.result(flow, step.id, task)
        ports = {name: port.rows_from(table, np.array([row])) for name, port in result.ports.items()}
        names = [shape.name for shape in runner.input_shapes(flow, step, task)]
        reached[step.id] = max(depths) + 1
        said = _said(step, result, ports, names)
        numbers = ports[ROWS]
        first = int(numbers[0]) if len(numbers) else -1
        made.append(Trace(step.id, step.name, ROWS, reached[step.id], said, first))
    return made


def _said(step: Step, result: StepResult, ports: dict[str, IndexVector], names: list[str]) -> str:
    """What became of a row at a step."""
    kept = len(ports[ROWS])
    into = f"in {kept:,} {'row' if kept == 1 else 'rows'}" if kept else "left out"
    if result.match is None:
        return into
    pairs = len(ports.get(MATCHED, ()))
    if pairs:
        return f"matched in {pairs:,} {'pair' if pairs == 1 else 'pairs'}, {into}"
    for port, name in ((UNMATCHED_LEFT, names[1]), (UNMATCHED_RIGHT, names[0])):
        if len(ports[port]):
            return f"unmatched, found {counted(0, name).replace('0 ', 'no ')}; {into}"
    return f"passed over; {into}" if len(ports[PASSED_OVER]) else "gone before it came here"
