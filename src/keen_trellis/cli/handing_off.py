"""The command that runs a flow where its tables are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.group import main
from keen_trellis.cli.saying import say, say_members
from keen_trellis.cli.trusting import settle_reading, trusting


@main.command("hand-off")
@click.argument("flow_path", metavar="FLOW", type=click.Path(path_type=Path))
@click.option(
    "--on",
    "address",
    required=True,
    help="Where it is run: postgresql://user@host/database, or sc://host:15002 for Spark.",
)
@click.option(
    "--sample",
    "buckets",
    type=int,
    metavar="BUCKETS",
    help="Prove it on so many of 4096 parts of the rows, cut by the values of their links, before all rows "
    "are computed; without --write and --fetch instead of that.",
)
@click.option(
    "--write",
    "tables",
    multiple=True,
    metavar="OUTPUT=TABLE",
    help="Keep the rows of this output as a new table there; can be repeated.",
)
@click.option("--fetch", is_flag=True, help="Fetch the rows of the outputs, and write them as the flow says.")
@click.option(
    "--to", "folder", type=click.Path(path_type=Path), help="Write what is fetched into this folder."
)
@click.option("--replace", is_flag=True, help="Replace files that exist.")
@click.option(
    "--send-at-most",
    "most_sent",
    type=click.IntRange(min=0),
    metavar="ROWS",
    help="Send sources that are not there up to so many rows; otherwise 1000000.",
)
@click.option(
    "--seen",
    multiple=True,
    type=click.Path(path_type=Path, file_okay=False, exists=True),
    help="A folder that the cluster sees under the same path: Parquet files and texts in it are read there.",
)
@click.option("--despite-guards", is_flag=True, help="Keep rows behind guards, which nobody checks there.")
@click.option(
    "--report",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write what it came to here, too: .txt or .json.",
)
@click.option("--set", "sets", multiple=True, metavar="NAME=VALUE", help="A run value; can be repeated.")
@trusting
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def hand_off(
    flow_path: Path,
    address: str,
    sets: Sequence[str],
    as_json: bool,
    trust: bool,
    hosts: Sequence[str],
    **wanted: Any,
) -> None:
    """Run FLOW on the database or cluster that holds its tables, and say what it came to there.

    Its tables are used in place, files are sent as temporary tables. The session writes nothing but those and
    the tables that --write names. A proof computes part of the rows there and here, and compares them.
    """
    from keen_trellis.cli.given import loaded
    from keen_trellis.cli.printing import print_written, written_members
    from keen_trellis.databases import secrets
    from keen_trellis.flow.runner import Runner
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.handoff import report as told
    from keen_trellis.handoff.places import target_at
    from keen_trellis.handoff.running import MOST_SENT, HandOff
    from keen_trellis.handoff.whole import hand_off as handed_off
    from keen_trellis.sources.library import Library

    secrets.name_place(address)
    address = secrets.take_out_password(address)
    target, flow = target_at(address), loaded(flow_path, sets, ask=not as_json)
    settle_reading(flow, flow_path, trust=trust, hosts=hosts)
    library = Library()
    with _watched(as_json) as task:
        most = MOST_SENT if wanted["most_sent"] is None else wanted["most_sent"]
        handoff = HandOff(flow, Runner(KINDS, library), target, most_sent=most, task=task)
        report = _checked_report(wanted["report"], flow, flow_path, library, replace=wanted["replace"])
        asked = _wanted(flow, flow_path, address, handoff, library, wanted)
        done = handed_off(handoff, flow_path.stem, asked, task, _counts_here(flow, KINDS))
    members = {**told.members(done), "written": [written_members(entry) for entry in done.written]}
    if report is not None:
        _write_report(report, members, list(told.lines(done)))
    if as_json:
        say_members(members)
    else:
        for line in told.lines(done):
            say(line)
        for entry in done.written:
            print_written(entry)
    _end(done)


def _wanted(flow: Any, path: Path, address: str, handoff: Any, library: Any, wanted: dict[str, Any]) -> Any:
    """What is asked for, checked as far as that can be done before anything is run."""
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.handoff.whole import Wanted, tables_named
    from keen_trellis.outputs import writer_of
    from keen_trellis.outputs.files import make_folder
    from keen_trellis.session.running import never_written, output_targets

    tables = tables_named(wanted["tables"], flow, handoff.ends)
    targets: dict[str, Any] = {}
    if wanted["fetch"]:
        if wanted["folder"] is not None:
            make_folder(wanted["folder"])
        targets = output_targets(flow, KINDS, wanted["folder"])
    elif wanted["folder"] is not None or (wanted["replace"] and wanted["report"] is None):
        raise click.UsageError("--to and --replace speak of what is written here: give --fetch, too.")
    sources = never_written(flow, KINDS, library, path)
    for settings in targets.values():
        writer_of(settings).check(settings, sources, replace=wanted["replace"])
    return Wanted(
        address,
        wanted["buckets"],
        whole=wanted["buckets"] is None or bool(tables or targets),
        tables=tables,
        targets=targets,
        replace=wanted["replace"],
        sources=sources,
        despite_guards=wanted["despite_guards"],
        seen=wanted["seen"],
    )


def _counts_here(flow: Any, kinds: Any) -> dict[str, Any]:
    """What the knots of the flow came to when it last ran here just as it is."""
    from keen_trellis.flow.last_run import flow_fingerprint, last_run

    last = last_run(flow)
    is_same = last is not None and last.flow == flow_fingerprint(flow, kinds)
    return dict(last.knots) if last is not None and is_same else {}


@contextmanager
def _watched(quiet: bool) -> Iterator[Any]:
    """A task whose progress is shown where somebody watches."""
    from rich.console import Console

    from keen_trellis.cli.saying import cell_shown
    from keen_trellis.core.task import Task

    terminal = Console(stderr=True, markup=False, emoji=False, highlight=False)
    if quiet or not terminal.is_terminal:
        yield Task()
        return
    with terminal.status("looking") as status:
        yield Task(lambda done, total, what: status.update(cell_shown(what)) if what else None)


def _checked_report(
    path: Path | None, flow: Any, flow_path: Path, library: Any, *, replace: bool
) -> Path | None:
    """The file for the report. UsageError or OutputError unless it can be one."""
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.outputs.files import check_new
    from keen_trellis.session.running import never_written

    if path is None:
        return None
    if path.suffix not in (".txt", ".json"):
        raise click.UsageError("--report names a file that ends in .txt or .json.")
    check_new(path, never_written(flow, KINDS, library, flow_path), replace=replace)
    return path


def _write_report(path: Path, members: Any, lines: Sequence[str]) -> None:
    """Write what the hand-off came to, whole or not at all."""
    import json

    from keen_trellis.core.errors import OutputError
    from keen_trellis.flow.whole_file import whole_file

    text = json.dumps(members, ensure_ascii=False, indent=2) if path.suffix == ".json" else "\n".join(lines)
    try:
        with whole_file(path) as draft:
            draft.write_text(f"{text}\n", encoding="utf-8")
    except OSError as error:
        raise OutputError(f"It cannot be written: {error.strerror}.", where=str(path)) from error


def _end(done: Any) -> None:
    """Raise GuardError where it is not the same there and here."""
    from keen_trellis.core.errors import GuardError

    if done.proof is not None and not done.proof.equal:
        raise GuardError(
            "It does not come to the same there and here; nothing of it was kept.", where=done.flow
        )
