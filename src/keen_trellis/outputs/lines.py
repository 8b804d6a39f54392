"""Rows as lines of text, column by column: what is written by delimited text and by JSON."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.parallel import ahead
from keen_trellis.core.table import Cells, Table
from keen_trellis.core.task import Task

TEXT = pa.large_string()
_BATCH_ROWS = 65_536
_AT_ONCE = 2
Made = TypeVar("Made")


def batches(
    table: Table,
    make: Callable[[range, list[Cells]], Made],
    what: str,
    task: Task,
    *,
    names: Sequence[str] | None = None,
) -> Iterator[Made]:
    """What `make` makes of each batch of rows, in their order; some are made side by side, ahead of whoever
    takes them. make: of the rows and the cells of `names`, or of all fields. Cancelled.
    """
    wanted = table.names if names is None else names

    def made(start: int) -> Made:
        rows = range(start, min(start + _BATCH_ROWS, table.rows))
        return make(rows, table.take(rows, wanted))

    def starts() -> Iterator[int]:
        for start in range(0, table.rows, _BATCH_ROWS):
            task.checkpoint(start, table.rows, what)
            yield start

    for start, done in ahead(made, starts(), _AT_ONCE):
        task.checkpoint(start, table.rows, what)
        yield done


def together(columns: Sequence[pa.Array], between: str) -> pa.Array:
    """The cells of each row (null is nothing) as one text, with `between` between them."""
    return pc.binary_join_element_wise(*columns, _said(between), null_handling="replace", null_replacement="")


def joined(columns: Sequence[pa.Array], between: str, end: str) -> memoryview:
    """All rows as one text: the cells of each (null is nothing), `between` between them and `end` after."""
    *first, last = columns
    ended = together([last, _said(end)], "")
    rows = together([*first, ended], between) if first else ended
    data = rows.buffers()[2]
    if data is None or not len(rows):
        return memoryview(b"")
    start, stop = _bounds(rows)
    return memoryview(data)[start:stop]


def holds(text: pa.Array, sign: str) -> bool:
    """Whether a sign of ASCII may stand in any of the texts; quicker than to look which ones have it."""
    text = text.cast(TEXT)
    data = text.buffers()[2]
    if data is None or not len(text):
        return False
    start, stop = _bounds(text)
    return bytes(memoryview(data)[start:stop]).find(sign.encode()) >= 0


def escaped_for_xml(text: pa.Array) -> pa.Array:
    """Texts without the signs that begin or end something in XML."""
    for sign, said in (("&", "&amp;"), ("<", "&lt;"), (">", "&gt;")):
        if holds(text, sign):
            text = pc.replace_substring(text, sign, said)
    return text


def _bounds(text: pa.Array) -> tuple[int, int]:
    """Where the bytes of an array of large text begin and end in its buffer."""
    bounds = memoryview(text.buffers()[1]).cast("q")
    return bounds[text.offset], bounds[text.offset + len(text)]


def around(before: str, text: pa.Array, after: str) -> pa.Array:
    """Each text with something before and after it; null stays null."""
    return pc.binary_join_element_wise(_said(before), text, _said(after), _said(""))


def _said(text: str) -> pa.Scalar:
    return pa.scalar(text, TEXT)
