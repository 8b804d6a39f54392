"""Tells by a file's content, not by its name, which reader can read it."""

from __future__ import annotations

import codecs
import re
import stat
import zipfile
from pathlib import Path

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.flow.decoding import decoded

WORKBOOK, TEXT, SQLITE, COLUMNS, LINES = "workbook", "text", "sqlite", "columns", "json-lines"
JSON, XML = "json", "xml"

ARCHIVE, COMPOUND = b"PK\x03\x04", bytes.fromhex("d0cf11e0a1b11ae1")  # how zip and xls files begin
_ENCRYPTED = "EncryptedPackage".encode("utf-16-le")
_HEAD = 8192
UTF8_MARKED = "utf-8-sig"
# That of UTF-32 begins with that of UTF-16.
_MARKS = (
    (codecs.BOM_UTF8, UTF8_MARKED),
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
_OFTEN, _RARELY = 0.6, 0.02
_NO_TEXT = re.compile(r"[\x00-\x08\x0e-\x1f\ufffd\uffff]")
_JSON_LINE = re.compile(rb'(?:\xef\xbb\xbf)?\s*\{\s*(?:"|\})')
_JSON_IN_ONE_PIECE = re.compile(r"\[\s*[\[{\"\d\-tfn\]]|\{\s*\n")
_TAG = re.compile(r"<(!|\?|[A-Za-z][\w:.-]*[\s/>])")
_TAGS_AS_CELLS = re.compile(r">[,;|\t]")
_SAVE = "Open it in a spreadsheet program and save it as xlsx or CSV."
# Markup of other kinds by what its beginning has.
_OTHER_MARKUP = tuple(
    (re.compile(expression, re.IGNORECASE), what, remedy)
    for expression, what, remedy in (
        (r"<!doctype\s+html|<html[\s>]|<t[rd][\s>]", "a web page, whatever its name says", _SAVE),
        (r"urn:schemas-microsoft-com:office:spreadsheet", "a workbook written as XML", _SAVE),
        (r"urn:oasis:names:tc:opendocument:xmlns:office", "an office document written as XML", _SAVE),
        (r"<svg[\s>]", "a picture (SVG), not a table", "Export the rows as CSV."),
    )
)
_LONGEST_LINE = 2**28
_STATEMENTS = (
    r"(CREATE|DROP|ALTER)\s+(TABLE|VIEW|INDEX|DATABASE|SCHEMA)\s|INSERT\s+INTO\s|BEGIN(\s+TRANSACTION)?\s*;"
    r"|PRAGMA\s+\w+\s*[=(;]|SET\s+\w+\s*=|SELECT\s[^;]*\sFROM\s"
)
# Texts of other kinds by what they begin with.
_OTHER_TEXT = tuple(
    (re.compile(expression), what)
    for expression, what in (
        (r"%PDF-", "a PDF document"),
        (r"%!PS", "a PostScript document"),
        (r"\{\\rtf", "a formatted document (RTF)"),
        (r"#!.*/", "a program"),
        (r"BEGIN:V(CARD|CALENDAR)", "contacts or a calendar"),
        (r"-----BEGIN ", "a key or certificate"),
        (r"---\s*\n", "YAML"),
        (r"\[[\w .-]+\]\s*\n\s*[\w.-]+\s*=", "settings (INI or TOML)"),
        (rf"(?i)(--[^\n]*\n\s*)*({_STATEMENTS})", "SQL statements"),
        (r"(Received|Return-Path|From|MIME-Version|Delivered-To): [^\n,;]*\n[\w-]+: ", "an e-mail message"),
    )
)
# A workbook that would unpack to more than this is not what it seems.
_MOST_UNPACKED = 8 * 2**30


class Recognised(msgspec.Struct, frozen=True):
    """reader: which reader reads the file.  content: what it is, in words.  mislabelled: as its name says."""

    reader: str
    content: str
    mislabelled: str = ""


class Sort(msgspec.Struct, frozen=True):
    """A sort of file. content: what it is, in words.  reader: which one reads it.  endings: of its name.

    begins: how its bytes begin.  holds: of a zip archive, what is in it, or with / a folder.
    """

    content: str
    reader: str
    endings: tuple[str, ...] = ()
    begins: bytes = b""
    holds: str = ""


def recognise(path: Path) -> Recognised:
    """What the file at `path` is. SourceError if it is missing, locked, encrypted, cut off or unknown."""
    head = _head(path)
    sort = _content(path, head)
    claimed = _CLAIMS.get(path.suffix.lower(), sort.content)
    return Recognised(sort.reader, sort.content, claimed if claimed != sort.content else "")


def _head(path: Path) -> bytes:
    where = str(path)
    try:
        found = path.stat()
        mode = found.st_mode
        if stat.S_ISDIR(mode):
            raise SourceError("It is a folder, not a file.", where=where, remedy="Choose a file in it.")
        if not stat.S_ISREG(mode):
            raise SourceError("It is not an ordinary file.", where=where, remedy="Choose a file on a disk.")
        # What the system makes up while it is read, as under /proc, says that it is empty, and may never end.
        head = b""
        if found.st_size:
            with path.open("rb") as file:
                head = file.read(_HEAD)
    except FileNotFoundError as error:
        raise SourceError(
            "There is no such file.",
            where=where,
            remedy="Was it moved or renamed? Put it back, or choose it anew.",
        ) from error
    except PermissionError as error:
        raise SourceError(
            "You have no permission to read it.",
            where=where,
            remedy="Ask its owner for the right to read it.",
        ) from error
    except OSError as error:
        raise SourceError(f"It cannot be opened: {error.strerror}.", where=where) from error
    if not head:
        raise SourceError("The file is empty.", where=where, remedy="Was it saved completely?")
    return head


def _content(path: Path, head: bytes) -> Sort:
    if head.startswith(ARCHIVE):
        return _in_archive(path)
    for sort in _SORTS:
        if sort.begins and head.startswith(sort.begins):
            if sort.begins == COMPOUND:
                _check_not_encrypted(path)
            return sort
    where = str(path)
    if b"\0" in head and not encoding_of(head):
        raise SourceError(
            "Its content is neither a workbook, nor text, JSON or XML, nor a database, nor Parquet or Arrow.",
            where=where,
            remedy="Export it as xlsx or CSV.",
        )
    text = _beginning(head)
    if _JSON_IN_ONE_PIECE.match(text) and _is_json(text):
        return _JSON
    first = text.partition("\n")[0]
    if _TAG.match(text) and not _TAGS_AS_CELLS.search(first):
        _refuse_other_markup(text, where)
        return _XML
    _refuse_other_text(text, where)
    if _JSON_LINE.match(head):
        is_named_so = path.suffix.lower() in _JSON_LINES.endings
        return _JSON if not is_named_so and _is_one_object(path) else _JSON_LINES
    return _DELIMITED


def encoding_of(head: bytes) -> str:
    """The encoding that the beginning of a text tells, by a mark of byte order, or by zeros in every second
    or three of four places; "" for UTF-8 without a mark, and what only the whole text tells.
    """
    for mark, encoding in _MARKS:
        if head.startswith(mark):
            return encoding
    if b"\0" not in head:
        return ""
    part = head[: len(head) // 4 * 4]
    zeros = [part[place::4].count(0) * 4 / max(len(part), 1) for place in range(4)]
    for encoding, often in (
        ("utf-32-le", (False, True, True, True)),
        ("utf-32-be", (True, True, True, False)),
        ("utf-16-le", (False, True, False, True)),
        ("utf-16-be", (True, False, True, False)),
    ):
        fits = all(
            share > _OFTEN if many else share < _RARELY for share, many in zip(zeros, often, strict=True)
        )
        if fits and not _NO_TEXT.search(part.decode(encoding, errors="replace")):
            return encoding
    return ""


def _beginning(head: bytes) -> str:
    """The beginning of a text, without marks of order and space."""
    text = head.decode(encoding_of(head) or "utf-8", errors="ignore")
    return text.lstrip("\ufeff \t\r\n")


def _refuse_other_text(text: str, where: str) -> None:
    """SourceError, saying what it is, for text that is no table; commas in it would make one of nonsense."""
    for expression, what in _OTHER_TEXT:
        if expression.match(text):
            raise SourceError(f"It holds {what}, not a table.", where=where, remedy="Export the rows as CSV.")


def _refuse_other_markup(text: str, where: str) -> None:
    """SourceError, saying what it is, for XML that is no data, and for web pages."""
    for expression, what, remedy in _OTHER_MARKUP:
        if expression.search(text):
            raise SourceError(f"It holds {what}.", where=where, remedy=remedy)


def is_json_line(path: Path) -> bool:
    """Whether a file begins with a line of JSON lines."""
    return _JSON_LINE.match(_head(path)) is not None


def _is_one_object(path: Path) -> bool:
    """Whether a file that begins with an object on one line is that object, with others or lists in it, and
    nothing more; otherwise each of its lines is one.
    """
    with path.open("rb") as file:
        line = file.readline(_LONGEST_LINE)
        if any(more.strip() for more in iter(lambda: file.readline(_HEAD), b"")):
            return False
    try:
        found = decoded(line.removeprefix(codecs.BOM_UTF8), dict[str, msgspec.Raw])
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return False
    return any(bytes(value).lstrip()[:1] in (b"[", b"{") for value in found.values())


def _is_json(text: str) -> bool:
    """Whether this is the beginning of a JSON text, or all of it."""
    try:
        msgspec.json.decode(text)
    except msgspec.DecodeError as error:
        return "truncated" in str(error)
    except RecursionError:
        return True  # whoever reads it says that it is nested too deeply
    return True


def _in_archive(path: Path) -> Sort:
    """The sort of a zip archive, by the names of what it holds."""
    try:
        with zipfile.ZipFile(path) as archive:
            names = set(archive.namelist())
            unpacked = sum(entry.file_size for entry in archive.infolist())
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise SourceError(
            "The workbook is damaged or cut off.", where=str(path), remedy="Copy or export it again."
        ) from error
    if unpacked > _MOST_UNPACKED:
        raise SourceError(
            f"It would unpack to {unpacked / 2**30:,.0f} GiB; no workbook is so large.",
            where=str(path),
            remedy="It may have been made to do harm. Ask where it comes from.",
        )
    for sort in _SORTS:
        if sort.holds in names or (sort.holds.endswith("/") and any(n.startswith(sort.holds) for n in names)):
            return sort
    raise SourceError("It is an archive, not a workbook.", where=str(path), remedy="Unpack it first.")


def _check_not_encrypted(path: Path) -> None:
    if _ENCRYPTED in path.read_bytes()[: 2**20]:
        raise SourceError(
            "The workbook is protected by a password.",
            where=str(path),
            remedy="Open it in a spreadsheet program, save a copy without a password, and use the copy.",
        )


# The sorts of files that are read, those of archives in the order in which they are tried. A new sort of file
# is a line here.
_SORTS = (
    Sort("SQLite database", SQLITE, (".sqlite", ".sqlite3", ".db"), b"SQLite format 3\0"),
    Sort("xls workbook", WORKBOOK, (".xls",), COMPOUND),
    Sort("xlsb workbook", WORKBOOK, (".xlsb",), holds="xl/workbook.bin"),
    Sort("xlsx workbook", WORKBOOK, (".xlsx", ".xlsm"), holds="xl/"),
    Sort("ods workbook", WORKBOOK, (".ods",), holds="content.xml"),
    Sort("Parquet file", COLUMNS, (".parquet",), b"PAR1"),
    Sort("Arrow file", COLUMNS, (".arrow", ".feather"), b"ARROW1"),
)
_JSON, _XML = Sort("JSON", JSON), Sort("XML", XML, (".xml",))
_JSON_LINES = Sort("JSON lines", LINES, (".jsonl", ".ndjson"))
_DELIMITED = Sort("delimited text", TEXT)
_CLAIMS = {ending: sort.content for sort in (*_SORTS, _JSON_LINES, _XML) for ending in sort.endings}
