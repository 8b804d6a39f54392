"""The command that says what a flow came to over its runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.saying import cell_shown, console, say, say_members

_SHOWN = 20


@main.command()
@click.argument("flow_path", metavar="FLOW", type=click.Path(path_type=Path))
@click.option(
    "--last",
    "shown",
    type=click.IntRange(1),
    default=_SHOWN,
    show_default=True,
    help="Show so many of the latest runs.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def runs(flow_path: Path, shown: int, as_json: bool) -> None:
    """Say what FLOW came to in its latest runs: what matched, what did not and why, what was written.

    They are remembered in a log beside the flow, NAME.runs.jsonl, which holds counts and no value of a cell.
    """
    from keen_trellis.flow.analysis.history import sides_of
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.run_log import read
    from keen_trellis.flow.runs import in_flow_order, names_of
    from keen_trellis.flow.steps import KINDS

    flow, log = load(flow_path, KINDS), read(flow_path)
    if log.others:
        lines = "1 line" if log.others == 1 else f"{log.others:,} lines"
        say(f"keen-trellis: {log.path}: {lines} of it are not read, since they are no run.", err=True)
    latest = log.runs[-shown:]
    if as_json:
        import msgspec

        say_members({"log": str(log.path), "keeps_log": flow.keeps_log, "runs": msgspec.to_builtins(latest)})
        return
    if not latest:
        why = f"“{flow_path.name}” was not run yet" if flow.keeps_log else f"“{flow_path.name}” keeps no log"
        say(f"No run is remembered: {why}.")
        return
    _print_runs(latest, len(log.runs), log.path.name)
    names = names_of(log.runs, flow)
    for step in in_flow_order({step for run in latest for step in run.knots}, flow):
        sides = sides_of(flow, step)
        _print_knot(step, names.get(step, step), sides, [run for run in latest if step in run.knots])
    _print_outputs(latest, names, flow)


def _print_runs(latest: Sequence[Any], count: int, log: str) -> None:
    from keen_trellis.flow.run_values import values_said

    remembered = "1 run is remembered" if count == 1 else f"{count:,} runs are remembered"
    last = f"; the last {len(latest):,} of them" if len(latest) < count else ""
    say(f"{remembered} in {log}{last}:")
    grid = _grid("Run", "By")
    grid.add_column("Seconds", justify="right")
    guarded = any(run.guards for run in latest)
    edited = len({run.flow for run in latest}) > 1
    given = any(run.values for run in latest)
    if guarded:
        grid.add_column("Guards")
    if edited:
        grid.add_column("Flow")
    if given:
        grid.add_column("With", overflow="fold")
    before = latest[0].flow
    for run in latest:
        cells = [cell_shown(run.when), _by(run.by), f"{run.seconds:,.1f}"]
        cells += [_guards_said(run)] if guarded else []
        cells += ["edited" if run.flow != before else ""] if edited else []
        cells += [values_said(run.values)] if given else []
        before = run.flow
        grid.add_row(*cells)
    console().print(grid)


def _guards_said(run: Any) -> str:
    if not run.guards:
        return ""
    if not run.broken:
        return "all hold"
    return "1 broken" if run.broken == 1 else f"{run.broken:,} broken"


def _print_knot(step: str, name: str, sides: tuple[str, str], latest: Sequence[Any]) -> None:
    from keen_trellis.core.insight.proposal import percent
    from keen_trellis.flow.runs import share_of

    left, right = map(cell_shown, sides)
    say()
    say(f"{name}:")
    grid = _grid("Run")
    for heading in (left, "Matched", f"Unmatched {left}", f"Unmatched {right}", "Rows"):
        grid.add_column(heading, justify="right")
    for run in latest:
        counts, share = run.knots[step], share_of(run, step)
        matched = "" if share is None else percent(share)
        numbers = (counts.left_unmatched, counts.right_unmatched, counts.result_rows)
        rest = (f"{number:,}" for number in numbers)
        grid.add_row(cell_shown(run.when), f"{counts.left_rows:,}", matched, *rest)
    console().print(grid)
    say(_moved(latest, step))
    reasons = [run.reasons.get(step) for run in latest]
    if reasons[-1] is None:
        say("Why rows have no partner was not looked for, since the tables are large; run --reasons does it.")
        return
    for side, called in (("left", left), ("right", right)):
        if said := _reasons_said(reasons[-1], reasons[-2] if len(reasons) > 1 else None, side):
            say(f"{called} without a partner now: {said}.")


def _reasons_said(now: Mapping[str, int], before: Mapping[str, int] | None, side: str) -> str:
    """The rows of the last run by kind of reason, most first, each with those of the run before if others.

    before: None if they were not looked for then.
    """
    before = now if before is None else before
    kinds = [kind for kind in {**now, **before} if kind.startswith(f"{side} ")]
    parts = []
    for kind in sorted(kinds, key=lambda kind: (-now.get(kind, 0), kind)):
        rows, was = now.get(kind, 0), before.get(kind, 0)
        words = cell_shown(kind.removeprefix(f"{side} ").replace("-", " "))
        before_said = f" ({was:,} in the run before)" if was else " (none in the run before)"
        parts.append(f"{rows:,} {words}{before_said if was != rows else ''}")
    return ", ".join(parts)


def _moved(latest: Sequence[Any], step: str) -> str:
    """How the rate of a knot compares with the runs before, in a sentence."""
    from keen_trellis.core.insight.proposal import percent
    from keen_trellis.flow.runs import rates

    shares = rates(latest, step)
    if len(shares) < 2:
        return "There is no run before it to compare with." if shares else "There were no left rows."
    *before, now = shares
    least, most = min(before), max(before)
    runs_before = "the run before" if len(before) == 1 else f"the {len(before):,} runs before"
    usual = percent(least) if percent(least) == percent(most) else f"{percent(least)} to {percent(most)}"
    judged = ", the lowest so far" if now < least else ", the highest so far" if now > most else ""
    return f"Matched now: {percent(now)}{judged}; {usual} in {runs_before}."


def _print_outputs(latest: Sequence[Any], names: Mapping[str, str], flow: Any) -> None:
    from keen_trellis.flow.runs import in_flow_order

    outputs = in_flow_order({step for run in latest for step in run.outputs}, flow)
    if not outputs:
        return
    say()
    say("Rows of the outputs:")
    grid = _grid("Run")
    for step in outputs:
        grid.add_column(cell_shown(names.get(step, step)), justify="right")
    for run in latest:
        cells = [_output_said(run, step) for step in outputs]
        grid.add_row(cell_shown(run.when), *cells)
    console().print(grid)


def _output_said(run: Any, step: str) -> str:
    if step not in run.outputs:
        return ""
    return f"{run.outputs[step]:,}{' (held back)' if step in run.held_back else ''}"


def _grid(*headings: str) -> Any:
    from rich.table import Table as Grid

    grid = Grid(box=None, pad_edge=False)
    for heading in headings:
        grid.add_column(heading, no_wrap=True)
    return grid


def _by(by: str) -> str:
    return "written" if by == "output" else cell_shown(by)
