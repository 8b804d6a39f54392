"""What comes out of a flow: the fields of each output, its control totals, the gaps left open, and blends."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal
from math import isclose
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.blending import Found
from keen_trellis.core.filling import FilledTable
from keen_trellis.core.insight.guards import CLOSE, amount_said, total_of
from keen_trellis.core.insight.summary import summary
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.analysis.value import BlendTold, FieldTold, GapTold, OtherTold, OutputTold, TotalTold
from keen_trellis.flow.analysis.withheld import Withheld
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.kinds import BlendFigures
from keen_trellis.flow.origins import Origins, origins_of
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps.blend import BlendSettings, repeated
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.wording import kept_of_blend, rows_called

_YEARS = range(1000, 2200)


def output_told(
    runner: Runner,
    flow: Flow,
    step: Step,
    linked: frozenset[tuple[str, str]],
    withheld: Withheld,
    task: Task,
    *,
    held_back: bool,
) -> OutputTold:
    """An output. linked: the fields of sources by which rows are linked: they are no amounts."""
    result = runner.result(flow, step.id, task)
    settings: OutputSettings = runner.settings(flow, step)
    shapes = runner.input_shapes(flow, step, task)
    table = result.rows
    fields, totals = [], []
    for field in table.fields:
        origins = origins_of(table, field.name)
        fields.append(_field(flow, table, field, origins, withheld, task))
        total = _total(runner, flow, table, field, origins, linked, task)
        if total is not None and not withheld.hides(table, field.name):
            totals.append(total)
    said = runner.kinds.of(step).sentence(settings, shapes)
    return OutputTold(
        step=step.id,
        name=step.name,
        note=step.note,
        sentence=withheld.sentence(step, said, (table,)),
        where=settings.where,
        rows=table.rows,
        files=result.files,
        held_back=held_back,
        fields=tuple(fields),
        totals=tuple(totals),
    )


def _field(
    flow: Flow, table: Table, field: Field, origins: Origins, withheld: Withheld, task: Task
) -> FieldTold:
    found = summary(table, field.name, task)
    hidden = withheld.hides(table, field.name)
    named = ((flow.find(step), name) for step, name in origins)
    return FieldTold(
        name=field.name,
        type="no value yet" if field.untyped else field.type.value,
        origins=tuple(f"{source.name}: {name}" for source, name in named if source is not None),
        blanks=found.blanks,
        absent=found.absent,
        distinct=found.distinct,
        minimum="" if hidden else found.least,
        maximum="" if hidden else found.greatest,
        withheld=hidden,
    )


def _total(
    runner: Runner,
    flow: Flow,
    table: Table,
    field: Field,
    origins: Origins,
    linked: frozenset[tuple[str, str]],
    task: Task,
) -> TotalTold | None:
    """The sum of a field beside that in its source, if it is an amount that comes from one as it is."""
    if not field.type.is_number or len(origins) != 1 or origins[0] in linked:
        return None
    source = flow.find(origins[0][0])
    if source is None or source.id != field.origin:
        return None
    before = runner.result(flow, source.id, task).rows
    name = origins[0][1]
    if name not in before.names or before.field(name).type is not field.type:
        return None
    if field.type is FieldType.INTEGER and _is_no_amount(before, name, task):
        return None
    was, now = total_of(before, name), total_of(table, field.name)
    if isinstance(was, float) or isinstance(now, float):
        same = isclose(was, now, rel_tol=CLOSE)
        difference: float | Decimal = float(now) - float(was)
    else:
        same, difference = was == now, Decimal(now) - Decimal(was)
    return TotalTold(
        field=field.name,
        source=source.name,
        of=name,
        source_rows=before.rows,
        source_total=amount_said(was),
        total=amount_said(now),
        difference="" if same else amount_said(difference),
        same=same,
        **_why(table, field.name, before, name),
    )


def _why(table: Table, name: str, source: Table, of: str) -> dict[str, Any]:
    """How often the rows of a source are in an output, as far as a field's cells come as they are."""
    for entry in table.gathered():
        if entry.table.identity == source.identity and entry.names.get(name) == of:
            rows = entry.rows(range(table.rows))
            times = np.bincount(rows[rows >= 0], minlength=source.rows)
            values = source.column(of).values
            missing, again = times == 0, times > 1
            repeated_values = values.take(pa.array(np.repeat(np.flatnonzero(again), times[again] - 1)))
            return {
                "known": True,
                "missing_rows": int(np.count_nonzero(missing)),
                "missing_total": amount_said(pc.sum(values.filter(pa.array(missing))).as_py() or 0),
                "again_rows": int(np.count_nonzero(again)),
                "again_total": amount_said(pc.sum(repeated_values).as_py() or 0),
            }
    return {}


def _is_no_amount(table: Table, name: str, task: Task) -> bool:
    """Whether whole numbers are rather keys, each of which occurs once, or years."""
    found = summary(table, name, task)
    if not found.filled or found.distinct == table.rows > 1:
        return True
    return int(found.least) >= _YEARS.start and int(found.greatest) in _YEARS


def gaps_of(runner: Runner, flow: Flow, step: Step, task: Task) -> Iterator[GapTold]:
    """The cells that a step leaves open, field by field."""
    result = runner.result(flow, step.id, task)
    rows = result.rows
    if isinstance(rows, FilledTable) and not step.skipped:
        for name, count in rows.still_open.items():
            if count:
                yield GapTold(step.id, step.name, name, count, rows.rows, "still open after filling")
    for name, count in result.open_cells.items():
        if count:
            yield GapTold(step.id, step.name, name, count, rows.rows, "without a partner")


def blend_told(runner: Runner, flow: Flow, step: Step, withheld: Withheld, task: Task) -> BlendTold:
    """A blend: from the rows of its other tables to what is used of them."""
    result = runner.result(flow, step.id, task)
    assert result.blended is not None
    settings: BlendSettings = runner.settings(flow, step)
    shapes = runner.input_shapes(flow, step, task)
    figures = BlendFigures.of(result.blended)
    tables = [runner.table(flow, entry, task) for entry in step.inputs]
    names = [shape.name for shape in shapes]
    kept, meaning = kept_of_blend(settings.kept, names[0])
    said = runner.kinds.of(step).sentence(settings, shapes)
    return BlendTold(
        step=step.id,
        name=step.name,
        note=step.note,
        sentence=withheld.sentence(step, said, tables),
        kept=f"{kept}: {meaning}",
        main=rows_called(names[0])[1],
        main_rows=result.blended.main_rows,
        rows=result.rows.rows,
        found_nothing=figures.nothing,
        others=tuple(
            _others(settings, names[1:], result.blended.others, figures, hidden=bool(withheld.of(tables[0])))
        ),
    )


def _others(
    settings: BlendSettings,
    names: Sequence[str],
    found: Sequence[Found],
    figures: BlendFigures,
    *,
    hidden: bool,
) -> Iterator[OtherTold]:
    """hidden: whether a field of the main table is withheld: an expression may hold values of it."""
    overcounted = repeated(settings, figures)
    for name, entry, own in zip(names, found, settings.others, strict=True):
        measures = tuple(measure.name for measure in own.measures)
        yield OtherTold(
            name=name,
            by=", ".join(
                f"{link.left} = {link.right}"
                for link in own.links
                if not (hidden and (link.left_is_expression or link.right_is_expression))
            ),
            rows=entry.rows,
            left_out=entry.left_out,
            groups=entry.summary.rows,
            groups_used=entry.groups_used,
            rows_found=entry.rows_found,
            times=round(entry.times, 3),
            measures=measures,
            overcounted=tuple(measure for measure in measures if measure in overcounted),
        )
