"""The open flow handed off: on a thread, with what its knots came to here beside."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.databases.secrets import take_out_password
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import KnotCounts
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps import KINDS
from keen_trellis.handoff.places import target_at
from keen_trellis.handoff.running import HandOff
from keen_trellis.handoff.whole import Done, Wanted, hand_off
from keen_trellis.session.running import never_written
from keen_trellis.session.session import Session


def address_checked(text: str) -> str:
    """The address of a place that a flow can be handed off to, its password taken out and remembered.

    TrellisError if it is none.
    """
    address = take_out_password(text.strip(), lasting=True)
    target_at(address)
    return address


def start(
    session: Session, asked: Wanted, done: Callable[[Done], None], failed: Callable[[TrellisError], None]
) -> None:
    """Hand the flow off as it is now, and say what it came to; nothing that it reads is written to."""
    flow, runner, library = session.flow, session.runner, session.library
    wanted = msgspec.structs.replace(asked, sources=never_written(flow, KINDS, library, session.path))

    def work(task: Task) -> Done:
        handoff = HandOff(flow, runner, target_at(wanted.address), task=task)
        return hand_off(handoff, session.name, wanted, task, counts_here(flow, runner, task))

    session.jobs.start("handing the flow off", work, done, failed)


def counts_here(flow: Flow, runner: Runner, task: Task) -> dict[str, KnotCounts]:
    """What the knots of a flow came to here, as far as that is known; nothing is computed for it."""
    found: dict[str, KnotCounts] = {}
    plan = runner.plan(flow)
    for step in flow.steps:
        if not KINDS.of(step).matches or step.skipped:
            continue
        planned = plan.planned(step.id, task)
        result = runner.kept.find(planned.fingerprint) if planned.blocked is None else None
        if result is not None and result.match is not None:
            found[step.id] = KnotCounts.of(result.match.counts, planned.settings.join_type)
    return found
