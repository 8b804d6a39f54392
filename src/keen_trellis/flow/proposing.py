"""Proposals for a join of two ports of a flow: what the values say, and what is known besides."""

from __future__ import annotations

from collections.abc import Sequence

from keen_trellis.core.insight.proposal import Proposal
from keen_trellis.core.insight.proposals import propose
from keen_trellis.core.task import Task
from keen_trellis.flow.confirmed_links import ConfirmedLinks, foreign_keys
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner


def proposals(
    runner: Runner, flow: Flow, inputs: Sequence[Input], confirmed: ConfirmedLinks, task: Task
) -> list[Proposal]:
    """Links between the rows at two ports, best first. Raises what computing them raises, or Cancelled."""
    left, right = (runner.table(flow, entry, task) for entry in inputs)
    shapes = [runner.shape(flow, entry, task) for entry in inputs]
    known = [
        *foreign_keys(flow, runner.kinds, runner.snapshots, shapes[0], shapes[1], task),
        *confirmed.known(flow, runner.kinds, shapes[0], shapes[1]),
    ]
    return propose(left, right, task, known)
