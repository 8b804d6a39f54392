"""What becomes of single rows in a blend: which groups a main row found, and where a row's group is shown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from keen_trellis.core.blending import Blended, Found, Keep, Other
from keen_trellis.core.filtering import Comparison, Condition, fulfilled
from keen_trellis.core.table import ChosenRows
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import Fate, How, Traced, of_conditions, of_groups, values_said
from keen_trellis.flow.wording import counted, rows_called

_TOLD = 3


def fates_in_blend(
    others: Sequence[Other], keep: Keep, inputs: Sequence[Traced], made: Blended, task: Task
) -> Iterator[Fate]:
    """What becomes of the rows of each table that are followed. Cancelled."""
    main, tables = inputs[0], inputs[1:]
    if len(main.rows):
        yield from _of_main(keep, main, tables, made, others)
    for entry, traced, found in zip(others, tables, made.others, strict=True):
        if len(traced.rows):
            yield from _of_other(entry, main, traced, found, made, task)


def _of_main(
    keep: Keep, main: Traced, tables: Sequence[Traced], made: Blended, others: Sequence[Other]
) -> Iterator[Fate]:
    if keep in (Keep.GROUPS, Keep.ALL_GROUPS):
        keys = list(dict.fromkeys(link.left for entry in others for link in entry.links))
        yield from of_groups(main, made.table, [name for name in keys if name in made.table.names])
        return
    for traced, found in zip(tables, made.others, strict=True):
        partner = found.partner[main.rows]
        without = np.flatnonzero(partner < 0)
        one = rows_called(traced.name)[0]
        if len(without):
            yield Fate(
                How.UNMATCHED, f"found no group of {traced.name}: none has its link value", len(without)
            )
        for group in np.unique(partner[partner >= 0])[:_TOLD].tolist():
            members = sum(len(rows) for _, rows in found.summary.parents(int(group)))
            said = f"found a group of {counted(members, traced.name)}" if members else f"found one {one}"
            yield Fate(How.MATCHED, said, int(np.count_nonzero(partner == group)))
    if keep is Keep.FOUND:
        nothing = np.all([found.partner[main.rows] < 0 for found in made.others], axis=0)
        if nothing.any():
            said = "left out, since rows that found nothing in any other table are not kept"
            yield Fate(How.DROPPED, said, int(np.count_nonzero(nothing)))


def _of_other(
    entry: Other, main: Traced, traced: Traced, found: Found, made: Blended, task: Task
) -> Iterator[Fate]:
    rows = traced.rows
    if entry.where:
        conditions = [Condition(entry.where, Comparison.TRUE)]
        yield from of_conditions(traced, conditions, task)
        rows = rows[fulfilled(ChosenRows(traced.table, rows), conditions, task)]
    groups = found.summary.rows_from(traced.table, rows) if len(rows) else rows
    keys = [name for name in found.summary.names if name in {link.right for link in entry.links}]
    for group in groups[:_TOLD].tolist():
        members = sum(len(own) for _, own in found.summary.parents(int(group)))
        have = values_said(found.summary, np.array([group]), keys)
        shown = int(np.count_nonzero(found.partner == group))
        said = f"summed into a group of {counted(members, traced.name)} ({have}), "
        said += (
            f"which is on {counted(shown, main.name)}"
            if shown
            else f"which is on no {rows_called(main.name)[0]}"
        )
        yield Fate(How.SUMMED if shown else How.UNMATCHED, said, len(rows))
