"""The command that compares two versions of a flow."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.arguments import listed
from keen_trellis.cli.group import main
from keen_trellis.cli.saying import cell_shown, say, say_members
from keen_trellis.cli.trusting import settle, still_waiting, trusting

_SHOWN = 5


@main.command()
@click.argument("before_path", metavar="BEFORE", type=click.Path(path_type=Path))
@click.argument("after_path", metavar="AFTER", type=click.Path(path_type=Path))
@click.option("--key", default="", help="Fields by which rows are found again, with commas.")
@click.option(
    "--rows",
    "shown",
    type=click.IntRange(0),
    default=_SHOWN,
    show_default=True,
    help="Show so many rows of each sort.",
)
@trusting
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def compare(
    before_path: Path,
    after_path: Path,
    key: str,
    shown: int,
    as_json: bool,
    trust: bool,
    hosts: Sequence[str],
) -> None:
    """Compare two versions of a flow: the steps that changed, and the rows that come out differently.

    Both are computed from what their sources hold now; nothing is written.
    """
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.runner import Kept, Runner
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.flow.versions import Version, differences
    from keen_trellis.sources.library import Library

    library, versions, kept = Library(), [], Kept()  # what both have in common is computed once
    for path in (before_path, after_path):
        flow = load(path, KINDS)
        settle(flow, path, still_waiting(flow, path, trust=trust, hosts=hosts))
        versions.append(Version(flow, Runner(KINDS, library, kept), path.parent.absolute()))
    found = differences(versions[0], versions[1], listed(key))
    if as_json:
        say_members(_members(found, shown))
        return
    for line in _lines(found, shown):
        say(line)


def _lines(found: Any, shown: int) -> Iterator[str]:
    """The differences as a person wants to read them."""
    if found.is_none:
        yield "Both versions say the same, and the same rows come out."
        return
    for step in found.steps:
        yield f"{cell_shown(step.name)}: {_HOW[step.how]}"
        for sentence in step.said:
            yield f"  {sentence}"
    yield from found.filters
    if not found.steps and not found.filters:
        yield "The steps are the same; they read other rows."
    yield ""
    for end in found.ends:
        yield from _end_lines(end, shown)


_HOW = {"new": "a new step.", "gone": "is gone.", "changed": "changed."}
_END = {"new": "only in the later version.", "gone": "only in the earlier version."}


def _end_lines(end: Any, shown: int) -> Iterator[str]:
    """What comes out at one end of the flow otherwise than before."""
    from keen_trellis.core.insight.reason import rows_said

    name = cell_shown(end.name)
    if end.error or end.changes is None:
        yield f"{name}: {end.error or _END[end.how]}"
        return
    found = end.changes
    if not found:
        yield f"{name}: the same {rows_said(found.rows_after)}."
        return
    by = f" (found again by {', '.join(found.key)})" if found.key else " (whole rows are compared)"
    yield (
        f"{name}: {rows_said(found.rows_before)} before, {found.rows_after:,} after: "
        f"{len(found.added):,} added, {len(found.gone):,} gone, {len(found.changed[0]):,} changed{by}."
    )
    for change in found.fields:
        yield f"  {change}."
    for field, count in found.by_field:
        yield f"  {field} differs in {rows_said(count)}."
    for sign, rows, table in (("added", found.added, end.after), ("gone", found.gone, end.before)):
        for values in _rows(table, rows[:shown]):
            yield f"  {sign}: {cell_shown(', '.join(text for text in values.values() if text))}"
    for was, now in _changed(end, shown):
        parts = [
            f"{field}: {_cell(now[field])}, was {_cell(was[field])}"
            for field, _ in found.by_field
            if field in now and was[field] != now[field]
        ]
        who = ", ".join(_cell(now[field]) for field in found.key)
        yield f"  changed: {who}: {'; '.join(parts)}" if parts else f"  changed: {who}"


def _cell(text: str | None) -> str:
    return "blank" if text is None else f"“{cell_shown(text)}”"


def _rows(table: Any, rows: Any) -> list[dict[str, str | None]]:
    """Some rows, each as texts by field; a blank is None."""
    from keen_trellis.core.values import shown_text

    columns = [shown_text(cells.values).to_pylist() for cells in table.take(rows, table.names)]
    return [dict(zip(table.names, texts, strict=True)) for texts in zip(*columns, strict=True)]


def _changed(end: Any, shown: int) -> list[tuple[dict[str, str | None], dict[str, str | None]]]:
    """Some rows that changed, as they were and are."""
    before, after = (rows[:shown] for rows in end.changes.changed)
    return list(zip(_rows(end.before, before), _rows(end.after, after), strict=True))


def _members(found: Any, shown: int) -> dict[str, Any]:
    """The differences as members of a JSON object."""
    return {
        "same": found.is_none,
        "steps": [
            {"step": step.step, "name": step.name, "change": step.how, "said": step.said}
            for step in found.steps
        ],
        "filters": found.filters,
        "outputs": [_end_members(end, shown) for end in found.ends],
    }


def _end_members(end: Any, shown: int) -> dict[str, Any]:
    members = {"step": end.step, "name": end.name, "change": end.how, "error": end.error}
    if end.changes is None:
        return members
    found = end.changes
    return members | {
        "rows_before": found.rows_before,
        "rows_after": found.rows_after,
        "key": found.key,
        "added": len(found.added),
        "gone": len(found.gone),
        "changed": len(found.changed[0]),
        "by_field": dict(found.by_field),
        "fields": [str(change) for change in found.fields],
        "rows_added": _rows(end.after, found.added[:shown]),
        "rows_gone": _rows(end.before, found.gone[:shown]),
        "rows_changed": [{"before": was, "after": now} for was, now in _changed(end, shown)],
    }
