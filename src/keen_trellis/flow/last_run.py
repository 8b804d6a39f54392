"""What a flow came to when it last ran: kept in its file, so that the next run can say what changed."""

from __future__ import annotations

from contextlib import suppress
from functools import lru_cache

import msgspec

from keen_trellis.core.join_type import JoinType
from keen_trellis.core.match import MatchCounts
from keen_trellis.core.table import Table
from keen_trellis.flow.clock import clock
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.kinds import Kinds, digest

LAST_RUN_MEMBER = "last"  # of the flow's file


class SourceCounts(msgspec.Struct, frozen=True, omit_defaults=True):
    """rows, fields: how many, and their names with their types, "" for one without values.  content: under
    which they are in the cache.
    """

    rows: int
    fields: tuple[tuple[str, str], ...] = ()
    content: str = ""

    @staticmethod
    def of(table: Table, content: str = "") -> SourceCounts:
        """Those of the rows of a source."""
        fields = ((field.name, "" if field.untyped else field.type.value) for field in table.fields)
        return SourceCounts(table.rows, tuple(fields), content)


class KnotCounts(msgspec.Struct, frozen=True):
    """The counts of a match, and the rows of its result."""

    left_rows: int
    right_rows: int
    pairs: int
    left_matched: int
    left_unmatched: int
    right_matched: int
    right_unmatched: int
    result_rows: int
    left_passed_over: int = 0
    right_passed_over: int = 0

    @staticmethod
    def of(counts: MatchCounts, join_type: JoinType) -> KnotCounts:
        """Those of a match under a join type."""
        return KnotCounts(
            counts.left_rows,
            counts.right_rows,
            counts.pairs,
            counts.left_matched,
            counts.left_unmatched,
            counts.right_matched,
            counts.right_unmatched,
            counts.rows_under(join_type),
            counts.left_passed_over,
            counts.right_passed_over,
        )


class LastRun(msgspec.Struct, frozen=True):
    """taken: when, in UTC, "" where only the types of fields are known.  flow: a fingerprint of what the flow
    said then, "" where that was not kept.

    The others by the id of their step.
    """

    taken: str
    sources: dict[str, SourceCounts] = {}
    knots: dict[str, KnotCounts] = {}
    outputs: dict[str, int] = {}
    flow: str = ""


def now() -> str:
    """The moment, in UTC, to the second."""
    return clock().strftime("%Y-%m-%dT%H:%M:%SZ")


def flow_fingerprint(flow: Flow, kinds: Kinds) -> str:
    """What the steps of a flow say: without names, notes, and where its files lie, which change no row."""
    said = []
    for step in flow.steps:
        kind = kinds.find(step.kind)
        settings = msgspec.json.decode(step.settings)
        for path in kind.path_settings if kind is not None else ():
            settings.pop(path, None)
        inputs = [(entry.step, entry.port) for entry in step.inputs]
        said.append((step.id, step.kind, inputs, step.skipped, settings))
    filters = [(entry.id, entry.is_, entry.values) for entry in flow.filters]
    lists = [(entry.id, entry.pairs) for entry in flow.lists]
    # Without lists as before there were any, so that a flow that says the same is the same.
    parts = [said, filters, lists] if lists else [said, filters]
    return digest(msgspec.json.encode(parts, order="deterministic"))


def last_run(flow: Flow) -> LastRun | None:
    """What the flow's file remembers of its last run, if anything that can be read."""
    return next((_decoded(value) for name, value in flow.extra if name == LAST_RUN_MEMBER), None)


@lru_cache(maxsize=16)
def _decoded(member: bytes) -> LastRun | None:
    with suppress(msgspec.DecodeError):
        return decoded(member, LastRun)
    return None


def types_kept(flow: Flow, step_id: str) -> tuple[tuple[str, str], ...]:
    """The types that the fields of a source had when the flow last ran; none of those without values."""
    last = last_run(flow)
    counts = last.sources.get(step_id) if last is not None else None
    return tuple(entry for entry in counts.fields if entry[1]) if counts is not None else ()


def only_types(flow: Flow) -> Flow:
    """The flow without what it came to last, but for the types of its fields."""
    last = last_run(flow)
    if last is None:
        return flow
    sources = {step: SourceCounts(0, counts.fields) for step, counts in last.sources.items()}
    return with_last_run(flow, LastRun("", sources))


def with_last_run(flow: Flow, last: LastRun | None) -> Flow:
    """The flow as it is to be saved: remembering `last`, or nothing."""
    extra = tuple((name, value) for name, value in flow.extra if name != LAST_RUN_MEMBER)
    if last is not None:
        extra = (*extra, (LAST_RUN_MEMBER, msgspec.json.encode(last)))
    return msgspec.structs.replace(flow, extra=extra)
