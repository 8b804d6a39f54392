"""The command that looks at a source."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.saying import cell_shown, console, option_said, say, say_members
from keen_trellis.cli.trusting import still_waiting, trusting
from keen_trellis.flow.plain_text import cut


@main.command()
@click.argument("source")
@click.option("--query", default="", help="Look at the rows of one SELECT in a database.")
@click.option(
    "--sample",
    default="",
    metavar="FIELD=PARTS",
    help="Of a large table of PostgreSQL, only so many of 4096 parts, cut by the values of this field.",
)
@trusting
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def look(source: str, query: str, sample: str, as_json: bool, trust: bool, hosts: Sequence[str]) -> None:
    """Look at SOURCE: its rows, fields and what is doubtful; or, without #TABLE, what it holds.

    SOURCE may also be a flow (NAME.trellis): its steps read aloud, what keeps them from working, and what
    the flow says that this version does not read. A flow that you did not write here connects to nothing,
    unless you say so.
    """
    import msgspec

    from keen_trellis.core.task import Task
    from keen_trellis.databases import secrets
    from keen_trellis.flow.file_format import FLOW_ENDING
    from keen_trellis.flow.trust import accept_queries, reached_by
    from keen_trellis.sources import looking
    from keen_trellis.sources.library import Library, resolve, split_source

    library = Library()
    _, place, table = split_source(source)
    if sample and (query or not table):
        raise click.UsageError("--sample is of a table: name it behind a #, as in ADDRESS#TABLE.")
    if not table and not query and place.endswith(FLOW_ENDING):
        _look_at_flow(Path(place), library, as_json, trust, hosts)
        return
    if hosts or (trust and not query):
        raise click.UsageError(
            "--trust and --allow-host say what a flow may reach, and --trust what a query calls."
        )
    secrets.name_place(place)
    if not table and not query:
        content = library.content(place)
        if not content.is_one_table:
            _print_content(library.further_content(content), as_json)
            return
    if query:
        content = library.content(place)
        settings = msgspec.structs.replace(content.settings(""), query=query)
        if trust:
            accept_queries(reached_by(settings))
    else:
        settings = resolve(source, library).settings
    if sample:
        settings = msgspec.structs.replace(settings, sample=_sample(sample))
    snapshot = library.get(settings, Task())
    found = looking.look(snapshot.table, snapshot.remarks, Task())
    if as_json:
        say_members(found.as_members())
    else:
        _print_look(found)


def _sample(text: str) -> Any:
    """Which rows stand for all, from FIELD=PARTS. UsageError."""
    from keen_trellis.core.errors import UsageError
    from keen_trellis.flow.source_settings import Sampling, parts_read

    by, _, parts = text.rpartition("=")
    if not by:
        raise UsageError(f"“{text}” says no sample.", remedy="Say it as FIELD=PARTS.")
    return Sampling(by, parts_read(parts))


def _look_at_flow(path: Path, library: Any, as_json: bool, trust: bool, hosts: Sequence[str]) -> None:
    """The steps of a flow, each with its sentence or its error, and what nobody reads of its file."""
    from keen_trellis.core.errors import TrellisError
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.runner import Runner
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.flow.unread import unread

    flow = load(path, KINDS)
    library.waiting = still_waiting(flow, path, trust=trust, hosts=hosts)
    runner, steps = Runner(KINDS, library), []
    for step in flow.in_order():
        said = {"name": step.name, "kind": step.kind, "sentence": "", "error": ""}
        try:
            shapes, settings = runner.input_shapes(flow, step), runner.settings(flow, step)
            said["sentence"] = KINDS.of(step).sentence(settings, shapes)
            for problem in () if step.skipped else KINDS.of(step).problems(settings, shapes):
                raise problem
        except TrellisError as error:
            said["error"] = f"{error.what} {error.remedy}".strip() + option_said(error)
        steps.append(said)
    not_read = [str(entry) for entry in unread(flow, KINDS)]
    if as_json:
        say_members({"steps": steps, "unread": not_read})
        return
    for said in steps:
        say(f"{said['name']} ({said['kind']}): {said['sentence']}".rstrip(" :"))
        if said["error"]:
            say(f"  Cannot work: {said['error']}")
    for line in not_read:
        say(f"Not read: {line}")


def _print_content(content: Any, as_json: bool) -> None:
    """What a file, folder or database holds."""
    if as_json:
        tables = [{"name": e.name, "sort": e.sort, "hidden": e.hidden} for e in content.tables]
        say_members({"path": content.path, "tables": tables})
        return
    for entry in content.tables:
        say(f"{entry.name}  ({entry.sort}{', hidden' if entry.hidden else ''})")
    if not content.tables:
        say("It holds no table.")


def _print_look(found: Any) -> None:
    """Rows, fields and doubts as a person wants to read them."""
    from rich.table import Table as Grid

    from keen_trellis.core.insight.reason import rows_said
    from keen_trellis.core.values import FieldType

    terminal = console()
    say(f"{rows_said(found.rows)}, {len(found.fields)} {'field' if len(found.fields) == 1 else 'fields'}")
    grid = Grid(box=None, pad_edge=False)
    # What names a field and its type comes first: values are cut where the line is too short for all.
    longest = max((len(field.name) for field in found.fields), default=0)
    name_width = min(max(longest, len("Field")), max(terminal.width // 4, 8))
    type_width = max(len(kind.value) for kind in FieldType)
    numbers = max(len(f"{found.rows:,}"), len("Distinct"))
    left = terminal.width - name_width - type_width - 2 * numbers - 7
    values = min(max(left // 3 - 1, 6), 32)
    grid.add_column("Field", overflow="ellipsis", no_wrap=True, width=name_width)
    grid.add_column("Type", no_wrap=True, width=type_width)
    for heading in ("Blank", "Distinct"):
        grid.add_column(heading, justify="right", no_wrap=True, width=numbers)
    for heading in ("Minimum", "Maximum", "Most frequent"):
        grid.add_column(heading, overflow="ellipsis", no_wrap=True, max_width=values)
    for field in found.fields:
        said = field.patterns if field.type is FieldType.TEXT and not field.commonest else field.commonest
        shares = f"{said[0].text} ({said[0].rows:,})" if said else ""
        grid.add_row(
            *(cell_shown(field.name), field.type.value, f"{field.blanks:,}", f"{field.distinct:,}"),
            *map(cell_shown, (field.least, field.greatest, shares)),
        )
    terminal.print(grid)
    for remark in sorted(found.remarks, key=lambda remark: not remark.doubtful):
        say(f"{'Doubtful: ' if remark.doubtful else ''}{remark}")
        if len(remark.places) > 1:
            where = ", ".join(
                f"row {place.row:,} “{cut(str(place.value), 60)}”" for place in remark.places[:5]
            )
            say(f"  {where}{' …' if len(remark.places) > 5 else ''}")
