"""The command that makes a flow of a query."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.saying import say, say_members


@main.command("from-sql")
@click.argument("query_path", metavar="QUERY", type=click.Path(path_type=Path, allow_dash=True))
@click.argument("sources", metavar="SOURCE...", nargs=-1, required=True)
@click.option(
    "--flow", "flow_path", type=click.Path(path_type=Path), help="Write the flow here, as NAME.trellis."
)
@click.option("--replace", is_flag=True, help="Replace the flow if it exists.")
@click.option("--partly", is_flag=True, help="Do without what has no counterpart.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def from_sql(
    query_path: Path,
    sources: Sequence[str],
    flow_path: Path | None,
    replace: bool,
    partly: bool,
    as_json: bool,
) -> None:
    """Make steps of QUERY, a file with one SELECT (- for standard input), on tables of SOURCE.

    Each SOURCE is [NAME=]FILE[#TABLE], a folder or a database; the query names its tables, or NAME. Joins
    become knots, WHERE filters, GROUP BY summaries. What has no counterpart is said, and nothing is made
    unless --partly is given.
    """
    from keen_trellis.core.errors import FlowFileError, UsageError
    from keen_trellis.core.task import Task
    from keen_trellis.flow.file_format import save
    from keen_trellis.flow.from_sql import finding, steps_of
    from keen_trellis.flow.graph import Flow
    from keen_trellis.flow.runner import Runner
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.sources.library import Library

    library = Library()
    runner, named = Runner(KINDS, library), _tables(sources, library)
    text = _text(query_path)
    made = steps_of(Flow(), text, finding(named), lambda flow, entry: runner.shape(flow, entry, Task()))
    for line in made.lacking:
        say(f"keen-trellis: No counterpart: {line}", err=True)
    if made.lacking and not partly:
        raise UsageError("Nothing was made.", remedy="Change the query, or do without these with --partly.")
    steps = []
    for step in made.flow.in_order():
        sentence = KINDS.of(step).sentence(
            runner.settings(made.flow, step), runner.input_shapes(made.flow, step)
        )
        steps.append({"name": step.name, "kind": step.kind, "sentence": sentence})
    if flow_path is not None:
        if flow_path.exists() and not replace:
            raise FlowFileError("It exists.", where=str(flow_path), remedy="Replace it with --replace.")
        save(made.flow, flow_path, KINDS)
    if as_json:
        say_members({"steps": steps, "lacking": made.lacking, "notes": made.notes})
        return
    for entry in steps:
        say(entry["sentence"])
    for line in made.notes:
        say(f"Note: {line}")
    if flow_path is not None:
        say(f"Wrote {flow_path}.")


def _text(path: Path) -> str:
    from keen_trellis.core.errors import SourceError

    try:
        return sys.stdin.read() if str(path) == "-" else path.read_text("utf-8-sig")
    except OSError as error:
        raise SourceError(f"It cannot be read: {error.strerror}.", where=str(path)) from error
    except UnicodeDecodeError as error:
        raise SourceError("It is not UTF-8.", where=str(path), remedy="Save the query as UTF-8.") from error


def _tables(sources: Sequence[str], library: Any) -> dict[str, Any]:
    """The tables of the sources by their names: of one that names no table, all that it has."""
    from keen_trellis.sources.library import resolve, split_source

    found: dict[str, Any] = {}
    for text in sources:
        name, place, table = split_source(text)
        content = library.content(place)
        if table or name or content.is_one_table:
            one = resolve(text, library)
            found.setdefault(one.name, one.settings)
            continue
        for entry in content.tables:
            found.setdefault(entry.called, content.settings(entry.name))
    return found
