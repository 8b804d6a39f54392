"""An xlsx file as a package of parts (ECMA-376, part 2): which there are, how they are related, and a copy
with some of them written anew and all others byte for byte as they were.
"""

from __future__ import annotations

import posixpath
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

import msgspec
from lxml import etree

from keen_trellis.core.errors import OutputError
from keen_trellis.flow.clock import clock

Element = Any  # of lxml, whose types are not known here
_RELATIONSHIPS = "http://schemas.openxmlformats.org/package/2006/relationships"
_TYPES = "http://schemas.openxmlformats.org/package/2006/content-types"
_TYPES_PART = "[Content_Types].xml"
_MOST_BYTES = 2**30  # of a part that is looked at whole
_BLOCK = 2**20
_DAMAGED = (zipfile.BadZipFile, zlib.error, etree.XMLSyntaxError, EOFError, KeyError, NotImplementedError)
_LOCAL_HEADER = struct.Struct("<4s5H3I2H")


class Relation(msgspec.Struct, frozen=True):
    """A relationship of a part. sort: the last word of its type.  part: what it leads to; "" outside."""

    id: str
    sort: str
    part: str


class Package(msgspec.Struct):
    """A package that is read, and what of it is to be written anew.

    changed: the parts that were parsed and altered.  texts: those altered without that.  streams: parts that
    write themselves, as they may be large.  removed: parts that go.
    """

    path: Path
    archive: zipfile.ZipFile
    changed: dict[str, Element] = msgspec.field(default_factory=dict)
    texts: dict[str, bytes] = msgspec.field(default_factory=dict)
    streams: dict[str, Callable[[IO[bytes]], None]] = msgspec.field(default_factory=dict)
    removed: set[str] = msgspec.field(default_factory=set)
    _parsed: dict[str, Element] = msgspec.field(default_factory=dict)

    @property
    def parts(self) -> list[str]:
        """The names of all parts that there will be."""
        now = [entry.filename for entry in self.archive.infolist() if not entry.is_dir()]
        made = (*self.changed, *self.texts, *self.streams)
        return [name for name in dict.fromkeys((*now, *made)) if name not in self.removed]

    def opened(self, part: str) -> IO[bytes]:
        """The bytes of a part as they are."""
        return self.archive.open(part)

    def content(self, part: str) -> bytes:
        """All bytes of a part as it will be; OutputError if it is too large for that."""
        if part in self.texts:
            return self.texts[part]
        if part in self._parsed:
            return as_bytes(self._parsed[part])
        if self.archive.getinfo(part).file_size > _MOST_BYTES:
            raise OutputError(
                f"Its part {part} is too large to be changed.",
                where=str(self.path),
                remedy="Write to another workbook.",
            )
        return self.archive.read(part)

    def root(self, part: str) -> Element:
        """The parsed part, always the same; `change` says that it was altered."""
        if part not in self._parsed:
            self._parsed[part] = parsed(self.content(part))
        return self._parsed[part]

    def change(self, part: str) -> Element:
        """The parsed part, which is to be written anew."""
        self.changed[part] = self.root(part)
        return self.changed[part]

    def add(self, part: str, root: Element, content_type: str) -> None:
        """A part that is new."""
        self._parsed[part] = self.changed[part] = root
        types = self.change(_TYPES_PART)
        etree.SubElement(types, f"{{{_TYPES}}}Override", PartName=f"/{part}", ContentType=content_type)

    def remove(self, part: str) -> None:
        """Take a part out, with what leads to it and says what it is."""
        self.removed.add(part)
        self.changed.pop(part, None)
        for entry in list(self.change(_TYPES_PART)):
            if entry.get("PartName", "").lstrip("/").casefold() == part.casefold():
                entry.getparent().remove(entry)

    def content_type(self, part: str) -> str:
        """What a part says that it is."""
        for entry in self.root(_TYPES_PART):
            if entry.get("PartName", "").lstrip("/").casefold() == part.casefold():
                return str(entry.get("ContentType", ""))
        return ""

    def relations(self, part: str) -> list[Relation]:
        """What a part is related to; the package itself is ""."""
        rels = rels_of(part)
        if rels not in self.parts:
            return []
        return [
            Relation(
                entry.get("Id", ""),
                entry.get("Type", "").rpartition("/")[2],
                "" if entry.get("TargetMode") == "External" else _joined(part, entry.get("Target", "")),
            )
            for entry in self.root(rels)
            if isinstance(entry.tag, str)
        ]

    def related(self, part: str, sort: str) -> list[str]:
        """The parts of a sort that a part is related to."""
        return [entry.part for entry in self.relations(part) if entry.sort == sort and entry.part]

    def relate(self, part: str, other: str, kind: str) -> str:
        """Relate a part to another one, by the whole name of the type; the relationship's id."""
        rels = rels_of(part)
        if rels in self.parts:
            root = self.change(rels)
        else:
            root = etree.Element(f"{{{_RELATIONSHIPS}}}Relationships", nsmap={None: _RELATIONSHIPS})
            self._parsed[rels] = self.changed[rels] = root
        taken = {entry.get("Id") for entry in root}
        name = next(f"rId{number}" for number in range(1, len(taken) + 2) if f"rId{number}" not in taken)
        etree.SubElement(root, f"{{{_RELATIONSHIPS}}}Relationship", Id=name, Type=kind, Target=f"/{other}")
        return name

    def unrelate(self, part: str, other: str) -> None:
        """Take away what leads from a part to another one."""
        for entry in list(self.change(rels_of(part))):
            if entry.get("TargetMode") != "External" and _joined(part, entry.get("Target", "")) == other:
                entry.getparent().remove(entry)

    def free_name(self, pattern: str) -> str:
        """A name of a part that none has, with a number in place of {}."""
        taken = {name.casefold() for name in (*self.parts, *self.removed)}
        return next(
            name
            for number in range(1, len(taken) + 2)
            if (name := pattern.format(number)).casefold() not in taken
        )

    def save(self, draft: Path) -> None:
        """Write the package to `draft`. OSError if it cannot be written."""
        order = [entry for entry in self.archive.infolist() if entry.filename not in self.removed]
        known = {entry.filename for entry in order}
        with self.path.open("rb") as source, zipfile.ZipFile(draft, "w", zipfile.ZIP_DEFLATED) as made:
            for entry in order:
                if not self._write_anew(entry.filename, made):
                    _copy(source, entry, made)
            for name in self.parts:
                if name not in known:
                    self._write_anew(name, made)

    def _write_anew(self, part: str, made: zipfile.ZipFile) -> bool:
        if part in self.streams:
            with made.open(_entry(part), "w", force_zip64=True) as out:
                self.streams[part](out)
        elif part in self.texts:
            made.writestr(_entry(part), self.texts[part])
        elif part in self.changed:
            made.writestr(_entry(part), as_bytes(self.changed[part]))
        else:
            return False
        return True


def _entry(part: str) -> zipfile.ZipInfo:
    """A part as one that is written now."""
    made = zipfile.ZipInfo(part, clock().timetuple()[:6])
    made.compress_type = zipfile.ZIP_DEFLATED
    return made


@contextmanager
def opened(path: Path) -> Iterator[Package]:
    """The package in the file at `path`. OutputError if it is none, or damaged."""
    try:
        with zipfile.ZipFile(path) as archive:
            package = Package(path, archive)
            package.root(_TYPES_PART)
            yield package
    except _DAMAGED as error:
        raise OutputError(
            "It is damaged, or no xlsx workbook, so that nothing can be written into it.",
            where=str(path),
            remedy="Open and save it with a spreadsheet program, or write to another file.",
        ) from error


def parsed(content: bytes) -> Element:
    """The root of a part. XMLSyntaxError if it is no XML, or has definitions of its own."""
    root = etree.fromstring(content, etree.XMLParser(resolve_entities=False, no_network=True))
    if root.getroottree().docinfo.doctype:
        raise etree.XMLSyntaxError("It has a document type, which no part may have.", 0, 0, 0)
    return root


def as_bytes(root: Element) -> bytes:
    """A part as it is written."""
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", standalone=True))


def rels_of(part: str) -> str:
    """The part in which the relationships of a part stand."""
    folder, name = posixpath.split(part)
    return posixpath.join(folder, "_rels", f"{name}.rels")


def _joined(part: str, target: str) -> str:
    """The name of the part that a relationship of `part` leads to."""
    if target.startswith("/"):
        return target.lstrip("/")
    return posixpath.normpath(posixpath.join(posixpath.dirname(part), target))


def _copy(source: IO[bytes], entry: zipfile.ZipInfo, made: zipfile.ZipFile) -> None:
    """Copy a part as it is packed, without unpacking it."""
    source.seek(entry.header_offset)
    header = _LOCAL_HEADER.unpack(source.read(_LOCAL_HEADER.size))
    if header[0] != b"PK\x03\x04":
        raise zipfile.BadZipFile("a part has no header")
    source.seek(header[-2] + header[-1], 1)
    copied = zipfile.ZipInfo(entry.filename, entry.date_time)
    for name in ("compress_type", "external_attr", "create_system", "CRC", "compress_size", "file_size"):
        setattr(copied, name, getattr(entry, name))
    assert made.fp is not None
    copied.header_offset = made.fp.tell()
    made.fp.write(copied.FileHeader())
    left = entry.compress_size
    while left:
        block = source.read(min(left, _BLOCK))
        if not block:
            raise zipfile.BadZipFile("a part is cut off")
        made.fp.write(block)
        left -= len(block)
    made.start_dir = made.fp.tell()
    made.filelist.append(copied)
    made.NameToInfo[copied.filename] = copied
