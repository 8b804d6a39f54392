"""The run values that a command is given: by words, asked for, or from a table with a row for each run."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.printing import end_by_guards
from keen_trellis.cli.saying import say, say_members

_MOST_ROWS = 10_000


def told_apart(flow: Any, texts: Sequence[str]) -> tuple[dict[str, str], list[str]]:
    """Those of the words NAME=… that give run values, by their names, and those that name sources.

    UsageError for a name that is both.
    """
    from keen_trellis.core.errors import UsageError

    values = {value.name for value in flow.values}
    given: dict[str, str] = {}
    others: list[str] = []
    for text in texts:
        name, sign, value = text.partition("=")
        name = name.strip()
        if not sign or name not in values:
            others.append(text)
        elif any(name in (step.name, step.id) for step in flow.steps if step.kind == "source"):
            raise UsageError(
                f"Both a run value and a source are called “{name}”.",
                remedy="Rename one of them in the flow.",
            )
        else:
            given[name] = value.strip()
    return given, others


def loaded(path: Path, sets: Sequence[str], *, ask: bool) -> Any:
    """A flow with the run values that words give. UsageError for a word that names none, or one lacking."""
    from keen_trellis.core.errors import UsageError
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.steps import KINDS

    flow = load(path, KINDS)
    given, others = told_apart(flow, sets)
    if others:
        raise UsageError(f"The flow has no run value “{others[0].partition('=')[0]}”.")
    return with_values(flow, given, ask=ask)


def with_values(flow: Any, given: Mapping[str, str], *, ask: bool) -> Any:
    """The flow with these run values. Those that have none yet are asked for, where somebody can be asked.

    UsageError for a value that cannot be, or that is lacking.
    """
    from keen_trellis.core.errors import UsageError
    from keen_trellis.flow.run_values import is_used, with_given

    flow = with_given(flow, given)
    lacking = [value for value in flow.values if not value.value and is_used(flow, value)]
    if not lacking:
        return flow
    if ask and sys.stdin.isatty():
        return with_given(flow, {value.name: _asked(value) for value in lacking})
    names = " ".join(f"--set {value.name}=…" for value in lacking)
    said = ", ".join(value.name for value in lacking)
    raise UsageError(f"The flow has no value for {said}.", remedy=f"Give {names}.")


def _asked(value: Any) -> str:
    choices = click.Choice(value.choices) if value.choices else None
    said = f"{value.name} ({value.said})" if value.said else value.name
    return str(click.prompt(said, type=choices, err=True))


def rows_of_values(flow: Any, place: str, given: Mapping[str, str], library: Any) -> list[dict[str, str]]:
    """The run values of each row of a table, its first column first, over those that are given besides.

    A blank leaves the value that the flow has. UsageError for a column that names no run value, or no rows.
    """
    from keen_trellis.core.errors import UsageError
    from keen_trellis.core.task import Task
    from keen_trellis.core.values import shown_text
    from keen_trellis.sources.library import resolve

    table = library.get(resolve(place, library).settings, Task()).table
    known = [value.name for value in flow.values]
    unknown = [name for name in table.names if name not in known]
    if unknown:
        raise UsageError(
            f"The flow has no run value “{unknown[0]}”, which is a column of {place}.",
            remedy=f"It has: {', '.join(known)}." if known else "It has none.",
        )
    if not 0 < table.rows <= _MOST_ROWS:
        raise UsageError(
            f"{place} has {table.rows:,} rows of values.", remedy=f"It can be 1 to {_MOST_ROWS:,}."
        )
    columns = [shown_text(cells.values).to_pylist() for cells in table.take(None, table.names)]
    rows = [dict(zip(table.names, row, strict=True)) for row in zip(*columns, strict=True)]
    first = table.names[0]
    for number, row in enumerate(rows, 1):
        if row[first] is None:
            raise UsageError(
                f"Row {number:,} of {place} has no {first}.", remedy="Its first column names the run."
            )
    return [{**{name: text for name, text in row.items() if text is not None}, **given} for row in rows]


def run_each(one: Any, flows: Sequence[Any], rows: Sequence[str], *, as_json: bool) -> None:
    """Run a flow once for each row of a table; one that fails keeps no other from being run.

    UsageError, before anything is written, where two of them would write to one place. Ends with the code of
    the first that failed.
    """
    from keen_trellis.core.errors import TrellisError
    from keen_trellis.flow.run_values import values_said

    check_places(flows, rows, one.wanted["folder"])
    told, code = [], 0
    for flow, row in zip(flows, rows, strict=True):
        values = {value.name: value.value for value in flow.values}
        if not as_json:
            say(f"{values_said(values)}:")
        members: dict[str, Any] = {"values": values}
        try:
            outcome, came_to = one.run(flow, row, is_own=False)
            members |= came_to
            end_by_guards(outcome.guards)
        except TrellisError as error:
            code = code or error.exit_code
            say(f"keen-trellis: {row}: {error}", err=True)
            members["error"] = str(error)
        told.append(members)
    if as_json:
        say_members({"runs": told})
    failed = sum("error" in entry for entry in told)
    if failed:
        say(f"keen-trellis: {failed:,} of {len(told):,} runs failed or have broken guards.", err=True)
    if code:
        sys.exit(code)


def check_places(flows: Sequence[Any], rows: Sequence[str], folder: Any) -> None:
    """UsageError where the runs for two rows would write to one place, and not below what is there."""
    from keen_trellis.core.errors import UsageError
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.flow.steps.output import APPEND, UPDATE
    from keen_trellis.outputs import writer_of
    from keen_trellis.session.running import output_targets

    taken: dict[str, str] = {}
    for flow, row in zip(flows, rows, strict=True):
        for settings in output_targets(flow, KINDS, folder).values():
            place = writer_of(settings).place(settings)
            if place in taken and settings.mode not in (APPEND, UPDATE):
                raise UsageError(
                    f"The runs for {taken[place]} and {row} would both write {place}.",
                    remedy="Let its file or sheet have a run value in its name, as in out-:client.xlsx.",
                )
            taken.setdefault(place, row)
