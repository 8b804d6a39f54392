"""Text whose columns stand at fixed places: found by the spaces between them, and written out in cells."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task

# What ends a cell in what is written out; text has it nowhere.
CELL_END = "\x1f"
_TEXT = pa.large_string()
_LOOKED_AT = 500  # lines
_LEAST_LINES, _MOSTLY = 3, 0.5
_BLOCK = 16 * 2**20


def places_in(sample: str) -> tuple[int, ...]:
    """Where columns begin in a text, counted from 1; none if they do not stand at fixed places.

    A column begins behind two places where every line has a space, or behind one where the first line has a
    name; and most lines have two spaces somewhere: else spaces only happen to stand below each other.
    """
    lines = [line.rstrip() for line in itertools.islice(sample.splitlines(), _LOOKED_AT) if line.strip()]
    if len(lines) < _LEAST_LINES or any("\t" in line for line in lines):
        return ()
    width = max(map(len, lines))
    padded = np.array([list(line.ljust(width)) for line in lines])
    filled = padded != " "
    gap = ~filled.any(axis=0)
    begins = np.flatnonzero(~gap & np.append(True, gap[:-1]))
    # One space below another may also stand within the longest texts: there the first line has no name.
    clear = [place < 2 or bool(gap[place - 2 : place].all() or filled[0, place]) for place in begins]
    begins = begins[np.array(clear, dtype=bool)]
    if len(begins) < 2:
        return ()
    wide = [line for line in lines if "  " in line.lstrip()]
    held = np.add.reduceat(filled, begins, axis=1) > 0
    often = np.count_nonzero(held.mean(axis=0) >= _MOSTLY)
    if len(wide) < _MOSTLY * len(lines) or often < 2:
        return ()
    return tuple(int(place) + 1 for place in begins)


def in_cells(path: Path, start: int, begins: Sequence[int], target: Path, task: Task) -> None:
    """Write the UTF-8 text in `path`, from byte `start` on, to `target`, with an end of each cell.

    SourceError if the text has what ends them.
    """
    ends: list[int | None] = [place - 1 for place in begins[1:]]
    with path.open("rb") as file, target.open("wb") as made:
        file.seek(start)
        left = b""
        while block := file.read(_BLOCK):
            task.checkpoint(file.tell(), path.stat().st_size, f"reading {path.name}")
            whole, newline, rest = (left + block).rpartition(b"\n")
            left = rest
            if newline:
                made.write(_cut(whole, begins, ends, path))
        if left:
            made.write(_cut(left, begins, ends, path))


def _cut(text: bytes, begins: Sequence[int], ends: Sequence[int | None], path: Path) -> bytes:
    lines = pc.list_flatten(pc.split_pattern(pa.array([text.decode()], _TEXT), "\n"))
    lines = pc.utf8_rtrim(lines, characters="\r")
    if pc.any(pc.match_substring(lines, CELL_END)).as_py():
        raise SourceError(
            "It has a character that text has nowhere (unit separator, U+001F).",
            where=str(path),
            remedy="Export it again without it.",
        )
    cells = [
        pc.utf8_trim(pc.utf8_slice_codeunits(lines, place - 1, end), characters=" ")
        for place, end in zip(begins, [*ends, None], strict=True)
    ]
    joined = pc.binary_join_element_wise(*cells, pa.scalar(CELL_END, _TEXT))
    # An empty line stays one.
    joined = pc.if_else(pc.equal(pc.utf8_trim_whitespace(lines), ""), pa.scalar("", _TEXT), joined)
    return "\n".join(joined.to_pylist()).encode() + b"\n"
