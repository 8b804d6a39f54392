"""A report as a workbook: the counts, and all rows without a partner, one sheet a reason."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from keen_trellis.core.table import ArrowTable, ChosenRows, Table
from keen_trellis.flow.analysis import Analysed, Analysis
from keen_trellis.flow.analysis.rows import ReasonRows
from keen_trellis.flow.answers import KNOT, SIDE
from keen_trellis.flow.cell_names import MOST_ROWS
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.reviewing import ANSWER, AS, READ
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs.report.page import moment
from keen_trellis.outputs.writing import Part

_TEXT, _NUMBER = pa.large_string(), pa.int64()
_NO_SHEET = re.compile(r"[\[\]:*?/\\\x00-\x1f\x7f']")
_LONGEST_NAME = 31


def parts_of(analysed: Analysed, path: Path) -> list[Part]:
    """What is written to the sheets of the workbook `path`."""
    analysis, names = analysed.analysis, set[str]()
    counts = ((name, count(analysis)) for name, count in COUNTS.items())
    made: list[tuple[str, Table]] = [(name, table) for name, table in counts if table.rows]
    for rows in analysed.rows:
        title = f"{rows.of} {rows.reason.kind.value}"
        table = _rows_without_partner(rows)
        pieces = range(0, max(table.rows, 1), MOST_ROWS - 1)
        for start in pieces:
            some = np.arange(start, min(start + MOST_ROWS - 1, table.rows))
            made.append((title, table if len(pieces) == 1 else ChosenRows(table, some)))
    return [
        Part(table, OutputSettings("xlsx", str(path), sheet=_sheet_name(title, names)))
        for title, table in made
    ]


def _sheet_name(title: str, taken: set[str]) -> str:
    """A name that a sheet can have, and no other has."""
    plain = _NO_SHEET.sub(" ", title).strip()[:_LONGEST_NAME].strip() or "rows"
    found, number = plain, 2
    while found.casefold() in taken or found.casefold() == "history":
        end = f" {number}"
        found, number = f"{plain[: _LONGEST_NAME - len(end)].rstrip()}{end}", number + 1
    taken.add(found.casefold())
    return found


def _of_lines(
    names: Sequence[str], lines: Sequence[Sequence[Any]], numbers: Sequence[str] = ()
) -> ArrowTable:
    """A table of lines, all of text but for `numbers`."""
    columns = zip(*lines, strict=True) if lines else ([] for _ in names)
    arrays = {
        name: pa.array(list(values), _NUMBER if name in numbers else _TEXT)
        for name, values in zip(names, columns, strict=True)
    }
    return ArrowTable(pa.table(arrays))


def _about(analysis: Analysis) -> ArrowTable:
    about = {
        "flow": analysis.name,
        **({"up to the step": analysis.about} if analysis.about else {}),
        "run on": moment(analysis.taken),
        "with": f"Keen Trellis {analysis.version}",
        **({"left out": ", ".join(analysis.withheld)} if analysis.withheld else {}),
        "answers": f"In the sheets of rows, write into “{ANSWER}”: yes if “{AS}” is meant, no if it is not, "
        "the value that is meant, or absent. Then read the file back with keen-trellis answer.",
        **{f"change {number}": line for number, line in enumerate(analysis.changes, 1)},
    }
    return _of_lines(["what", "value"], list(about.items()))


def _files(analysis: Analysis) -> ArrowTable:
    lines = [
        (source.name, file.path, file.bytes, moment(file.changed), file.sha256, source.rows)
        for source in analysis.sources
        for file in source.files
    ]
    return _of_lines(["table", "file", "bytes", "changed", "sha256", "rows"], lines, ["bytes", "rows"])


def _steps(analysis: Analysis) -> ArrowTable:
    lines = [(step.name, step.sentence, step.note or None, step.rows) for step in analysis.steps]
    return _of_lines(["step", "what it does", "note", "rows"], lines, ["rows"])


def _joins(analysis: Analysis) -> ArrowTable:
    counts = ["rows", "matched", "unmatched", "passed over", "blank"]
    lines = [
        (
            join.name,
            name,
            *(join.counts[f"{side}_{what.replace(' ', '_')}"] for what in counts),
            join.counts["pairs"],
        )
        for join in analysis.joins
        for side, name in (("left", join.left), ("right", join.right))
    ]
    return _of_lines(["join", "table", *counts, "pairs"], lines, [*counts, "pairs"])


def _reasons(analysis: Analysis) -> ArrowTable:
    lines = [
        (
            join.name,
            reason.of,
            reason.said,
            reason.rows,
            reason.values,
            "; ".join([*(mend.said for mend in reason.mends), *reason.notes]) or None,
        )
        for join in analysis.joins
        for reason in join.reasons
    ]
    return _of_lines(["join", "rows of", "reason", "rows", "values", "mend"], lines, ["rows", "values"])


def _guards(analysis: Analysis) -> ArrowTable:
    lines = [
        (guard.name, guard.statement, "yes" if guard.holds else "no", guard.said) for guard in analysis.guards
    ]
    return _of_lines(["at", "guard", "holds", "found"], lines)


def _gaps(analysis: Analysis) -> ArrowTable:
    lines = [(gap.name, gap.field, gap.cells, gap.rows, gap.what) for gap in analysis.gaps]
    return _of_lines(["at", "field", "open cells", "rows", "what"], lines, ["open cells", "rows"])


def _fields(analysis: Analysis) -> ArrowTable:
    lines = [
        (
            output.name,
            field.name,
            field.type,
            "; ".join(field.origins) or None,
            field.blanks,
            field.absent,
            field.distinct,
            field.minimum or None,
            field.maximum or None,
        )
        for output in analysis.outputs
        for field in output.fields
    ]
    counts = ["blank", "no partner", "distinct"]
    names = ["output", "field", "type", "comes from", *counts, "minimum", "maximum"]
    return _of_lines(names, lines, counts)


# The sheets that tell no rows.
COUNTS: Mapping[str, Callable[[Analysis], ArrowTable]] = {
    "about": _about,
    "files": _files,
    "steps": _steps,
    "joins": _joins,
    "reasons": _reasons,
    "guards": _guards,
    "gaps": _gaps,
    "fields": _fields,
}


def _rows_without_partner(rows: ReasonRows) -> Table:
    """All rows of a reason: the value and what it may mean, room for an answer, where each is, its fields."""
    places = rows.places()
    count = len(places)
    columns: dict[str, pa.Array] = {}
    if not rows.withheld:
        values, meant = rows.values, rows.meant
        blank = rows.reason.kind.value == "blank"
        columns = {
            READ: pa.array([None] * count if blank else values, _TEXT),
            AS: pa.array([meant.get(value) for value in values], _TEXT),
            ANSWER: pa.nulls(count, _TEXT),
            KNOT: pa.array([rows.step] * count, _TEXT),
            SIDE: pa.array([rows.reason.side] * count, _TEXT),
        }
    columns |= {
        "file": pa.array([file or None for file, _, _ in places], _TEXT),
        "sheet": pa.array([sheet or None for _, sheet, _ in places], _TEXT),
        "row": pa.array([row or None for _, _, row in places], _NUMBER),
    }
    for name, values in rows.cells():
        columns[free_name(name, columns)] = values
    return ArrowTable(pa.table(columns))
