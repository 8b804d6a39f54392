"""What is set for the fields of a source: their types, other names, and which are left out."""

from __future__ import annotations

import pyarrow as pa

from keen_trellis.core.conversion import Converted, Notation, converted
from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.values import FieldType, as_text, one_array
from keen_trellis.flow.remark import Place, Remark
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings
from keen_trellis.sources.reading import ReadTable
from keen_trellis.sources.text_types import MOST_PLACES, RowNumbers

FIELD_TYPES = tuple(kind.value for kind in FieldType)


def shaped(read: ReadTable, settings: SourceSettings) -> tuple[ArrowTable, tuple[Remark, ...], int]:
    """The rows as read, with the fields as they are set, all there is to say about them, and the bytes of the
    columns that were made for it.
    """
    if not settings.fields:
        return read.table, read.about.remarks, 0
    held = 0
    fields = read.fields
    chosen = {entry.name: entry for entry in settings.fields}
    remarks = list(read.about.remarks)
    said = "is gone from the source; something is set for it"
    gone = [name for name in chosen if name not in fields.column_names]
    remarks += [Remark(said, name, doubtful=True) for name in gone]
    places = RowNumbers(read.row_numbers)
    columns: dict[str, pa.Array | pa.ChunkedArray] = {}
    for name in fields.column_names:
        entry = chosen.get(name, FieldSettings(name))
        if entry.left_out:
            continue
        column = fields.column(name)
        if entry.type:
            column, lost = _retyped(column, entry, settings.writing.notation, places)
            remarks += lost
            held += column.nbytes
        shown = entry.rename or name
        if shown in columns:
            raise SourceError(
                f"Two fields are called “{shown}”.",
                where=settings.path,
                remedy="Give one of them another name.",
            )
        columns[shown] = column
    if not columns:
        raise SourceError("All of its fields are left out.", where=settings.path, remedy="Keep one at least.")
    data = pa.table(columns)
    typed = {entry.rename or entry.name for entry in settings.fields if entry.type}
    table = ArrowTable(
        data,
        file=read.about.file,
        table=read.about.table,
        row_numbers=read.row_numbers,
        stretches=read.about.stretches,
        untyped=[name for name in ArrowTable.without_values(data) if name not in typed],
    )
    renamed = {entry.name: entry.rename for entry in settings.fields if entry.rename}
    left_out = {entry.name for entry in settings.fields if entry.left_out}
    kept = [
        Remark(entry.text, renamed.get(entry.field, entry.field), entry.doubtful, entry.places)
        for entry in remarks
        if entry.field not in left_out
    ]
    return table, tuple(kept), held


def field_type(name: str) -> FieldType:
    """The type called so; SourceError if there is none."""
    try:
        return FieldType(name)
    except ValueError:
        raise SourceError(
            f"There is no type “{name}”.", remedy=f"The types are: {', '.join(FIELD_TYPES)}."
        ) from None


def conversion(column: pa.Array | pa.ChunkedArray, to: FieldType, notation: Notation) -> Converted:
    """The column in another type; what cannot be converted is lost."""
    return converted(one_array(column), to, notation)


def lost_places(column: pa.Array | pa.ChunkedArray, made: Converted, places: RowNumbers) -> tuple[Place, ...]:
    """The first cells that a conversion lost, with their places."""
    rows = made.lost.nonzero()[0][:MOST_PLACES].tolist()
    cells = column.take(pa.array(rows, pa.int64()))
    texts = as_text(one_array(cells))
    return tuple(Place(places.of(row), text) for row, text in zip(rows, texts.to_pylist(), strict=True))


def _retyped(
    column: pa.ChunkedArray, entry: FieldSettings, notation: Notation, places: RowNumbers
) -> tuple[pa.Array, list[Remark]]:
    kind = field_type(entry.type)
    made = conversion(column, kind, notation)
    if not made.count:
        return made.values, []
    where = lost_places(column, made, places)
    values = "1 value is" if made.count == 1 else f"{made.count:,} values are"
    said = f"{values} no {kind.value}, as “{where[0].value}” (row {where[0].row:,}), and blank now"
    return made.values, [Remark(said, entry.name, doubtful=True, places=where)]
