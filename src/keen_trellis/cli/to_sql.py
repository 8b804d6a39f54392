"""The command that says a flow in SQL."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.saying import say, say_members
from keen_trellis.cli.trusting import settle_reading, trusting


@main.command("sql")
@click.argument("flow_path", metavar="FLOW", type=click.Path(path_type=Path))
@click.option(
    "--step", "step_name", default="", help="Say the rows of this step; otherwise those of each output."
)
@click.option("--dialect", default="ansi", show_default=True, help="ansi, postgresql, spark or sqlite.")
@click.option("--set", "sets", multiple=True, metavar="NAME=VALUE", help="A run value; can be repeated.")
@trusting
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def sql(
    flow_path: Path,
    step_name: str,
    dialect: str,
    sets: Sequence[str],
    as_json: bool,
    trust: bool,
    hosts: Sequence[str],
) -> None:
    """Say FLOW in SQL, a common table expression for each step, to be read or run where its tables are.

    Each source stands for a table of its name. What no SQL says exactly as the flow computes it is named,
    step by step, and nothing is printed for what depends on it.
    """
    from keen_trellis.cli.given import loaded
    from keen_trellis.core.errors import UsageError
    from keen_trellis.core.task import Task
    from keen_trellis.flow.graph import ROWS
    from keen_trellis.flow.in_sql.target import target_named
    from keen_trellis.flow.naming import step_named
    from keen_trellis.flow.runner import Runner
    from keen_trellis.flow.sql_parameters import parametrised
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.flow.to_sql import ends_of
    from keen_trellis.sources.library import Library

    target, flow = target_named(dialect), loaded(flow_path, sets, ask=not as_json)
    settle_reading(flow, flow_path, trust=trust, hosts=hosts)
    plan = Runner(KINDS, Library()).plan(flow)
    steps = [step_named(flow, step_name)] if step_name else ends_of(flow, KINDS)
    queries = [parametrised(plan, step, ROWS, target, Task()) for step in steps]
    names = {step.id: step.name for step in flow.steps}
    if as_json:
        say_members({"queries": [_members(names[s], q) for s, q in zip(steps, queries, strict=True)]})
    else:
        for step, query in zip(steps, queries, strict=True):
            if not query.refused:
                for line in f"-- {' '.join(names[step].split())}\n{query.text};\n".split("\n"):
                    say(line)
    refused = {str(error): None for query in queries for error in query.refused}
    for line in refused:
        say(f"keen-trellis: Not in SQL: {line}", err=True)
    if refused:
        raise UsageError(
            "Not all of the flow can be said in SQL.", remedy="Run it here, or change these steps."
        )


def _members(name: str, query: Any) -> dict[str, Any]:
    from keen_trellis.flow.to_sql import prepared_said

    return {
        "step": name,
        "sql": None if query.refused else query.text,
        "tables": [{"table": entry.rows.table, "source": entry.settings.where} for entry in query.sources],
        "prepared": [{"table": entry.table, "said": prepared_said(entry)} for entry in query.prepared],
        "parameters": {value.name: value.value for value in query.given},
        "written": {value.name: value.value for value in query.written},
        "refused": [
            {"step": error.where, "what": error.what, "remedy": error.remedy} for error in query.refused
        ],
    }
