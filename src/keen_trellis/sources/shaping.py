"""What is set for the fields of a source: their types, other names, and which are left out."""

from __future__ import annotations

import msgspec
import pyarrow as pa

from keen_trellis.core.conversion import Converted, Notation, converted
from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.text_actions import read_otherwise
from keen_trellis.core.values import FieldType, as_text, one_array, type_of_arrow
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings
from keen_trellis.sources.kept_types import are, kept_type, lost_places
from keen_trellis.sources.reading import ReadTable
from keen_trellis.sources.text_types import RowNumbers

FIELD_TYPES = tuple(kind.value for kind in FieldType)


def shaped(read: ReadTable, settings: SourceSettings) -> tuple[ArrowTable, tuple[Remark, ...], int]:
    """The rows as read, with the fields as they are set, all there is to say about them, and the bytes of the
    columns that were made for it.
    """
    if not settings.fields and not settings.kept:
        return read.table, read.about.remarks, 0
    held = 0
    fields = read.fields
    chosen = {entry.name: entry for entry in settings.fields}
    had = {name: FieldType(kind) for name, kind in settings.kept if kind in FIELD_TYPES}
    notation = _notation(read, settings)
    remarks = list(read.about.remarks)
    said = "is gone from the source; something is set for it"
    there = {*fields.column_names, *read.about.unread}
    gone = [name for name in chosen if name not in there]
    remarks += [Remark(said, name, doubtful=True) for name in gone]
    places = RowNumbers(read.row_numbers)
    columns: dict[str, pa.Array | pa.ChunkedArray] = {}
    for name in fields.column_names:
        entry = chosen.get(name, FieldSettings(name))
        if entry.left_out:
            continue
        shown = entry.rename or name
        column, told = _as_set(fields.column(name), entry, had.get(shown), notation, places)
        if column is not fields.column(name):
            held += column.nbytes
            # What the reader says of its type no longer holds.
            remarks = [other for other in remarks if told is None or other.field != name]
        remarks += [told] if told is not None else []
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
    typed = {entry.rename or entry.name for entry in settings.fields if entry.type} | set(had)
    table = ArrowTable(
        data,
        file=read.about.file,
        table=read.about.table,
        row_numbers=read.row_numbers,
        stretches=read.about.stretches,
        untyped=[name for name in ArrowTable.without_values(data) if name not in typed],
    )
    renamed = {entry.name: entry.rename for entry in settings.fields if entry.rename}
    left_out = settings.left_out
    kept = [
        msgspec.structs.replace(entry, field=renamed.get(entry.field, entry.field))
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


def _as_set(
    column: pa.ChunkedArray,
    entry: FieldSettings,
    had: FieldType | None,
    notation: Notation,
    places: RowNumbers,
) -> tuple[pa.Array | pa.ChunkedArray, Remark | None]:
    """A column as it is set for its field; where no type is set, in the one that it had, if that is known."""
    values: pa.Array | pa.ChunkedArray = column
    if entry.correct:
        values = read_otherwise(as_text(one_array(column)), entry.correct)
        if not entry.type and had is None:
            values = conversion(values, type_of_arrow(column.type), notation).values
    if not entry.type:
        if had is None:
            return values, None
        kept = kept_type(values, entry.name, had, notation, places)
        return kept.values, kept.remark
    kind = field_type(entry.type)
    made = conversion(values, kind, notation)
    if not made.count:
        return made.values, None
    where = lost_places(values, made, places)
    said = f"{are(made.count)} no {kind.value}, as “{where[0].value}” (row {where[0].row:,}), and blank now"
    return made.values, Remark(said, entry.name, doubtful=True, places=where)


def _notation(read: ReadTable, settings: SourceSettings) -> Notation:
    """How its text writes values: as it is set, and where that leaves it open, as was found out."""
    found, given = read.about.settled.writing, settings.writing
    blanks = found.blanks if given.blanks is None else given.blanks
    return Notation(given.decimal or found.decimal, given.dates or found.dates, blanks)
