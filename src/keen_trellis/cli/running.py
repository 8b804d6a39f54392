"""The command that runs a flow."""

from __future__ import annotations

import datetime as dt
import time
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.printing import (
    end_by_guards,
    print_counts,
    print_guards,
    print_outcome,
    say_what_goes,
    written_members,
)
from keen_trellis.cli.reporting import check_paths, write_reports
from keen_trellis.cli.saying import say, say_members
from keen_trellis.cli.trusting import settle, still_waiting, trusting
from keen_trellis.cli.writing import write_lineage


@main.command()
@click.argument("flow_path", metavar="FLOW", type=click.Path(path_type=Path))
@click.option("--to", "folder", type=click.Path(path_type=Path), help="Write the outputs into this folder.")
@click.option("--replace", is_flag=True, help="Replace files that exist.")
@click.option(
    "--set",
    "sets",
    multiple=True,
    help="NAME=SOURCE[#TABLE]: read the source of this name from elsewhere, this once.",
)
@click.option(
    "--leave-flow", is_flag=True, help="Write the counts of this run neither into FLOW nor into its log."
)
@click.option(
    "--guard", "guards", multiple=True, help="What must hold at every output besides, such as rows=1.."
)
@click.option("--despite-guards", is_flag=True, help="Write outputs after broken guards, too.")
@click.option(
    "--strict", is_flag=True, help="End with 6 if FLOW says anything that this version does not read."
)
@click.option(
    "--lineage", type=click.Path(path_type=Path), help="Write what was read and written here, as OpenLineage."
)
@trusting
@click.option(
    "--allow-write",
    "folders",
    multiple=True,
    type=click.Path(path_type=Path),
    help="Let FLOW write into this folder and below.",
)
@click.option(
    "--report",
    "reports",
    multiple=True,
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write the match report here, too: .html, .pdf or .xlsx.",
)
@click.option("--reasons", is_flag=True, help="Note why rows of large tables have no partner, too.")
@click.option(
    "--counts", is_flag=True, help="Print every count of each join, and what other types would give."
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def run(
    flow_path: Path, folder: Path | None, leave_flow: bool, counts: bool, as_json: bool, **wanted: Any
) -> None:
    """Run FLOW: match its knots, write its outputs, and say what changed since it ran last."""
    from keen_trellis.core.errors import FlowFileError
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.last_run import last_run
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.flow.unread import unread
    from keen_trellis.outputs.files import make_folder
    from keen_trellis.session.other_sources import with_sources
    from keen_trellis.session.running import output_targets, run_flow, with_guards
    from keen_trellis.sources.library import Library

    started, began = dt.datetime.now(dt.UTC), time.monotonic()
    flow, library = load(flow_path, KINDS), Library()
    not_read = unread(flow, KINDS)
    if not_read and wanted["strict"]:
        raise FlowFileError(" ".join(map(str, not_read)), where=str(flow_path), remedy="Nothing was run.")
    for entry in not_read:
        say(f"keen-trellis: {entry}", err=True)
    flow, replaced = with_sources(flow, wanted["sets"], library)
    for other in replaced:
        say(f"keen-trellis: {other.said}", err=True)
    settle(flow, flow_path, _waiting(flow, flow_path, folder, wanted, {other.step for other in replaced}))
    last = last_run(flow)
    before = library.before(flow, KINDS, last)
    if folder is not None:
        make_folder(folder)
    check_paths(flow, flow_path, library, wanted["reports"], replace=wanted["replace"])
    say_what_goes(output_targets(flow, KINDS, folder).values(), replace=wanted["replace"])
    outcome = run_flow(
        with_guards(flow, KINDS, wanted["guards"]),
        KINDS,
        library,
        before=before,
        folder=folder,
        replace=wanted["replace"],
        despite_guards=wanted["despite_guards"],
        path=flow_path,
    )
    seconds = time.monotonic() - began
    write_lineage(outcome.runner, flow, outcome.targets, wanted["lineage"], started, flow_path.stem)
    doubts = _doubts(flow, KINDS, library)
    if not leave_flow:
        _keep_counts(flow_path, outcome.now)
        _note(flow, flow_path, outcome, library, seconds=seconds, all_reasons=wanted["reasons"])
    _report(flow, flow_path, outcome, library, {**wanted, "as_json": as_json})
    if as_json:
        unread_said = [str(entry) for entry in not_read]
        say_members({**_members(outcome), "unread": unread_said, "doubts": doubts})
        end_by_guards(outcome.guards)
        return
    print_outcome(outcome)
    print_guards(outcome.guards)
    if outcome.comparison is not None:
        _print_changes(outcome.comparison)
    for line in doubts:
        say(f"Doubtful: {line}")
    if counts:
        print_counts(outcome)
    end_by_guards(outcome.guards)


def _report(flow: Any, path: Path, outcome: Any, library: Any, wanted: dict[str, Any]) -> None:
    """Write the match report of the run where that is wanted, broken guards or not."""
    if not wanted["reports"]:
        return
    from keen_trellis.session.reporting import Wanted, told

    asked = Wanted()
    analysed = told(flow, path, outcome.runner, library, asked, taken=outcome.now.taken)
    write_reports(flow, path, outcome.runner, analysed, wanted["reports"], asked, replace=wanted["replace"])
    for target in wanted["reports"]:
        say(f"Wrote the report to {target}.", err=wanted["as_json"])


def _waiting(
    flow: Any, path: Path, folder: Path | None, wanted: dict[str, Any], replaced: set[str]
) -> frozenset[Any]:
    """What the flow reaches and may not yet; what the user names goes without asking: where outputs go with
    --to, and the sources that are `replaced`.
    """
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.flow.steps.source import sources_of
    from keen_trellis.flow.trust import OUTPUT

    found = still_waiting(flow, path, trust=wanted["trust"], hosts=wanted["hosts"], folders=wanted["folders"])
    named = {settings.path for step, settings in sources_of(flow, KINDS).items() if step in replaced}
    return frozenset(
        entry for entry in found if entry.place not in named and (folder is None or entry.sort != OUTPUT)
    )


def _members(outcome: Any) -> dict[str, Any]:
    """What a run came to, as members of a JSON object."""
    from keen_trellis.core.join_type import JoinType
    from keen_trellis.flow.report import as_members, guard_members

    members = {
        "knots": [
            {"step": knot.step, "name": knot.name, **as_members(knot.counts, JoinType(knot.type))}
            for knot in outcome.knots
        ],
        "outputs": [{**written_members(entry), "open_cells": entry.open_cells} for entry in outcome.written],
        "guards": guard_members(outcome.guards),
    }
    if outcome.comparison is not None:
        members["changes"] = outcome.comparison.as_members()
    return members


def _keep_counts(path: Path, now: Any) -> None:
    """Write the run's counts into the flow's file as it is now: who saved it meanwhile loses nothing."""
    from keen_trellis.core.errors import FlowFileError
    from keen_trellis.flow.file_format import load, save
    from keen_trellis.flow.last_run import with_last_run
    from keen_trellis.flow.steps import KINDS

    try:
        save(with_last_run(load(path, KINDS), now), path, KINDS)
    except FlowFileError as error:
        said = f"{error.what} Its counts are not kept, so that the next run cannot say what changed."
        say(f"keen-trellis: {path}: {said}", err=True)


def _note(flow: Any, path: Path, outcome: Any, library: Any, **how: Any) -> None:
    """Add the run to the flow's log; where that cannot be, its outputs are written all the same."""
    from keen_trellis.core.errors import FlowFileError
    from keen_trellis.session.noting import note_outcome

    try:
        note_outcome(flow, path, outcome, library, **how)
    except FlowFileError as error:
        say(f"keen-trellis: {error}", err=True)


def _doubts(flow: Any, kinds: Any, library: Any) -> list[str]:
    """What is doubtful in the flow's sources, as a reader of the result should know."""
    from keen_trellis.core.task import Task
    from keen_trellis.flow.steps.source import sources_of

    return [
        f"{flow.step(step).name}: {remark}"
        for step, settings in sources_of(flow, kinds).items()
        for remark in library.get(settings, Task()).remarks
        if remark.doubtful
    ]


def _print_changes(comparison: Any) -> None:
    """What changed since the last run, as a person wants to read it."""
    from keen_trellis.flow.report import change_lines

    say()
    if comparison.is_unchanged:
        say(f"Nothing has changed since {comparison.since}.")
        return
    say(f"What changed since {comparison.since}:")
    for line in change_lines(comparison):
        say(f"  {line}")
