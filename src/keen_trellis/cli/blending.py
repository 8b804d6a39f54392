"""The command that blends tables."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

import click

from keen_trellis.cli.arguments import Tables, listed
from keen_trellis.cli.group import main
from keen_trellis.cli.printing import print_written, written_members
from keen_trellis.cli.saying import say, say_members
from keen_trellis.cli.writing import output_settings, save_flow, with_output, write_output, writing
from keen_trellis.core.preparations import PREPARATIONS


@main.command()
@click.argument("main_table", metavar="MAIN")
@click.argument("other_tables", metavar="OTHER...", nargs=-1, required=True)
@click.option(
    "--link", "links", multiple=True, required=True, help='"OTHER: main side = other side"; all must hold.'
)
@click.option(
    "--measure", "measures", multiple=True, help='"OTHER: sum(cost) as total", and so on; see the README.'
)
@click.option("--where", "conditions", multiple=True, help='"TABLE: condition": which of its rows count.')
@click.option(
    "--keep", default="every", show_default=True, help="Rows of MAIN: every, found, groups, all-groups."
)
@click.option(
    "--spread",
    "spreads",
    multiple=True,
    help='"total" in equal shares, or "total by field"; or "total on first".',
)
@click.option("--ignore", default="", help=f"What links ignore, with commas: {', '.join(PREPARATIONS)}.")
@writing
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def blend(
    main_table: str, other_tables: Sequence[str], target: str | None, as_json: bool, **wanted: Any
) -> None:
    """Blend OTHER tables into MAIN: each is filtered and summarised to its links, and its measures stand on
    the rows of MAIN. Each is NAME=SOURCE[#TABLE]."""
    from keen_trellis.flow import edits
    from keen_trellis.flow.blend_text import conditions_of_main, read_blend
    from keen_trellis.flow.report import blend_members
    from keen_trellis.flow.steps.blend import BlendKind, without_measure

    output = output_settings(target, wanted)
    began = dt.datetime.now(dt.UTC)
    asked = Tables.of((main_table, *other_tables))
    of_main, conditions = conditions_of_main(asked.shapes, wanted["conditions"])
    # The main table has no condition within a blend: it is filtered on its own rail.
    flow, inputs = asked.filtered([of_main])
    settings = read_blend(
        asked.shapes,
        links=wanted["links"],
        measures=wanted["measures"],
        conditions=conditions,
        spreads=wanted["spreads"],
        keep=wanted["keep"],
        ignore=listed(wanted["ignore"]),
    )
    name = f"{asked.shapes[0].name} blended"
    flow, knot = edits.add_step(flow, BlendKind.name, name, inputs, settings)
    flow, last = with_output(flow, knot, output, wanted)
    result = asked.runner.result(flow, knot)
    assert result.blended is not None
    if output is not None:
        written = write_output(asked, flow, last, wanted, asked.files(), began)
    save_flow(flow, wanted)
    names = [shape.name for shape in asked.shapes]
    for name in without_measure(settings, names[1:]):
        say(
            f"keen-trellis: Nothing is measured of {name}, so that no field of it comes along. "
            f'Add --measure "{name}: sum(field) as total", for example.',
            err=True,
        )
    if as_json:
        members = {**blend_members(result.blended, names[1:]), "remarks": asked.remarks}
        if output is not None:
            members["outputs"] = [written_members(written)]
        say_members(members)
        return
    _print_blend(result.blended, names)
    for line in asked.remarks:
        say(line)
    if output is not None:
        print_written(written)


def _print_blend(blended: Any, names: Sequence[str]) -> None:
    """What a blend came to, as a person wants to read it."""
    from keen_trellis.flow.wording import counted

    table = blended.table
    say(f"{table.rows:,} rows, {len(table.fields)} fields: {', '.join(table.names)}")
    for name, found in zip(names[1:], blended.others, strict=True):
        groups = "1 group" if found.summary.rows == 1 else f"{found.summary.rows:,} groups"
        used, rows = found.groups_used, found.rows_found
        say(f"{name}: {groups}, {used:,} of them used, on {rows:,} of {counted(table.rows, names[0])}.")
        if found.left_out:
            say(f"  Left out by its condition: {counted(found.left_out, name)}.")
        for measure, count in found.summary.no_partner.items():
            if count:
                say(f"  {measure}: {counted(count, name)} without a partner in what is measured.")
