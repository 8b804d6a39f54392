"""What changed since the sources were read before: by source, by knot, by output."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.changes import FieldChange, FieldChangeKind, TableChanges, changes
from keen_trellis.core.match import MatchCounts
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.kinds import Kinds, StepResult
from keen_trellis.flow.last_run import KnotCounts, LastRun, SourceCounts, flow_fingerprint, now
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.snapshot import Snapshot, Snapshots
from keen_trellis.flow.steps.join import UNMATCHED_LEFT, UNMATCHED_RIGHT


@dataclass(frozen=True)
class SourceChange:
    """One source. changes: None where its earlier rows are not there, or it cannot be read (error).

    old: why its rows are still those from before.  before, after: the rows that the changes speak of.
    """

    step: str
    name: str
    before_rows: int | None = None
    after_rows: int | None = None
    fields: tuple[FieldChange, ...] = ()
    changes: TableChanges | None = None
    before: Table | None = field(default=None, compare=False, repr=False)
    after: Table | None = field(default=None, compare=False, repr=False)
    error: str = ""
    old: str = ""

    @property
    def is_unchanged(self) -> bool:
        if self.error or self.old or self.fields:
            return False
        return not self.changes if self.changes is not None else self.before_rows == self.after_rows


@dataclass(frozen=True)
class Newly:
    """The rows of one side of a knot that found a partner before, or were not there, and find none now.

    table: all rows without a partner now.  changes: against those without one before.
    """

    table: Table = field(compare=False, repr=False)
    changes: TableChanges

    @property
    def rows(self) -> int:
        return len(self.changes.added)


class KnotChange(msgspec.Struct, frozen=True):
    """One knot: its counts before and after, and the rows that newly find no partner, by the knot's port."""

    step: str
    name: str
    sides: tuple[str, str]
    before: KnotCounts | None = None
    after: KnotCounts | None = None
    newly: Mapping[str, Newly] = msgspec.field(default_factory=dict)
    error: str = ""

    @property
    def is_unchanged(self) -> bool:
        return not self.error and self.before == self.after and not any(n.rows for n in self.newly.values())


class OutputChange(msgspec.Struct, frozen=True):
    """One output: how many rows it got before and gets now."""

    step: str
    name: str
    before: int | None = None
    after: int | None = None
    error: str = ""

    @property
    def is_unchanged(self) -> bool:
        return not self.error and self.before == self.after


class Comparison(msgspec.Struct, frozen=True):
    """All of it, in the order of the flow. since: when the rows before were read, in UTC.

    edited: whether the flow itself said something else then.
    """

    since: str
    sources: tuple[SourceChange, ...] = ()
    knots: tuple[KnotChange, ...] = ()
    outputs: tuple[OutputChange, ...] = ()
    edited: bool = False

    @property
    def is_unchanged(self) -> bool:
        return (
            not self.edited
            and all(source.is_unchanged for source in self.sources)
            and all(knot.is_unchanged for knot in self.knots)
            and all(output.is_unchanged for output in self.outputs)
        )

    def as_members(self) -> dict[str, Any]:
        """The comparison as the members of a JSON object."""
        return {
            "since": self.since,
            "flow_edited": self.edited,
            "sources": [_source_members(entry) for entry in self.sources],
            "knots": [_knot_members(entry) for entry in self.knots],
            "outputs": [
                {
                    "step": entry.step,
                    "name": entry.name,
                    "rows_before": entry.before,
                    "rows_after": entry.after,
                }
                for entry in self.outputs
            ],
        }


def compare(
    flow: Flow, now_run: Runner, before: Snapshots, last: LastRun | None, task: Task | None = None
) -> Comparison:
    """What the flow comes to now against what it came to with the snapshots from before.

    The counts are compared with those that `last` has; where it has none, with what the flow, as it is now,
    comes to with the rows from before.
    """
    task = task or Task()
    earlier = now_run.with_snapshots(before)
    known = last or LastRun("")
    sources, knots, outputs = [], [], []
    by_source: dict[str, SourceChange] = {}
    for step in flow.in_order():
        task.checkpoint(0, 0, f"comparing {step.name}")
        if now_run.kinds.begins_rail(step):
            change = _source_change(flow, step, now_run, earlier, known, task)
            by_source[step.id] = change
            sources.append(change)
        elif step.skipped:
            continue
        elif now_run.kinds.matches(step):
            knots.append(_knot_change(flow, step, now_run, earlier, known, by_source, task))
        elif now_run.kinds.ends_rail(step):
            outputs.append(_output_change(flow, step, now_run, earlier, known, task))
    edited = bool(known.flow) and known.flow != flow_fingerprint(flow, now_run.kinds)
    return Comparison(known.taken, tuple(sources), tuple(knots), tuple(outputs), edited)


def run_as_it_is(flow: Flow, kinds: Kinds, runner: Runner, snapshots: Snapshots, task: Task) -> LastRun:
    """What the flow comes to now, for the next time. Steps that cannot be computed are left out."""
    results = {step.id: _result(runner, flow, step, task) for step in flow.in_order()}
    computed = {
        step_id: (result.rows.rows, result.match.counts if result.match is not None else None)
        for step_id, result in results.items()
        if isinstance(result, StepResult)
    }
    sources = {
        step.id: snapshots.get(kinds.settled(flow, step), task)
        for step in flow.steps
        if kinds.begins_rail(step) and step.id in computed
    }
    return counts_of(flow, kinds, computed, sources)


def counts_of(
    flow: Flow,
    kinds: Kinds,
    results: Mapping[str, tuple[int, MatchCounts | None]],
    snapshots: Mapping[str, Snapshot],
) -> LastRun:
    """What is known of a flow, to be remembered.

    results: by step its rows, and the counts of its match if it has one.  snapshots: of the sources, by step.
    """
    found = LastRun(now(), {}, {}, {}, flow_fingerprint(flow, kinds))
    for step in flow.steps:
        rows, counts = results.get(step.id, (None, None))
        snapshot = snapshots.get(step.id)
        if snapshot is not None:
            found.sources[step.id] = SourceCounts.of(snapshot.table, snapshot.content)
        elif counts is not None:
            found.knots[step.id] = KnotCounts.of(counts, kinds.settings(step).join_type)
        elif rows is not None and kinds.ends_rail(step) and not step.skipped:
            found.outputs[step.id] = rows
    return found


def _result(runner: Runner, flow: Flow, step: Step, task: Task) -> StepResult | TrellisError:
    try:
        return runner.result(flow, step.id, task)
    except TrellisError as error:
        return error


def _source_change(
    flow: Flow, step: Step, now_run: Runner, earlier: Runner, known: LastRun, task: Task
) -> SourceChange:
    after = _result(now_run, flow, step, task)
    before = _result(earlier, flow, step, task)
    counts = known.sources.get(step.id)
    before_rows = before.rows.rows if isinstance(before, StepResult) else counts.rows if counts else None
    if isinstance(after, TrellisError):
        return SourceChange(step.id, step.name, before_rows, error=str(after))
    snapshot = now_run.snapshot(flow, step, task)
    if isinstance(before, TrellisError):
        fields = remembered_fields(counts, snapshot.table.fields)
        return SourceChange(step.id, step.name, before_rows, after.rows.rows, fields, old=snapshot.old)
    keys = [snapshot.key] if snapshot.key else []
    found = TableChanges(before.rows.rows, after.rows.rows)
    if earlier.snapshot(flow, step, task).identity != snapshot.identity:
        found = changes(before.rows, after.rows, keys, task)
    return SourceChange(
        step.id,
        step.name,
        before_rows,
        after.rows.rows,
        found.fields,
        found,
        before.rows,
        after.rows,
        old=snapshot.old,
    )


def remembered_fields(counts: SourceCounts | None, fields: tuple[Field, ...]) -> tuple[FieldChange, ...]:
    """What changed in the fields, by their names and types alone."""
    if counts is None:
        return ()
    was, now_are = dict(counts.fields), {entry.name: entry.type.value for entry in fields}
    untyped = {entry.name for entry in fields if entry.untyped}
    kinds = FieldChangeKind
    found = [FieldChange(kinds.GONE, name) for name in was if name not in now_are]
    found += [
        FieldChange(kinds.RETYPED, name, now_are[name], kind)
        for name, kind in was.items()
        if kind and name in now_are and now_are[name] != kind and name not in untyped
    ]
    return tuple(found + [FieldChange(kinds.ADDED, name) for name in now_are if name not in was])


def _knot_change(
    flow: Flow,
    step: Step,
    now_run: Runner,
    earlier: Runner,
    known: LastRun,
    sources: Mapping[str, SourceChange],
    task: Task,
) -> KnotChange:
    settings = now_run.kinds.settings(step)
    after = _result(now_run, flow, step, task)
    before = _result(earlier, flow, step, task)
    counts = known.knots.get(step.id)
    if counts is None and isinstance(before, StepResult) and before.match is not None:
        counts = KnotCounts.of(before.match.counts, settings.join_type)
    names = [flow.step(entry.step).name for entry in step.inputs]
    sides = (names[0], names[1]) if len(names) == 2 else ("", "")
    if isinstance(after, TrellisError) or after.match is None:
        return KnotChange(step.id, step.name, sides, counts, error=str(after))
    newly: dict[str, Newly] = {}
    if isinstance(before, StepResult) and before.match is not after.match:
        for port, entry in zip((UNMATCHED_LEFT, UNMATCHED_RIGHT), step.inputs, strict=True):
            # The key by which a source's rows were found again tells its unmatched rows apart too.
            source = sources.get(entry.step)
            key = source.changes.key if source is not None and source.changes is not None else ()
            old, new = before.ports[port], after.ports[port]
            newly[port] = Newly(new, changes(old, new, [key] if key else [], task))
    return KnotChange(
        step.id, step.name, sides, counts, KnotCounts.of(after.match.counts, settings.join_type), newly
    )


def _output_change(
    flow: Flow, step: Step, now_run: Runner, earlier: Runner, known: LastRun, task: Task
) -> OutputChange:
    after = _result(now_run, flow, step, task)
    before = _result(earlier, flow, step, task)
    rows = known.outputs.get(step.id)
    if rows is None and isinstance(before, StepResult):
        rows = before.rows.rows
    if isinstance(after, TrellisError):
        return OutputChange(step.id, step.name, rows, error=str(after))
    return OutputChange(step.id, step.name, rows, after.rows.rows)


def _source_members(entry: SourceChange) -> dict[str, Any]:
    found = entry.changes
    members: dict[str, Any] = {
        "step": entry.step,
        "name": entry.name,
        "rows_before": entry.before_rows,
        "rows_after": entry.after_rows,
        "fields": [
            {"change": change.kind.value, "name": change.name, "now": change.now, "before": change.before}
            for change in entry.fields
        ],
    }
    if found is not None:
        members |= {
            "key": list(found.key),
            "added": len(found.added),
            "gone": len(found.gone),
            "changed": len(found.changed[0]),
            "changed_by_field": dict(found.by_field),
        }
    if entry.old:
        members["old"] = entry.old
    return members


def _knot_members(entry: KnotChange) -> dict[str, Any]:
    import msgspec

    def counts(found: KnotCounts | None) -> dict[str, int] | None:
        return msgspec.structs.asdict(found) if found is not None else None

    return {
        "step": entry.step,
        "name": entry.name,
        "before": counts(entry.before),
        "after": counts(entry.after),
        **{f"newly_{port}": newly.rows for port, newly in entry.newly.items()},
    }
