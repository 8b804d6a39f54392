"""The child process that reads JSON in one piece, or XML, so that a damaged or huge one ends nothing but it.

Called as `python -m keen_trellis.sources.document_process list FILE`, or `... read FILE SETTINGS TARGET`. The
rows are written to TARGET as an Arrow file, which the parent maps into memory.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.errors import SourceError
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import Settled, SourceSettings
from keen_trellis.sources.about import About
from keen_trellis.sources.cell_columns import CellColumn, check_width
from keen_trellis.sources.child import Message, progress
from keen_trellis.sources.document import Column, Document
from keen_trellis.sources.numbers import exact_number
from keen_trellis.sources.recognise import XML, encoding_of
from keen_trellis.sources.text_blocks import TextBlock
from keen_trellis.sources.text_types import moments_in_text
from keen_trellis.sources.typed_rows import typed_rows

_TEXT = ARROW_TYPES[FieldType.TEXT]
_HEAD = 8192
TEXT_MEMBER = "text"


def answer(task: str, path: str, *more: str) -> Message:
    """List the tables of the file at `path`, or read one."""
    place = Path(path)
    is_xml = task.endswith(XML)
    document = Document(_xml(place) if is_xml else _json(place), place.stem)
    if task.startswith("list"):
        return Message(last=True, tables=tuple(document.listings()))
    settings = decoded(more[0], SourceSettings)
    columns, rows, key, leads = document.columns(settings.table)
    check_width(len(columns), path)
    about = About(file=place.name, table=settings.table, key=key, foreign_keys=leads)
    if is_xml:
        return Message(last=True, about=_of_texts(columns, rows, settings, more[1], about))
    return Message(last=True, about=_of_values(columns, rows, more[1], about))


# --- JSON ---


def _json(path: Path) -> Any:
    content = path.read_bytes()
    encoding = encoding_of(content[:_HEAD]) or "utf-8-sig"
    try:
        text = content.decode(encoding).lstrip("\ufeff")
        return msgspec.json.Decoder(float_hook=exact_number).decode(text)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise SourceError(
            f"The JSON is damaged or cut off ({error}).", remedy="Copy or export it again."
        ) from error
    except RecursionError as error:
        raise SourceError("It is nested too deeply.", remedy="Export the rows as a table.") from error


def _of_values(columns: Sequence[Column], rows: int, target: str, about: About) -> About:
    data: dict[str, pa.ChunkedArray] = {}
    remarks: list[Remark] = []
    task = progress()
    for done, column in enumerate(columns):
        task.checkpoint(done, len(columns))
        cells = CellColumn(column.name)
        cells.add_at(list(column.places), list(column.values), rows)
        made, said = cells.finished()
        data[column.name] = moments_in_text(made) if made.type == _TEXT and not said else made
        remarks += said
    table = pa.table(data)
    with pa.OSFile(target, "wb") as file, pa.ipc.new_file(file, table.schema) as writer:
        writer.write_table(table)
    return msgspec.structs.replace(about, remarks=tuple(remarks))


# --- XML ---


def _xml(path: Path) -> Any:
    from lxml import etree

    # Nothing that the file names is looked up: no entity, no definition, no address.
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, remove_comments=True, remove_pis=True
    )
    try:
        root = etree.parse(str(path), parser).getroot()
    except (etree.XMLSyntaxError, OSError) as error:
        raise SourceError(
            f"The XML is damaged or cut off ({error}).", remedy="Copy or export it again."
        ) from error
    return _Elements(root).content


class _Elements:
    """XML as objects and lists: elements that stand several times, or are all that one of their name's plural
    holds, are lists; attributes and elements that stand once are members.
    """

    def __init__(self, root: Any) -> None:
        self._repeated = {("", _local(root.tag))}  # by the names of the parent and its own
        waiting = [root]
        while waiting:
            element = waiting.pop()
            waiting += element
            names = Counter(_local(inner.tag) for inner in element if isinstance(inner.tag, str))
            mine = _local(element.tag)
            alone = len(names) == 1 and not element.attrib
            self._repeated |= {
                (mine, name)
                for name, count in names.items()
                if count > 1 or (alone and _is_plural(mine, name)) or (alone and element is root)
            }
        found = self._made(root, 0)
        self.content = found if isinstance(found, dict) else {_local(root.tag): found}

    def _made(self, element: Any, depth: int) -> Any:
        if depth > _DEEPEST_ELEMENT:
            raise SourceError("It is nested too deeply.", remedy="Export the rows as a table.")
        members: dict[str, Any] = {_local(name): value for name, value in element.attrib.items()}
        mine, texts = _local(element.tag), [element.text or ""]
        for inner in element:
            texts.append(inner.tail or "")
            if not isinstance(inner.tag, str):
                continue  # an entity that is not looked up
            name, made = _local(inner.tag), self._made(inner, depth + 1)
            if (mine, name) in self._repeated:
                listed = members.get(name)
                if not isinstance(listed, list):
                    members[name] = listed = []
                listed.append(made)
            else:
                members[name] = made
        text = " ".join(part.strip() for part in texts if part.strip())
        if not members:
            return text or None
        if text:
            members[TEXT_MEMBER] = text
        return members


_DEEPEST_ELEMENT = 200


def _local(name: Any) -> str:
    """A name without the address of its vocabulary."""
    return str(name).rpartition("}")[2]


def _is_plural(one: str, other: str) -> bool:
    """Whether an element is called as several of another one are: loans, loan."""
    return one.casefold() != other.casefold() and one.casefold().startswith(other.casefold())


def _of_texts(
    columns: Sequence[Column], rows: int, settings: SourceSettings, target: str, about: About
) -> About:
    """Types are found as those of a text file are."""
    arrays = []
    for column in columns:
        texts = np.full(rows, None, dtype=object)
        texts[list(column.places)] = [str(value) for value in column.values]
        arrays.append(pa.array(texts, _TEXT))
    block = TextBlock(arrays, np.arange(1, rows + 1, dtype=np.int32))
    typed = typed_rows(
        lambda _: iter([block]),
        [column.name for column in columns],
        settings.writing.notation,
        settings.kept_as_text,
        Path(target),
        progress(),
    )
    return msgspec.structs.replace(
        about, digits=typed.digits, remarks=tuple(typed.remarks), settled=Settled(writing=typed.writing)
    )
