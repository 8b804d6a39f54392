"""The views of the kinds of step, one module a kind. A new kind is a new module and a line here."""

from __future__ import annotations

from keen_trellis.desktop.kinds import (
    beside,
    blend,
    choose,
    columns_to_rows,
    combine,
    compute,
    correct,
    distinct,
    fill,
    filter,  # noqa: A004 - called after its kind
    first,
    join,
    mend_text,
    number_rows,
    output,
    rows_to_columns,
    shared_filter,
    sort,
    source,
    split,
    split_rows,
    summarise,
    union,
    walk,
)
from keen_trellis.desktop.kinds.view import KindView

VIEWS: tuple[KindView, ...] = (
    source.VIEW,
    choose.VIEW,
    filter.VIEW,
    compute.VIEW,
    mend_text.VIEW,
    correct.VIEW,
    split.VIEW,
    split_rows.VIEW,
    columns_to_rows.VIEW,
    rows_to_columns.VIEW,
    combine.VIEW,
    fill.VIEW,
    sort.VIEW,
    distinct.VIEW,
    first.VIEW,
    number_rows.VIEW,
    walk.VIEW,
    union.VIEW,
    beside.VIEW,
    join.VIEW,
    blend.VIEW,
    summarise.VIEW,
    shared_filter.VIEW,
    output.VIEW,
)
SENTENCES = {view.kind: view.sentence for view in VIEWS}
SHOWN = {view.kind: view.shows for view in VIEWS if view.shows is not None}
CUTTINGS = {view.kind: view.cutting for view in VIEWS if view.cutting is not None}
CHAPTERS = {view.kind: view.chapter for view in VIEWS}
# Of those that can be put on a rail, in the order of the menu.
COMMANDS = {view.kind: view.command for view in VIEWS if view.command is not None}
