"""How long a flow takes to be planned, whole and after an edit, by how many steps it has."""

from __future__ import annotations

import statistics
import tempfile
from pathlib import Path

from rich.table import Table as Grid

from benchmarks import measures
from benchmarks.measures import seconds
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings, TypedTable
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library

_STEPS = 200
_EVERY = 10  # steps there is a join of a rail with itself


def planning_grid() -> Grid:
    """Seconds of planning, and how many times those of a flow of one step."""
    grid = Grid(title=f"Planning a flow of {_STEPS} steps on one rail", title_justify="left")
    for column in ("what", "s", "aim", "per step"):
        grid.add_column(column, justify="left" if column == "what" else "right")
    with tempfile.TemporaryDirectory(prefix="keen-trellis-speed-") as place:
        library = Library(Cache(Path(place)))
        one, _ = _flow(1)
        single = _median_of_whole(library, one)
        flow, steps = _flow(_STEPS)
        whole = _median_of_whole(library, flow)
        grid.add_row("all of it", f"{whole:.4f}", "0.050", f"{whole / single / _STEPS:.2f}")
        for name, place_of_step in (("the last step edited", -1), ("the middle step edited", _STEPS // 2)):
            taken = statistics.median(
                _after_edit(library, flow, steps[place_of_step], steps[-1]) for _ in range(measures.PAIRS)
            )
            grid.add_row(name, f"{taken:.4f}", "0.005", "")
    return grid


def _flow(length: int) -> tuple[Flow, list[str]]:
    """A rail of computed fields, joined with itself now and then; the flow and the ids of its steps."""
    table = TypedTable(("venue", "crates"), (("Pier", "1"), ("Mill", "2")))
    flow, rail = edits.add_source(Flow(), SourceSettings("typed", typed=table), "Loans")
    steps = [rail]
    semi = JoinSettings(links=(LinkSettings("venue", "venue"),), type="left-semi")
    for number in range(length):
        rows = Input(steps[-1])
        if number % _EVERY == _EVERY - 1:
            flow, new = edits.add_join(flow, rows, rows, semi)
        else:
            flow, new = edits.insert_after(flow, rows, "compute", _settings(number))
        steps.append(new)
    return flow, steps[1:]


def _settings(number: int, added: int = 1) -> ComputeSettings:
    return ComputeSettings(field=f"f{number}", expression=f"crates + {added}")


def _median_of_whole(library: Library, flow: Flow) -> float:
    def plan() -> None:
        Runner(KINDS, library).plan(flow).planned(flow.steps[-1].id, Task())

    plan()  # its source is read
    return statistics.median(seconds(plan) for _ in range(measures.PAIRS))


def _after_edit(library: Library, flow: Flow, edited: str, last: str) -> float:
    runner = Runner(KINDS, library)
    runner.plan(flow).planned(last, Task())
    step = flow.step(edited)
    settings = KINDS.settings(step)
    if isinstance(settings, ComputeSettings):
        changed = edits.change_settings(
            flow, edited, ComputeSettings(field=settings.field, expression="crates + 2")
        )
    else:
        changed = edits.annotate(flow, edited, "why")
    return seconds(lambda: runner.plan(changed).planned(last, Task()))
