"""The commands that match two tables, explain the match, and propose links."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Sequence
from typing import Any

import click

from keen_trellis.cli.arguments import Tables, check_type, join_settings, linked
from keen_trellis.cli.group import main
from keen_trellis.cli.printing import (
    end_by_guards,
    print_guards,
    print_knot,
    print_written,
    written_members,
)
from keen_trellis.cli.saying import say, say_members
from keen_trellis.cli.writing import output_settings, save_flow, with_output, write_output, writing


@main.command()
@linked
@click.option("--type", "type_name", default="left-outer", show_default=True, help="The join type.")
@click.option("--keep", help="The left table's fields that stay, with commas; all if not given.")
@click.option("--bring", help="The right table's fields that come along, with commas; all if not given.")
@click.option("--partner-found", is_flag=True, help="Add a field that says whether a row has a partner.")
@click.option(
    "--side", is_flag=True, help="Add a field “side”: whether a row is of the left, the right or both."
)
@click.option("--where", "conditions", multiple=True, help='"TABLE: condition": which of its rows count.')
@writing
@click.option(
    "--guard", "guards", multiple=True, help="What must hold, such as all-left-match; see the README."
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def match(
    left: str, right: str, target: str | None, guards: Sequence[str], as_json: bool, **wanted: Any
) -> None:
    """Match LEFT with RIGHT and count. Each is [NAME=]SOURCE[#TABLE]: a file, a folder, a quoted pattern of
    files or a database's address; TABLE is a sheet, a table, a named range, or SHEET!A3:F40."""
    import msgspec

    from keen_trellis.flow import edits
    from keen_trellis.flow.report import as_members, guard_members

    check_type(wanted["type_name"], wanted["links"])
    output = output_settings(target, wanted)
    began = dt.datetime.now(dt.UTC)

    started = time.perf_counter()
    asked = Tables.of((left, right))
    settings = join_settings(wanted, asked.shapes, asked.library)
    read = time.perf_counter() - started
    settings = msgspec.structs.replace(settings, guards=_as_guards(guards))
    flow, inputs = asked.filtered(_of_each(asked.shapes, wanted["conditions"]))
    flow, knot = edits.add_join(flow, inputs[0], inputs[1], settings)
    flow, last = with_output(flow, knot, output, wanted)
    started = time.perf_counter()
    result = asked.runner.result(flow, knot)
    assert result.match is not None
    counts = result.match.counts
    seconds = {"read": round(read, 4), "match": round(time.perf_counter() - started, 4)}
    checks = _checked(asked.runner, flow, knot) if guards else []
    holds = all(entry.holds for entry in checks)
    if output is not None and holds:
        written = write_output(asked, flow, last, wanted, asked.files(wanted["correct"]), began)
    save_flow(flow, wanted)
    if as_json:
        members = {**as_members(counts, settings.join_type), "seconds": seconds, "remarks": asked.remarks}
        if output is not None:
            members["outputs"] = [written_members(written)] if holds else []
        say_members({**members, "guards": guard_members(checks)})
        end_by_guards(checks)
        return
    print_knot([shape.name for shape in asked.shapes], counts, settings.join_type)
    for line in asked.remarks:
        say(line)
    say(f"Read in {seconds['read']:.2f} s, matched in {seconds['match']:.2f} s.")
    if output is not None and holds:
        print_written(written)
    print_guards(checks)
    end_by_guards(checks)


def _of_each(shapes: Sequence[Any], conditions: Sequence[str]) -> list[list[str]]:
    if not conditions:
        return [[] for _ in shapes]
    from keen_trellis.flow.blend_text import conditions_of_each

    return conditions_of_each(shapes, conditions)


def _as_guards(texts: Sequence[str]) -> tuple[str, ...]:
    if not texts:
        return ()
    from keen_trellis.core.insight.guards import check_text

    return tuple(check_text(text) for text in texts)


def _checked(runner: Any, flow: Any, knot: str) -> list[Any]:
    from keen_trellis.core.task import Task
    from keen_trellis.flow.guarding import checked

    return list(checked(runner, flow, flow.step(knot), Task()))


@main.command()
@linked
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def explain(left: str, right: str, as_json: bool, **wanted: Any) -> None:
    """Say why rows of LEFT and RIGHT have no partner, and what would mend it."""
    from keen_trellis.core.insight.reasons import Asked, of_other_types
    from keen_trellis.core.insight.reasons import explain as reasons_of
    from keen_trellis.core.link import Take
    from keen_trellis.core.matching import match as matched
    from keen_trellis.flow.report import reason_lines, reason_members

    check_type("left-outer", wanted["links"])
    asked = Tables.of((left, right))
    settings = join_settings(
        {
            **wanted,
            "type_name": "left-outer",
            "keep": None,
            "bring": None,
            "partner_found": False,
            "side": False,
        },
        asked.shapes,
        asked.library,
    )
    links, take, tables = settings.link_fields, Take.named(settings.take), asked.tables
    any_of = settings.any_of and len(links) > 1
    question = Asked(tables[0], tables[1], links, any_of, take)
    found = of_other_types(question)
    if not found:
        found = reasons_of(question, matched(tables[0], tables[1], links, any_of=any_of, take=take))
    if as_json:
        say_members({"reasons": [reason_members(entry) for entry in found]})
        return
    names = {"left": asked.shapes[0].name, "right": asked.shapes[1].name}
    for line in reason_lines(found, names):
        say(line)


@main.command()
@click.argument("left")
@click.argument("right")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def propose(left: str, right: str, as_json: bool) -> None:
    """Propose link fields between LEFT and RIGHT, best first, each with its evidence."""
    from keen_trellis.core.insight.proposal import why_none
    from keen_trellis.core.task import Task
    from keen_trellis.flow.confirmed_links import ConfirmedLinks
    from keen_trellis.flow.proposing import proposals as proposals_of

    asked = Tables.of((left, right))
    found = proposals_of(asked.runner, asked.flow, asked.inputs, ConfirmedLinks(), Task())
    names = [shape.name for shape in asked.shapes]
    if as_json:
        proposals = [
            {
                "links": [
                    {
                        "left": link.left,
                        "operator": link.operator.value,
                        "right": link.right,
                        "ignore": link.preparation.names,
                    }
                    for link in p.links
                ],
                "left_found": p.found,
                "right_unique": p.unique,
                "evidence": p.evidence(*names),
            }
            for p in found
        ]
        say_members({"proposals": proposals})
        return
    for entry in found:
        links = " and ".join(f"{link.left} {link.operator.value} {link.right}" for link in entry.links)
        say(f"{links}: {entry.evidence(*names)}")
    if not found:
        say(why_none(*names))
