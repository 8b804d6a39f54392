"""What the commands that write one table have in common: where to, how, and what may go."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.printing import say_what_goes

_MODES = ("new", "replace", "append")
_WRITING = (
    click.option(
        "--write",
        "target",
        help="Write the result to FILE, as its ending says; or to FILE#SHEET, FILE#SHEET!B4 or FILE#TABLE of "
        "a workbook, which keeps all else that it has.",
    ),
    click.option(
        "--mode",
        type=click.Choice(_MODES),
        help="new: nothing may be there. replace: write over what is there, as with --replace. "
        "append: write below it.",
    ),
    click.option("--replace", is_flag=True, help="Replace what is there."),
    click.option("--as-table", is_flag=True, help="Make the sheet a table with a filter."),
    click.option("--totals", is_flag=True, help="Put a row of totals below the rows of the sheet."),
    click.option("--describe", is_flag=True, help="Add a sheet that says what the fields are."),
    click.option("--keep-formulas", is_flag=True, help="Write text that begins like a formula as it is."),
)


def writing(command: Any) -> Any:
    """Give a command the options of an output."""
    for option in reversed(_WRITING):
        command = option(command)
    return command


def output_settings(target: str | None, wanted: dict[str, Any]) -> Any:
    """The settings of the output that the options ask for; None if none is."""
    import msgspec

    from keen_trellis.core.errors import UsageError
    from keen_trellis.flow.steps.output import check_settings
    from keen_trellis.outputs.targets import read_target

    if target is None:
        asked = [name for name in ("mode", "as_table", "totals", "describe") if wanted[name]]
        if asked:
            raise UsageError(
                f"--{asked[0].replace('_', '-')} says how to write, and nothing is written.",
                remedy="Say where with --write.",
            )
        return None
    is_sheet = wanted["as_table"] or wanted["totals"]
    settings = read_target(target, harmless=not wanted["keep_formulas"], is_sheet=is_sheet)
    settings = msgspec.structs.replace(
        settings,
        mode=wanted["mode"] or settings.mode,
        as_table=wanted["as_table"],
        totals=wanted["totals"],
        described=wanted["describe"],
    )
    check_settings(settings)
    return settings


def write_output(table: Any, settings: Any, wanted: dict[str, Any], kept: Collection[Path]) -> Any:
    """Write a table as the options ask; what was written."""
    from keen_trellis.core.task import Task
    from keen_trellis.outputs import write

    replace = wanted["replace"] or wanted["mode"] == "replace"
    say_what_goes([settings], replace=replace)
    return write(table, settings, kept=kept, replace=replace, task=Task())
