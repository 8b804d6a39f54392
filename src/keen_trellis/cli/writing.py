"""What the commands that write one table have in common: where to, how, and what may go."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.arguments import listed
from keen_trellis.cli.printing import say_what_goes

_MODES = ("new", "replace", "append", "update")
_WRITING = (
    click.option(
        "--write",
        "target",
        help="Write the result to FILE, as its ending says; or to FILE#SHEET, FILE#SHEET!B4 or FILE#TABLE of "
        "a workbook, which keeps all else that it has; or to sqlite:FILE#TABLE or ADDRESS#SCHEMA.TABLE.",
    ),
    click.option(
        "--mode",
        type=click.Choice(_MODES),
        help="new: nothing may be there. replace: write over what is there, as with --replace. "
        "append: write below it. update: bring the rows of a database's table up to date, by --key.",
    ),
    click.option("--key", default="", help="The key: fields that identify a row, separated by commas."),
    click.option("--delete-gone", is_flag=True, help="Delete rows of the table that an update has not."),
    click.option(
        "--form",
        "forms",
        multiple=True,
        metavar="NAME=VALUE",
        help="How it is written, by a setting's name in a flow's file: delimiter=; or split_by=Region.",
    ),
    click.option("--replace", is_flag=True, help="Replace what is there."),
    click.option("--as-table", is_flag=True, help="Make the sheet a table with a filter."),
    click.option("--totals", is_flag=True, help="Put a row of totals below the rows of the sheet."),
    click.option("--describe", is_flag=True, help="Add a sheet that says what the fields are."),
    click.option("--keep-formulas", is_flag=True, help="Write text that begins like a formula as it is."),
    click.option(
        "--sort",
        "keys",
        multiple=True,
        help='Write the rows in this order: "FIELD" or "FIELD desc", each once.',
    ),
    click.option("--first", "most", type=click.IntRange(min=1), help="Write so many rows, the first ones."),
    click.option(
        "--lineage",
        type=click.Path(path_type=Path),
        help="Write what was read and written here, as OpenLineage.",
    ),
    click.option(
        "--save-flow",
        "flow_path",
        type=click.Path(path_type=Path),
        help="Write the same work as a flow, for run and for the window.",
    ),
)
_DESCENDING = " desc"
_CALLED = {"form": "forms", "sort": "keys", "first": "most"}
_SIGNS = {"\\t": "\t", "tab": "\t"}


def writing(command: Any) -> Any:
    """Give a command the options of an output."""
    for option in reversed(_WRITING):
        command = option(command)
    return command


def output_settings(target: str | None, wanted: dict[str, Any]) -> Any:
    """The settings of the output that the options ask for; None if none is."""
    import msgspec

    from keen_trellis.core.errors import UsageError

    if target is None:
        names = ["form", "lineage", "mode", "key", "delete_gone", "as_table", "totals", "describe"]
        if wanted["flow_path"] is None:
            names += ["sort", "first"]
        asked = [name for name in names if wanted[_CALLED.get(name, name)]]
        if asked:
            raise UsageError(
                f"--{asked[0].replace('_', '-')} says how to write, and nothing is written.",
                remedy="Say where with --write.",
            )
        return None
    from keen_trellis.flow.steps.output import DELETE, check_settings
    from keen_trellis.outputs.targets import read_target

    is_sheet = wanted["as_table"] or wanted["totals"]
    settings = read_target(target, harmless=not wanted["keep_formulas"], is_sheet=is_sheet)
    settings = msgspec.structs.replace(
        settings,
        mode=wanted["mode"] or settings.mode,
        as_table=wanted["as_table"],
        totals=wanted["totals"],
        described=wanted["describe"],
        key=listed(wanted["key"]),
        gone=DELETE if wanted["delete_gone"] else settings.gone,
    )
    for text in wanted["forms"]:
        settings = _formed(settings, text)
    check_settings(settings)
    return settings


def _formed(settings: Any, text: str) -> Any:
    """The settings with one of them as it is written out; UsageError for one that the target has not."""
    import msgspec

    from keen_trellis.core.errors import UsageError

    name, equals, value = text.partition("=")
    target = settings.target
    # What has an option of its own, or says where it goes, is not said twice.
    known = sorted(target.uses - {"sheet", "cell", "table", "key", "gone", "as_table", "totals", "described"})
    if not equals or name not in known:
        raise UsageError(
            f"“{text}” says nothing about {target.said}.",
            remedy=f"Write NAME=VALUE; it has: {', '.join(known) or 'nothing to be set'}.",
        )
    now = getattr(settings, name)
    if isinstance(now, bool):
        if value not in ("true", "false"):
            raise UsageError(f"“{name}” is true or false.", remedy=f"Write {name}=true or {name}=false.")
        made: Any = value == "true"
    else:
        made = listed(value) if isinstance(now, tuple) else _SIGNS.get(value, value)
    return msgspec.structs.replace(settings, **{name: made})


def write_output(
    asked: Any, flow: Any, last: str, wanted: dict[str, Any], kept: Collection[Path], began: dt.datetime
) -> Any:
    """Write the rows of a step to the one output of a flow, as the options ask, and where they come from;
    what was written. asked: the tables.
    """
    from keen_trellis.core.task import Task
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.outputs import write
    from keen_trellis.session.running import output_targets

    targets = output_targets(flow, KINDS, None)
    (settings,) = targets.values()
    replace = wanted["replace"] or wanted["mode"] in ("replace", "update")
    say_what_goes([settings], replace=replace)
    rows = asked.runner.result(flow, last).rows
    written = write(rows, settings, kept=kept, replace=replace, task=Task())
    write_lineage(asked.runner, flow, targets, wanted["lineage"], began)
    return written


def with_output(flow: Any, knot: str, output: Any, wanted: dict[str, Any]) -> tuple[Any, str]:
    """The flow with the rows of a knot in order, cut and led to an output; and the step with those rows."""
    from keen_trellis.flow import edits
    from keen_trellis.flow.graph import Input

    last = knot
    if wanted["keys"]:
        from keen_trellis.flow.steps.sort import SortKeySettings, SortKind, SortSettings

        keys = tuple(
            SortKeySettings(
                text.strip().removesuffix(_DESCENDING).strip(), text.strip().endswith(_DESCENDING)
            )
            for text in wanted["keys"]
        )
        flow, last = edits.insert_after(flow, Input(last), SortKind.name, SortSettings(keys=keys))
    if wanted["most"]:
        from keen_trellis.flow.steps.first import FirstKind, FirstSettings

        flow, last = edits.insert_after(
            flow, Input(last), FirstKind.name, FirstSettings(count=wanted["most"])
        )
    if output is not None:
        flow, _ = edits.add_output(flow, Input(last), output)
    return flow, last


def write_lineage(
    runner: Any, flow: Any, targets: Any, path: Path | None, started: dt.datetime, name: str = "keen-trellis"
) -> None:
    """Write the lineage of what was written to `path`, if there is one. targets: the outputs, by step."""
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.session.lineage import events, write_events

    if path is not None:
        now = dt.datetime.now(dt.UTC)
        write_events(events(name, flow, KINDS, runner, targets, started, now), path)


def save_flow(flow: Any, wanted: dict[str, Any]) -> None:
    """Write the flow to the file that the options name; FlowFileError if it cannot be, or is there."""
    from keen_trellis.cli.saying import say
    from keen_trellis.cli.trusting import remember
    from keen_trellis.core.errors import FlowFileError
    from keen_trellis.flow.file_format import FLOW_ENDING, save
    from keen_trellis.flow.steps import KINDS

    path = wanted["flow_path"]
    if path is None:
        return
    if path.suffix != FLOW_ENDING:
        raise FlowFileError(
            f"The name of a flow ends in {FLOW_ENDING}.", where=str(path), remedy="Give it that ending."
        )
    if path.exists() and not wanted["replace"]:
        raise FlowFileError(
            "It exists already.", where=str(path), remedy="Choose another name, or give --replace."
        )
    save(flow, path, KINDS)
    remember(flow, path)
    say(f"keen-trellis: saved the flow {path}", err=True)
