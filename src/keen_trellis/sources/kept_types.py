"""The types that the fields of a source had when the flow last ran: kept where the values still fit."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import PLACEHOLDERS, Converted, Notation, converted
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text, one_array, type_of_arrow
from keen_trellis.flow.remark import Place, Remark
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings
from keen_trellis.sources.text_types import MOST_PLACES, RowNumbers

# Where fewer of its values fit than this, a field has become another one, and not its values wrong.
_LEAST_FITTING = 0.5
_LAST_TIME = "as when the flow last ran"


class KeptType(msgspec.Struct, frozen=True):
    """A column in the type that it had, or as it is now where that cannot be. remark: what is to be said."""

    values: pa.Array | pa.ChunkedArray
    remark: Remark | None = None


def kept_type(
    column: pa.Array | pa.ChunkedArray, name: str, had: FieldType, notation: Notation, places: RowNumbers
) -> KeptType:
    """A column whose field had another type when the flow last ran, in that type.

    A field without values has it, too. Numbers that are wider now, and moments, stay as they are: they can be
    compared and computed with as before. Of texts those that do not fit are blank and named; where most do
    not, it stays text.
    """
    have, filled = type_of_arrow(column.type), len(column) - column.null_count
    if not filled:
        said = f"has no values; it stays {had.value}, {_LAST_TIME}"
        return KeptType(pa.nulls(len(column), ARROW_TYPES[had]), Remark(said, name))
    if have is had:
        return KeptType(column)
    if had is FieldType.TEXT:
        return KeptType(as_text(one_array(column)), as_text_said(name, have))
    if (have.is_number and had.is_number) or (have.is_moment and had.is_moment):
        made = converted(one_array(column), had)
        return KeptType(column if made.count else made.values)
    if have is not FieldType.TEXT:
        said = f"was {had.value} when the flow last ran, and is {have.value} now"
        return KeptType(column, Remark(said, name, doubtful=True))
    return _of_text(column, name, had, notation, places)


def as_text_said(name: str, have: FieldType) -> Remark:
    """What is said of a field whose values could all be of another type, and that was text."""
    return Remark(f"all of its values are {have.value} now; kept as text, {_LAST_TIME}", name)


def to_be_text(fields: pa.Table, settings: SourceSettings) -> list[tuple[str, FieldType]]:
    """The fields that were text and were read as something else, and as what: how they are written is
    lost then.
    """
    were_text = {name for name, had in settings.kept if had == FieldType.TEXT.value}
    entries = {entry.name: entry for entry in settings.fields}
    found: list[tuple[str, FieldType]] = []
    for name in fields.column_names if were_text else ():
        entry, column = entries.get(name, FieldSettings(name)), fields.column(name)
        have = type_of_arrow(column.type)
        is_meant = (entry.rename or name) in were_text and not entry.type and not entry.left_out
        if is_meant and have is not FieldType.TEXT and column.null_count < len(column):
            found.append((name, have))
    return found


def read_as_text(settings: SourceSettings, names: Sequence[str]) -> SourceSettings:
    """The settings with which a reader leaves the texts of these fields as they are."""
    entries = {entry.name: entry for entry in settings.fields}
    for name in names:
        entry = entries.get(name, FieldSettings(name))
        entries[name] = msgspec.structs.replace(entry, type=FieldType.TEXT.value)
    return msgspec.structs.replace(settings, fields=tuple(entries.values()))


def _of_text(
    column: pa.Array | pa.ChunkedArray, name: str, had: FieldType, notation: Notation, places: RowNumbers
) -> KeptType:
    texts = one_array(column)
    if notation.blanks is None:
        known = pc.is_in(texts, value_set=pa.array(PLACEHOLDERS, texts.type))
        texts = pc.if_else(known, pa.scalar(None, texts.type), texts)
    made = _converted(texts, had, notation)
    filled = len(texts) - texts.null_count
    if made.count > (1 - _LEAST_FITTING) * filled:
        none = f"{made.count:,} of its {filled:,} values are none now, so that it is text"
        said = f"was {had.value} when the flow last ran; {none}"
        return KeptType(column, Remark(said, name, doubtful=True, places=lost_places(texts, made, places)))
    if not made.count:
        return KeptType(made.values, Remark(f"read as {had.value}, {_LAST_TIME}", name))
    where = lost_places(texts, made, places)
    said = (
        f"{are(made.count)} no {had.value}, as “{where[0].value}” (row {where[0].row:,}); the field was "
        f"{had.value} when the flow last ran"
    )
    return KeptType(made.values, Remark(said, name, doubtful=True, places=where, misfit_of=had.value))


def _converted(texts: pa.Array, had: FieldType, notation: Notation) -> Converted:
    """Texts as a type, in the notation that most of them fit. Where two fit as many, what they take for
    different values is lost: it is not guessed what is meant.
    """
    ways = [notation]
    if had.is_number and not notation.decimal:
        ways = [msgspec.structs.replace(notation, decimal=mark) for mark in ".,"]
    elif had.is_moment and not notation.dates:
        ways = [msgspec.structs.replace(notation, dates=first) for first in ("day", "month")]
    best, *others = sorted((converted(texts, had, way) for way in ways), key=lambda made: made.count)
    for other in others:
        if other.count > best.count:
            continue
        same = pc.fill_null(pc.equal(*map(_wide, (best.values, other.values))), False)
        open_ = pc.and_(pc.or_(best.values.is_valid(), other.values.is_valid()), pc.invert(same))
        values = pc.if_else(open_, pa.scalar(None, best.values.type), best.values)
        return Converted(values, best.lost | open_.to_numpy(zero_copy_only=False))
    return best


def _wide(values: pa.Array) -> pa.Array:
    """Decimals with room for those of any other number of places."""
    return values.cast(pa.decimal256(76, 38)) if pa.types.is_decimal(values.type) else values


def lost_places(column: pa.Array | pa.ChunkedArray, made: Converted, places: RowNumbers) -> tuple[Place, ...]:
    """The first cells that a conversion lost, with their places."""
    rows = np.flatnonzero(made.lost)[:MOST_PLACES].tolist()
    texts = as_text(one_array(column.take(pa.array(rows, pa.int64()))))
    return tuple(Place(places.of(row), text) for row, text in zip(rows, texts.to_pylist(), strict=True))


def are(count: int) -> str:
    """So many values are, as a sentence begins."""
    return "1 value is" if count == 1 else f"{count:,} values are"
