"""The command that asks after one value: where it is, where it goes, and where it is lost."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.saying import cell_shown, say, say_members
from keen_trellis.cli.trusting import settle_reading, trusting


@main.command()
@click.argument("flow_path", metavar="FLOW", type=click.Path(path_type=Path))
@click.argument("value")
@click.option("--field", "field_name", default="", help="Look only into the field of this name.")
@click.option("--step", "step_name", default="", help="Look only into the rows of this step.")
@trusting
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def follow(
    flow_path: Path,
    value: str,
    field_name: str,
    step_name: str,
    as_json: bool,
    trust: bool,
    hosts: Sequence[str],
) -> None:
    """Follow VALUE through FLOW: every row of its sources that holds it, what becomes of it at each step, and
    in which rows of the outputs it ends, or where it is lost.

    A value that no source holds is looked for in the results of the steps.
    """
    from keen_trellis.flow import following
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.naming import step_named
    from keen_trellis.flow.runner import Runner
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.sources.library import Library

    flow = load(flow_path, KINDS)
    settle_reading(flow, flow_path, trust=trust, hosts=hosts)
    step = step_named(flow, step_name) if step_name else ""
    runner = Runner(KINDS, Library())
    found = following.follow(runner, flow, value, field_name=field_name, source=step)
    if as_json:
        say_members(_members(found))
        return
    for line in _lines(found):
        say(line)


def _lines(found: Any) -> Iterator[str]:
    """The ways as a person wants to read them."""
    from keen_trellis.core.insight.reason import rows_said

    value = cell_shown(found.value)
    if not found.ways:
        yield f"“{value}” is in no row of any source or step."
        return
    if found.loosely:
        yield f"“{value}” is nowhere as it is written; this is the same apart from case and outer spaces."
    for number, way in enumerate(found.ways):
        if number:
            yield ""
        made = "made here, in" if found.made else "in"
        fields = ", ".join(map(cell_shown, way.fields))
        yield f"{cell_shown(way.name)}: {made} {rows_said(way.rows)}, {fields}."
        yield f"  {cell_shown(way.places)}"
        for stage in way.stages:
            yield f"{'  ' * stage.depth}{cell_shown(stage.name)}: {_rows_said(stage)}"
            for fate in stage.fates:
                many = f"{fate.rows:,} rows: " if fate.rows > 1 else ""
                yield f"{'  ' * stage.depth}  {cell_shown(f'{many}{fate.said}')}"
        for end in way.ends:
            yield f"=> {cell_shown(_end_said(end))}"


def _rows_said(stage: Any) -> str:
    if stage.after == stage.before:
        return "goes on" if stage.after == 1 else f"all {stage.after:,} rows go on"
    words = "1 row comes" if stage.before == 1 else f"{stage.before:,} rows come"
    if not stage.after:
        return f"{words}, none goes on"
    return f"{words}, {stage.after:,} {'goes' if stage.after == 1 else 'go'} on"


def _end_said(end: Any) -> str:
    from keen_trellis.core.insight.reason import rows_said

    rows = f"in {rows_said(end.rows)}" if end.rows else "not in it"
    said = f": {end.said}" if end.said else ""
    return f"{end.name}: {rows}{said}."


def _members(found: Any) -> dict[str, Any]:
    """The ways as members of a JSON object."""
    return {
        "value": found.value,
        "loosely": found.loosely,
        "made": found.made,
        "ways": [
            {
                "step": way.step,
                "name": way.name,
                "fields": way.fields,
                "rows": way.rows,
                "places": way.places,
                "stages": [
                    {
                        "step": stage.step,
                        "name": stage.name,
                        "depth": stage.depth,
                        "rows_before": stage.before,
                        "rows_after": stage.after,
                        "fates": [
                            {"how": fate.how.value, "rows": fate.rows, "said": fate.said}
                            for fate in stage.fates
                        ],
                    }
                    for stage in way.stages
                ],
                "ends": [
                    {"step": end.step, "name": end.name, "rows": end.rows, "said": end.said}
                    for end in way.ends
                ],
            }
            for way in found.ways
        ],
    }
