"""A hand-off from first to last: proven if that is wanted, then run, and what it comes to kept or fetched."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path

import msgspec

from keen_trellis.core.errors import GuardError, UsageError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.flow.clock import clock
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import KnotCounts
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.to_sql import selected
from keen_trellis.flow.wording import listed
from keen_trellis.handoff.places import session_at
from keen_trellis.handoff.proving import Proof, prove
from keen_trellis.handoff.restricting import BUCKETS
from keen_trellis.handoff.running import HandOff, Ran
from keen_trellis.handoff.there import There
from keen_trellis.outputs import Written, staged
from keen_trellis.outputs.writing import Part


class Wanted(msgspec.Struct, frozen=True):
    """What is asked for. address: where it is run.  buckets: how many of BUCKETS a proof takes, if any.

    whole: whether all rows are computed, too.  tables: the names of tables that are made there, by the step
    whose rows they hold.  targets: what is written here, by its output.  despite_guards: also where a guard
    is set, which nobody looks at there.  seen: folders that a cluster sees, too.
    """

    address: str
    buckets: int | None = None
    whole: bool = True
    tables: Mapping[str, str] = msgspec.field(default_factory=dict)
    targets: Mapping[str, OutputSettings] = msgspec.field(default_factory=dict)
    replace: bool = False
    sources: Collection[str | Path] = ()
    despite_guards: bool = False
    seen: Sequence[Path] = ()


class Done(msgspec.Struct, frozen=True):
    """What a hand-off came to. began: when, in UTC.  ran: of all rows, None where only a part was proven.

    kept: the tables that were made there, with their rows.  written: what was written here.
    """

    flow: str
    place: str
    began: dt.datetime
    proof: Proof | None
    ran: Ran | None
    kept: tuple[tuple[str, int], ...] = ()
    written: tuple[Written, ...] = ()
    guarded: tuple[str, ...] = ()


def tables_named(texts: Iterable[str], flow: Flow, ends: Sequence[str]) -> dict[str, str]:
    """The tables that texts like OUTPUT=TABLE name, by the steps of their rows, which are among `ends`.
    UsageError.
    """
    names = {flow.step(end).name: end for end in ends}
    found: dict[str, str] = {}
    for text in texts:
        name, _, table = (part.strip() for part in text.rpartition("="))
        if name not in names or not table:
            raise UsageError(f"“{text}” names no output and table.", remedy=f"Outputs: {', '.join(names)}.")
        found[names[name]] = table
    return found


def hand_off(
    handoff: HandOff, name: str, wanted: Wanted, task: Task, here: Mapping[str, KnotCounts] | None = None
) -> Done:
    """Prove a flow there, run it, and keep or fetch what it comes to.

    name: of the flow.  here: what its knots came to here.  Of a flow that is not proven equal, nothing is
    kept. UsageError for what cannot be asked for; TrellisError if it fails, and then nothing is kept either.
    """
    _check(handoff, wanted)
    began, proof = clock(), None
    if wanted.buckets is not None:
        with session_at(wanted.address, task, wanted.seen) as there:
            there.check_free(list(wanted.tables.values()), task)
            proof = prove(handoff, there, wanted.buckets, task)
    guarded = tuple(handoff.guarded)
    if not wanted.whole or (proof is not None and not proof.equal):
        place = proof.ran.place if proof is not None else ""
        return Done(name, place, began, proof, None, guarded=guarded)
    with session_at(wanted.address, task, wanted.seen) as there:
        there.check_free(list(wanted.tables.values()), task)
        ran, _ = handoff.run(there, task, here=here)
        kept, written = _kept(handoff, there, ran, wanted, task)
        ran.fetched = there.fetched
    return Done(name, ran.place, began, proof, ran, kept, written, guarded)


def _check(handoff: HandOff, wanted: Wanted) -> None:
    """UsageError for what cannot be; GuardError where rows would leave behind guards that nobody checks."""
    if wanted.buckets is not None and not 1 <= wanted.buckets <= BUCKETS:
        raise UsageError(
            f"A proof takes 1 to {BUCKETS:,} parts of the rows, not {wanted.buckets:,}.",
            remedy=f"The rows are cut into {BUCKETS:,} parts by the values of their links.",
        )
    if handoff.guarded and (wanted.tables or wanted.targets) and not wanted.despite_guards:
        raise GuardError(
            f"The guards of {listed(handoff.guarded, 6)} cannot be checked there.",
            remedy="Run the flow here, or accept that with --despite-guards.",
        )
    rows = handoff.rows_of_ends
    for step, settings in wanted.targets.items():
        if settings.no_partner and rows[step].open:
            raise UsageError(
                f"It writes “{settings.no_partner}” where a row has no partner, which fetched rows do not "
                "tell from blanks.",
                where=handoff.flow.step(step).name,
                remedy="Fill those cells in a step before it.",
            )


def _kept(
    handoff: HandOff, there: There, ran: Ran, wanted: Wanted, task: Task
) -> tuple[tuple[tuple[str, int], ...], tuple[Written, ...]]:
    """Make tables of ends there, and write others here: those first, since they can be put back."""
    rows = handoff.rows_of_ends
    parts = []
    for step, settings in wanted.targets.items():
        fetched = there.rows(selected(rows[step]), rows[step].fields, rows[step].table, task)
        untyped = [entry.name for entry in rows[step].fields if entry.untyped]
        parts.append(Part(ArrowTable(fetched, untyped=untyped), settings))
    counts = {source.name: source.rows for source in ran.sources}
    counts |= {step.name: step.rows for step in ran.steps}
    named = [(table, rows[step]) for step, table in wanted.tables.items()]
    with staged(parts, kept=wanted.sources, replace=wanted.replace, task=task) as done:
        written = tuple(done)
        if named:
            there.keep(named, task)
    kept = tuple((table, counts.get(entry.table, 0)) for table, entry in named)
    return kept, written
