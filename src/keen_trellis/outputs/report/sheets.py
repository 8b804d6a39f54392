"""A report as a workbook: the counts, and all rows without a partner, one sheet a reason."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from keen_trellis.core.table import ArrowTable, ChosenRows, Table
from keen_trellis.flow.analysis import Analysed, Analysis
from keen_trellis.flow.analysis.rows import ReasonRows
from keen_trellis.flow.answers import KNOT, SIDE
from keen_trellis.flow.cell_names import MOST_ROWS
from keen_trellis.flow.reviewing import ANSWER, AS, READ
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs.report.page import moment
from keen_trellis.outputs.writing import Part

_TEXT, _NUMBER = pa.large_string(), pa.int64()
_NO_SHEET = re.compile(r"[\[\]:*?/\\\x00-\x1f\x7f']")
_LONGEST_NAME = 31
# The sheets that tell no rows.
COUNTS = ("about", "files", "steps", "joins", "reasons", "guards", "gaps", "fields")


def parts_of(analysed: Analysed, path: Path) -> list[Part]:
    """What is written to the sheets of the workbook `path`."""
    analysis, names = analysed.analysis, set[str]()
    made: list[tuple[str, Table]] = [(name, table) for name, table in _counts(analysis) if table.rows]
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


def _table(columns: Mapping[str, Sequence[Any]], numbers: Sequence[str] = ()) -> ArrowTable:
    arrays = {
        name: pa.array(list(values), _NUMBER if name in numbers else _TEXT)
        for name, values in columns.items()
    }
    return ArrowTable(pa.table(arrays))


def _of_lines(
    names: Sequence[str], lines: Sequence[Sequence[Any]], numbers: Sequence[str] = ()
) -> ArrowTable:
    columns = zip(*lines, strict=True) if lines else ([] for _ in names)
    return _table(dict(zip(names, columns, strict=True)), numbers)


def _counts(analysis: Analysis) -> Iterator[tuple[str, ArrowTable]]:
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
    yield "about", _table({"what": list(about), "value": list(about.values())})
    yield (
        "files",
        _of_lines(
            ["table", "file", "bytes", "changed", "sha256", "rows"],
            [
                (source.name, file.path, file.bytes, moment(file.changed), file.sha256, source.rows)
                for source in analysis.sources
                for file in source.files
            ],
            ["bytes", "rows"],
        ),
    )
    yield (
        "steps",
        _of_lines(
            ["step", "what it does", "note", "rows"],
            [(step.name, step.sentence, step.note or None, step.rows) for step in analysis.steps],
            ["rows"],
        ),
    )
    sides = ["rows", "matched", "unmatched", "passed over", "blank"]
    yield (
        "joins",
        _of_lines(
            ["join", "table", *sides, "pairs"],
            [
                (
                    join.name,
                    name,
                    *(join.counts[f"{side}_{what.replace(' ', '_')}"] for what in sides),
                    join.counts["pairs"],
                )
                for join in analysis.joins
                for side, name in (("left", join.left), ("right", join.right))
            ],
            [*sides, "pairs"],
        ),
    )
    yield (
        "reasons",
        _of_lines(
            ["join", "rows of", "reason", "rows", "values", "mend"],
            [
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
            ],
            ["rows", "values"],
        ),
    )
    yield (
        "guards",
        _of_lines(
            ["at", "guard", "holds", "found"],
            [
                (guard.name, guard.statement, "yes" if guard.holds else "no", guard.said)
                for guard in analysis.guards
            ],
        ),
    )
    yield (
        "gaps",
        _of_lines(
            ["at", "field", "open cells", "rows", "what"],
            [(gap.name, gap.field, gap.cells, gap.rows, gap.what) for gap in analysis.gaps],
            ["open cells", "rows"],
        ),
    )
    yield (
        "fields",
        _of_lines(
            [
                "output",
                "field",
                "type",
                "comes from",
                "blank",
                "no partner",
                "distinct",
                "minimum",
                "maximum",
            ],
            [
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
            ],
            ["blank", "no partner", "distinct"],
        ),
    )


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
        columns[_free(name, columns)] = values
    return ArrowTable(pa.table(columns))


def _free(name: str, taken: Mapping[str, object]) -> str:
    found, number = name, 2
    while found in taken:
        found, number = f"{name} {number}", number + 1
    return found
