"""The proof of a hand-off: the same part of the tables computed there and here, and compared."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import ArrowTable, Field
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text, one_array
from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import KnotCounts
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.snapshot import Snapshot, Snapshots
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.to_sql import Part, selected
from keen_trellis.flow.wording import counted
from keen_trellis.handoff.restricting import BUCKETS, Restricted
from keen_trellis.handoff.running import HandOff, Ran, whole_columns
from keen_trellis.handoff.there import There

_SHOWN = 5  # rows that differ
_TAKEN = "taken"  # the reader of sources whose rows were taken
_BLANK, _BETWEEN, _VALUE = "b", "\x1f", "v"


class Compared(msgspec.Struct, frozen=True):
    """The rows of a step there and here. only_here, only_there: the first of those that the other has not as
    often, as text, None for a blank; fields: their names.
    """

    step: str
    name: str
    port: str
    rows_here: int
    rows_there: int
    only_here: list[list[str | None]]
    only_there: list[list[str | None]]
    fields: list[str]
    in_order: bool

    @property
    def equal(self) -> bool:
        """Whether both have the same rows, each as often."""
        return self.rows_here == self.rows_there and not self.only_here and not self.only_there


class Proof(msgspec.Struct, frozen=True):
    """What a proof came to. buckets: how many of BUCKETS were taken.  outputs: all that were compared.
    differs: the first step whose rows differ.
    """

    ran: Ran
    buckets: int
    restricted: Restricted
    outputs: tuple[Compared, ...]
    differs: Compared | None

    @property
    def equal(self) -> bool:
        """Whether counts and rows are the same there and here."""
        counts = not any(knot.differs for knot in self.ran.knots)
        return counts and all(entry.equal for entry in self.outputs)

    @property
    def statement(self) -> str:
        """What was proven, in words."""
        rows = sum(entry.rows for entry in self.ran.sources)
        is_all = self.buckets >= BUCKETS or not self.restricted.by
        part = "all rows" if is_all else f"{self.buckets:,} of {BUCKETS:,} parts of the rows"
        of = f"{part} ({counted(rows, 'rows')} of {counted(len(self.ran.sources), 'sources')})"
        if self.equal:
            knots, ends = counted(len(self.ran.knots), "knots"), counted(len(self.outputs), "outputs")
            found = sum(entry.rows_there for entry in self.outputs)
            return f"Equal: {of} come to the same there and here: {knots}, {ends}, {counted(found, 'rows')}."
        if self.differs is None:
            names = ", ".join(knot.name for knot in self.ran.knots if knot.differs)
            return f"Not equal: on {of} the counts of {names} differ, though the rows are the same."
        return (
            f"Not equal: on {of} the rows begin to differ at {self.differs.name}: "
            f"{self.differs.rows_here:,} here, {self.differs.rows_there:,} there."
        )


class _Taken:
    """Snapshots in which some sources have only the rows that were taken of them. taken: by their steps: of
    one table each source may have other rows.
    """

    def __init__(self, snapshots: Snapshots, taken: Mapping[str, Snapshot]) -> None:
        self._snapshots, self._taken = snapshots, taken

    def get(self, settings: SourceSettings, task: Task) -> Snapshot:
        if settings.reader == _TAKEN:
            return self._taken[settings.path]
        return self._snapshots.get(settings, task)

    def files(self, settings: SourceSettings) -> list[Path]:
        return self._snapshots.files(settings)


def prove(handoff: HandOff, there: There, buckets: int, task: Task) -> Proof:
    """Compute part of the rows there and here, and compare them. TrellisError; Cancelled."""
    ran, chosen = handoff.run(there, task, buckets=buckets)
    flow, taken = handoff.flow, {}
    for source in handoff.query.sources:
        if there.holds(source.settings):
            what = f"rows of {source.rows.table}"
            rows = there.rows(selected(source.rows), source.rows.fields, what, task)
            whole = handoff.runner.snapshots.get(source.settings, task)
            taken[source.step] = _of_part(whole, rows, source.step)
            flow = change_settings(flow, source.step, SourceSettings(_TAKEN, source.step))
    here = Runner(handoff.runner.kinds, _Taken(handoff.runner.snapshots, taken))
    here.day = handoff.runner.day
    compared = _Comparing(handoff, there, (here, flow), task)
    counts = compared.counts([knot.step for knot in ran.knots])
    ran.knots = [msgspec.structs.replace(knot, here=counts[knot.step]) for knot in ran.knots]
    outputs = tuple(compared.part(part) for part in compared.ends())
    differs = None
    if not all(entry.equal for entry in outputs):
        differs = next(entry for entry in map(compared.part, handoff.query.parts) if not entry.equal)
    ran.sent, ran.fetched = there.sent, there.fetched
    return Proof(ran, buckets, chosen, outputs, differs)


def _of_part(whole: Snapshot, rows: pa.Table, step: str) -> Snapshot:
    """A snapshot of some rows of a source, typed as it is."""
    untyped = [field.name for field in whole.table.fields if field.untyped]
    identity = f"{whole.identity} as {step} has it"
    return Snapshot(ArrowTable(rows, untyped=untyped), (), identity=identity, seconds=0.0)


class _Comparing:
    """Compares what steps came to there and here."""

    def __init__(self, handoff: HandOff, there: There, here: tuple[Runner, Flow], task: Task) -> None:
        self._handoff, self._there, self._task = handoff, there, task
        self._here, self._flow = here

    def counts(self, steps: Iterable[str]) -> dict[str, KnotCounts]:
        """What the matches of knots come to here."""
        flow, found = self._flow, {}
        for step in steps:
            match = self._here.result(flow, step, self._task).match
            assert match is not None
            kind = self._here.settings(flow, flow.step(step)).join_type
            found[step] = KnotCounts.of(match.counts, kind)
        return found

    def ends(self) -> list[Part]:
        """The parts that are outputs."""
        tables = {rows.table for rows in self._handoff.query.ends}
        return [part for part in self._handoff.query.parts if part.rows.table in tables]

    def part(self, part: Part) -> Compared:
        """The rows of a step there and here."""
        self._task.checkpoint(0, 0, f"comparing {part.rows.table}")
        step = part.planned.step
        table = self._here.result(self._flow, step.id, self._task).ports[part.port]
        there = self._there.rows(selected(part.rows), part.rows.fields, part.rows.table, self._task)
        one, other = as_lines(whole_columns(table), part.rows.fields), as_lines(there, part.rows.fields)
        only_here, only_there = apart(one, other)
        return Compared(
            step.id,
            part.rows.table,
            part.port,
            len(one),
            len(other),
            only_here,
            only_there,
            list(table.names),
            one.equals(other),
        )


def as_lines(rows: pa.Table, fields: Sequence[Field]) -> pa.Array:
    """Each row as one text, so that rows are the same if and only if their texts are."""
    columns = [_as_text(rows.column(field.name), field) for field in fields]
    if not columns:
        return pa.array([""] * rows.num_rows, pa.large_string())
    return pc.binary_join_element_wise(*columns, pa.scalar(_BETWEEN, pa.large_string()))


def _as_text(column: pa.ChunkedArray, field: Field) -> pa.Array:
    values = one_array(column).cast(field.arrow_type)
    if field.type is FieldType.REAL:
        values = pc.add(values, 0.0)  # -0.0 is 0.0
    text = as_text(values).cast(pa.large_string())
    # Of a sign that stands between values, in a value two: no row looks like another one.
    text = pc.replace_substring(text, _BETWEEN, _BETWEEN * 2)
    marked = pc.binary_join_element_wise(
        pa.scalar(_VALUE, pa.large_string()), text, pa.scalar("", pa.large_string())
    )
    return pc.fill_null(marked, _BLANK)


def apart(here: pa.Array, there: pa.Array) -> tuple[list[list[str | None]], list[list[str | None]]]:
    """The first lines of either that the other has not as often."""
    if here.equals(there):
        return [], []
    coded = pa.concat_arrays([here, there]).dictionary_encode()
    codes, known = coded.indices.to_numpy(), len(coded.dictionary)
    more = np.bincount(codes[: len(here)], minlength=known) - np.bincount(codes[len(here) :], minlength=known)
    return _first(coded.dictionary, more > 0), _first(coded.dictionary, more < 0)


def _first(lines: pa.Array, which: np.ndarray[Any, np.dtype[np.bool_]]) -> list[list[str | None]]:
    found = lines.take(pa.array(np.flatnonzero(which)[:_SHOWN])).to_pylist()
    return [[None if part == _BLANK else part[1:] for part in line.split(_BETWEEN)] for line in found]
