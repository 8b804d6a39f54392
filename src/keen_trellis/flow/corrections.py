"""Lists of corrections: pairs “read X as Y” in a file of their own, shared by flows and people.

The file is delimited text that any spreadsheet program opens: the columns read, meant, by and on (when, in
UTC), and whatever columns people add, which are kept. Each value stands once.
"""

from __future__ import annotations

import csv
import fcntl
import getpass
import io
import os
import pwd
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.flow.clock import clock
from keen_trellis.flow.graph import CorrectionList, Flow
from keen_trellis.flow.naming import free_id
from keen_trellis.flow.plain_text import cut, visible
from keen_trellis.flow.whole_file import whole_file

LIST_ENDING = ".corrections.csv"
READ, MEANT, BY, ON = "read", "meant", "by", "on"
COLUMNS = (READ, MEANT, BY, ON)
_LARGEST = 64 * 2**20  # bytes
_REMEDY = f"A list of corrections begins with the columns {READ} and {MEANT}."
_SHOWN = 40


class Correction(msgspec.Struct, frozen=True, omit_defaults=True):
    """A value that is written (read), and the one that it stands for. by, on: who said so, when, in UTC."""

    read: str
    meant: str
    by: str = ""
    on: str = ""


class _Sheet(msgspec.Struct):
    """A list as it stands in its file: its header, its rows, and how it is written."""

    header: list[str] = msgspec.field(default_factory=lambda: list(COLUMNS))
    rows: list[list[str]] = msgspec.field(default_factory=list)
    delimiter: str = ","
    marked: bool = False  # with a mark of byte order, as some spreadsheet programs want it

    def cell(self, row: Sequence[str], name: str) -> str:
        place = self.header.index(name) if name in self.header else len(row)
        return row[place] if place < len(row) else ""

    def pairs(self) -> Iterator[Correction]:
        return (Correction(*(self.cell(row, name) for name in COLUMNS)) for row in self.rows)

    def put(self, entry: Correction) -> None:
        """Add a pair, in place of one for the same value; other columns of its row stay."""
        place = next((n for n, row in enumerate(self.rows) if self.cell(row, READ) == entry.read), None)
        row = list(self.rows[place]) if place is not None else []
        row += [""] * (len(self.header) - len(row))
        for name in COLUMNS:
            if name in self.header:
                row[self.header.index(name)] = getattr(entry, name)
        if place is None:
            self.rows.append(row)
        else:
            self.rows[place] = row


def called(path: Path | str) -> str:
    """What a list is called."""
    return Path(path).name.removesuffix(LIST_ENDING).removesuffix(".csv")


def corrections_in(path: Path | str) -> tuple[Correction, ...]:
    """The pairs of a list, in its order. SourceError if it cannot be read or says two things of a value."""
    return tuple(_checked(_sheet(Path(path)), Path(path)).pairs())


def add(path: Path | str, entries: Iterable[Correction]) -> None:
    """Put pairs into a list, which is made if it is not there; a value that stands in it is said anew.

    SourceError, and the list as it was, if that cannot be done.
    """
    found = list(entries)
    for entry in found:
        if not entry.read.strip() or not entry.meant.strip() or entry.read == entry.meant:
            raise SourceError(
                f"“{visible(cut(entry.read, _SHOWN))}” is not read as another value.",
                where=str(path),
                remedy="A pair has a value as it is written, and the one that it stands for.",
            )

    def change(sheet: _Sheet) -> None:
        for entry in found:
            sheet.put(entry)

    _changed(Path(path), change)


def remove(path: Path | str, values: Iterable[str]) -> int:
    """Take the pairs of some values out of a list; how many there were. SourceError as `add`."""
    gone, before = set(values), 0

    def change(sheet: _Sheet) -> None:
        nonlocal before
        before = len(sheet.rows)
        sheet.rows = [row for row in sheet.rows if sheet.cell(row, READ) not in gone]
        before -= len(sheet.rows)

    _changed(Path(path), change)
    return before


def said_now(pairs: Iterable[tuple[str, str]]) -> list[Correction]:
    """Pairs as they are said by the user, at this moment."""
    who, when = _who(), clock().strftime("%Y-%m-%dT%H:%M:%SZ")
    return [Correction(read, meant, who, when) for read, meant in pairs]


def reread(flow: Flow) -> Flow:
    """The flow with its lists as their files have them now; of one that cannot be read, why."""
    return msgspec.structs.replace(flow, lists=tuple(map(_read_now, flow.lists))) if flow.lists else flow


def _read_now(entry: CorrectionList) -> CorrectionList:
    try:
        pairs = tuple((pair.read, pair.meant) for pair in corrections_in(entry.path))
    except SourceError as error:
        return msgspec.structs.replace(entry, pairs=(), error=f"{error.what} {error.remedy}".strip())
    return msgspec.structs.replace(entry, pairs=pairs, error="")


def with_list(flow: Flow, path: str) -> tuple[Flow, str]:
    """The flow with a list among those that its links may use, and its id there."""
    known = next((entry.id for entry in flow.lists if entry.path == path), "")
    if known:
        return flow, known
    made = _read_now(CorrectionList(free_id(called(path), {entry.id for entry in flow.lists}, "list"), path))
    return msgspec.structs.replace(flow, lists=(*flow.lists, made)), made.id


def listed_pairs(
    flow: Flow, ids: Iterable[str], own: Iterable[tuple[str, str]] = ()
) -> tuple[tuple[str, str], ...]:
    """The pairs of some lists of a flow; what is said before of a value holds, first of all what is said in
    `own`. SourceError if a list cannot be read.
    """
    found = dict(own)
    for list_id in ids:
        entry = flow.correction_list(list_id)
        if entry is None:
            raise SourceError(
                f"The list of corrections “{list_id}” is not in this flow.", remedy="Choose the list anew."
            )
        if entry.error:
            raise SourceError(f"The list of corrections “{called(entry.path)}” cannot be used: {entry.error}")
        for read, meant in entry.pairs:
            found.setdefault(read, meant)
    return tuple(found.items())


def _who() -> str:
    """What the user is called on this machine."""
    with suppress(KeyError, OSError):
        full: str = pwd.getpwuid(os.getuid()).pw_gecos.partition(",")[0].strip()
        if full:
            return full
    with suppress(KeyError, OSError):
        return getpass.getuser()
    return ""


def _changed(path: Path, change: Callable[[_Sheet], None]) -> None:
    try:
        with _only_one(path):
            sheet = _checked(_sheet(path), path) if path.exists() else _Sheet()
            change(sheet)
            text = io.StringIO()
            rows = [sheet.header, *sheet.rows]
            # One that ends a line on other machines would end it for the reader, too.
            bare = any("\r" in cell for row in rows for cell in row)
            writer = csv.writer(
                text,
                delimiter=sheet.delimiter,
                lineterminator="\n",
                quoting=csv.QUOTE_ALL if bare else csv.QUOTE_MINIMAL,
            )
            writer.writerows(rows)
            with whole_file(path) as draft:
                draft.write_text(text.getvalue(), "utf-8-sig" if sheet.marked else "utf-8", newline="")
    except OSError as error:
        remedy = "Let its folder be writable, or keep the list in another one."
        raise SourceError(
            f"It cannot be written: {error.strerror}.", where=str(path), remedy=remedy
        ) from error


@contextmanager
def _only_one(path: Path) -> Iterator[None]:
    """Let others who change a list of this folder wait: the file itself is written anew."""
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        fcntl.flock(folder, fcntl.LOCK_EX)
        yield
    finally:
        os.close(folder)


def _sheet(path: Path) -> _Sheet:
    try:
        if not path.is_file():
            missing = not os.path.lexists(path)
            what = "There is no such file." if missing else "It is not an ordinary file."
            raise SourceError(what, where=str(path), remedy="Choose the list anew, or do without it.")
        if path.stat().st_size > _LARGEST:
            raise SourceError("It is too large to be a list of corrections.", where=str(path), remedy=_REMEDY)
        content = path.read_bytes()
        text = content.decode("utf-8-sig")
    except OSError as error:
        raise SourceError(f"It cannot be read: {error.strerror}.", where=str(path)) from error
    except UnicodeDecodeError as error:
        raise SourceError("It is not UTF-8.", where=str(path), remedy="Save it as CSV in UTF-8.") from error
    first = text.partition("\n")[0]
    delimiter = max(",;\t", key=first.count)
    try:
        rows = [row for row in csv.reader(io.StringIO(text, newline=""), delimiter=delimiter) if any(row)]
    except csv.Error as error:
        raise SourceError(f"It is no delimited text: {error}.", where=str(path), remedy=_REMEDY) from error
    header = [name.strip().casefold() for name in rows[0]] if rows else []
    if READ not in header or MEANT not in header:
        raise SourceError("It is not a list of corrections.", where=str(path), remedy=_REMEDY)
    return _Sheet(header, rows[1:], delimiter, content.startswith(b"\xef\xbb\xbf"))


def _checked(sheet: _Sheet, path: Path) -> _Sheet:
    """The list; SourceError if a row lacks a value, or two say different things of one."""
    seen: dict[str, tuple[str, int]] = {}
    for number, pair in enumerate(sheet.pairs(), 2):
        if not pair.read.strip() or not pair.meant.strip():
            lacks = READ if not pair.read.strip() else MEANT
            raise SourceError(
                f"Row {number:,} has nothing under “{lacks}”.",
                where=str(path),
                remedy="Complete it, or delete it.",
            )
        before = seen.setdefault(pair.read, (pair.meant, number))
        if before[0] != pair.meant:
            texts = [visible(cut(text, _SHOWN)) for text in (pair.read, before[0], pair.meant)]
            raise SourceError(
                f"It reads “{texts[0]}” as “{texts[1]}” in row {before[1]:,}, "
                f"and as “{texts[2]}” in row {number:,}.",
                where=str(path),
                remedy="Delete one of the two rows.",
            )
    return sheet
