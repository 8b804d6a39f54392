"""Makes what a report tells of a flow, from its file, its log and what it comes to now."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec

from keen_trellis.core.errors import FlowFileError
from keen_trellis.core.task import Task
from keen_trellis.flow import run_log
from keen_trellis.flow.analysis import Analysed, Circumstances, analysed
from keen_trellis.flow.analysis.making import SHOWN_ROWS
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import now
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.runs import Run
from keen_trellis.flow.steps import KINDS
from keen_trellis.sources.library import Library


class Wanted(msgspec.Struct, frozen=True):
    """What a report is to tell. step: the id of one step and all before it, "" for the whole flow.

    without: names of fields whose values are left out.  most_rows: so many rows of each reason are shown.
    """

    step: str = ""
    without: Sequence[str] = ()
    most_rows: int = SHOWN_ROWS


def told(
    flow: Flow,
    path: Path | None,
    runner: Runner,
    library: Library,
    wanted: Wanted,
    task: Task | None = None,
    *,
    taken: str = "",
) -> Analysed:
    """What a flow comes to now, as a report tells it. path: of the flow, None where it has no file yet.

    taken: when it ran, in UTC; now, if that is not said.

    Raises what computing it raises; UsageError for what is wanted and is not there; Cancelled.
    """
    task = task or Task()
    folder = path.parent.absolute() if path is not None else Path.cwd()
    circumstances = Circumstances(
        path.stem if path is not None else "Untitled flow",
        folder,
        taken or now(),
        _runs(flow, path),
        lambda last: library.before(flow, KINDS, last),
        wanted.without,
        wanted.most_rows,
    )
    return analysed(flow, runner, circumstances, wanted.step, task)


def _runs(flow: Flow, path: Path | None) -> Sequence[Run]:
    if path is None or not flow.keeps_log:
        return ()
    try:
        return run_log.read(path).runs
    except FlowFileError:
        return ()  # whoever asks for the runs is told what is wrong with their log
