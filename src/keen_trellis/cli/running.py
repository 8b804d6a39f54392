"""The command that runs a flow."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
import msgspec

from keen_trellis.cli.given import rows_of_values, run_each, told_apart, with_values
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
    help="NAME=VALUE: give a run value of the flow another value; or NAME=SOURCE[#TABLE]: read the source of "
    "this name from elsewhere. For this run only.",
)
@click.option(
    "--values",
    help="A table, FILE[#TABLE], with a column for each run value: one run for each of its rows.",
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
def run(flow_path: Path, sets: Sequence[str], values: str | None, as_json: bool, **wanted: Any) -> None:
    """Run FLOW: match its knots, write its outputs, and say what changed since it ran last."""
    from keen_trellis.core.errors import FlowFileError
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.flow.unread import unread
    from keen_trellis.session.other_sources import with_sources
    from keen_trellis.sources.library import Library

    written, library = load(flow_path, KINDS), Library()
    not_read = unread(written, KINDS)
    if not_read and wanted["strict"]:
        raise FlowFileError(" ".join(map(str, not_read)), where=str(flow_path), remedy="Nothing was run.")
    for entry in not_read:
        say(f"keen-trellis: {entry}", err=True)
    given, elsewhere = told_apart(written, sets)
    rows = [given] if values is None else rows_of_values(written, values, given, library)
    flows = [with_values(written, row, ask=values is None) for row in rows]
    flow, replaced = with_sources(flows[0], elsewhere, library)
    for other in replaced:
        say(f"keen-trellis: {other.said}", err=True)
    flows = [flow, *(with_sources(entry, elsewhere, library)[0] for entry in flows[1:])]
    one = _OneRun(flow_path, written, library, {other.step for other in replaced}, wanted, as_json=as_json)
    for flow in flows:
        one.settle(flow)
    if values is None:
        outcome, members = one.run(flow, is_own=flow.values == written.values)
        if as_json:
            say_members({**members, "unread": [str(entry) for entry in not_read]})
        end_by_guards(outcome.guards)
    else:
        run_each(one, flows, [next(iter(row.values())) for row in rows], as_json=as_json)


class _OneRun(msgspec.Struct, frozen=True):
    """Runs a flow once. written: as its file has it.  replaced: sources that are read from elsewhere."""

    path: Path
    written: Any
    library: Any
    replaced: set[str]
    wanted: dict[str, Any]
    as_json: bool

    def settle(self, flow: Any) -> None:
        """Ask about what the flow reaches that nobody accepted yet, or refuse."""
        settle(self.written, self.path, _waiting(flow, self))

    def run(self, flow: Any, row: str = "", *, is_own: bool) -> tuple[Any, dict[str, Any]]:
        """Run it, and say what it came to; that, and the same as members of a JSON object.

        row: of a table of values.  is_own: whether it has the run values of its file, so that what it came to
        is what its next run is compared with.
        """
        from keen_trellis.flow.last_run import last_run
        from keen_trellis.flow.steps import KINDS
        from keen_trellis.outputs.files import make_folder
        from keen_trellis.session.running import output_targets, run_flow, with_guards

        wanted, folder, library = self.wanted, self.wanted["folder"], self.library
        started, began = dt.datetime.now(dt.UTC), time.monotonic()
        before = library.before(flow, KINDS, last_run(flow)) if is_own else None
        if folder is not None:
            make_folder(folder)
        check_paths(flow, self.path, library, wanted["reports"], replace=wanted["replace"])
        say_what_goes(output_targets(flow, KINDS, folder).values(), replace=wanted["replace"])
        outcome = run_flow(
            with_guards(flow if is_own else _forgetful(flow), KINDS, wanted["guards"]),
            KINDS,
            library,
            before=before,
            folder=folder,
            replace=wanted["replace"],
            despite_guards=wanted["despite_guards"],
            path=self.path,
            row=row,
        )
        seconds = time.monotonic() - began
        write_lineage(outcome.runner, flow, outcome.targets, wanted["lineage"], started, self.path.stem)
        doubts = _doubts(flow, KINDS, library)
        if not wanted["leave_flow"]:
            if is_own:
                _keep_counts(self.path, outcome.now)
            _note(flow, self.path, outcome, library, seconds=seconds, all_reasons=wanted["reasons"], row=row)
        _report(flow, self.path, outcome, library, {**wanted, "as_json": self.as_json})
        if not self.as_json:
            self._print(outcome, doubts)
        return outcome, {**_members(outcome), "doubts": doubts}

    def _print(self, outcome: Any, doubts: Sequence[str]) -> None:
        print_outcome(outcome)
        print_guards(outcome.guards)
        if outcome.comparison is not None:
            _print_changes(outcome.comparison)
        for line in doubts:
            say(f"Doubtful: {line}")
        if self.wanted["counts"]:
            print_counts(outcome)


def _forgetful(flow: Any) -> Any:
    """The flow without what it came to last, which it is not compared with under other run values."""
    from keen_trellis.flow.last_run import only_types

    return only_types(flow)


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


def _waiting(flow: Any, one: _OneRun) -> frozenset[Any]:
    """What the flow reaches and may not yet; what the user names goes without asking: where outputs go with
    --to, and the sources that are replaced.
    """
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.flow.steps.source import sources_of
    from keen_trellis.flow.trust import OUTPUT

    wanted = one.wanted
    found = still_waiting(
        flow,
        one.path,
        trust=wanted["trust"],
        hosts=wanted["hosts"],
        folders=wanted["folders"],
        written=one.written if one.written.values else None,
    )
    named = {settings.path for step, settings in sources_of(flow, KINDS).items() if step in one.replaced}
    return frozenset(
        entry
        for entry in found
        if entry.place not in named and (wanted["folder"] is None or entry.sort != OUTPUT)
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
        if remark.doubtful and not (remark.misfit_of or remark.is_sample)
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
