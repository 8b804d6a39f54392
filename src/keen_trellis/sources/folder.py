"""A folder, or a pattern, of like text files or workbooks, read as one table."""

from __future__ import annotations

import datetime as dt
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.patterns import alternatives, has_signs
from keen_trellis.flow.plain_text import is_sayable
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import NEWEST_FILE, Settled, SourceSettings
from keen_trellis.sources.about import ROW_NUMBERS, ROWS_FILE, About, Listing
from keen_trellis.sources.cell_columns import in_one_type
from keen_trellis.sources.content import reading
from keen_trellis.sources.delimited import DelimitedReader, OpenedText, open_text
from keen_trellis.sources.headers import OwnNames
from keen_trellis.sources.locations import FOLDER, is_pattern
from keen_trellis.sources.reading import (
    GATHERING,
    Reader,
    ReadTable,
    refuse_unused,
)
from keen_trellis.sources.recognise import TEXT, WORKBOOK, recognise
from keen_trellis.sources.text_blocks import TextBlock
from keen_trellis.sources.typed_rows import typed_rows
from keen_trellis.sources.workbook import WorkbookReader

_TEXT = ARROW_TYPES[FieldType.TEXT]
_DATE_IN_NAME = re.compile(
    r"(?<!\d)((?:19|20)\d{2})[-_. ]?(0[1-9]|1[0-2])(?:[-_. ]?(0[1-9]|[12]\d|3[01]))?(?!\d)"
)
_NAMED = 6
_MOST_FILES = 20_000
_READERS = 2


class FolderReader(Reader):
    """Reads all files of one kind in a folder, lined up by the names of their fields."""

    name = FOLDER
    said = "a folder"
    uses = GATHERING | DelimitedReader.uses | WorkbookReader.uses
    of_file = False

    def tables(self, path: str, task: Task) -> Sequence[Listing]:
        members = members_of(path)
        if members.reader == TEXT:
            return [Listing(_plain_name(path), "files")]
        sheets = [
            entry for entry in WorkbookReader().tables(str(members.newest), task) if entry.sort == "sheet"
        ]
        folder = _plain_name(path)
        several = len(sheets) > 1
        return [
            msgspec.structs.replace(entry, title=f"{folder} {entry.name}" if several else folder)
            for entry in sheets
        ]

    def files(self, settings: SourceSettings) -> list[Path] | None:
        return members_of(settings.path).chosen(settings)

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        members = members_of(settings.path)
        if members.reader == TEXT:
            refuse_unused(settings, GATHERING | DelimitedReader.uses, "a folder of text files")
            return _read_texts(members, settings, room, task)
        refuse_unused(settings, GATHERING | WorkbookReader.uses, "a folder of workbooks")
        return _read_workbooks(members, settings, room, task)


class Members(msgspec.Struct, frozen=True):
    """The files that are read as one, in the order of their names, and those beside them that are not."""

    reader: str
    paths: tuple[Path, ...]
    others: tuple[str, ...]

    @property
    def newest(self) -> Path:
        """The file that was changed last; of several at once, the last by name."""
        return max(self.paths, key=lambda path: (path.stat().st_mtime_ns, path.name))

    def chosen(self, settings: SourceSettings) -> list[Path]:
        """The files that the settings ask for."""
        return [self.newest] if settings.gathering.which == NEWEST_FILE else list(self.paths)

    def remarks(self, settings: SourceSettings) -> list[Remark]:
        """What is said of the choice of files."""
        said = []
        if settings.gathering.which == NEWEST_FILE and len(self.paths) > 1:
            said.append(
                Remark(f"{self.newest.name} is the newest of {len(self.paths):,} files; only it is read")
            )
        if self.others:
            names = ", ".join(self.others[:_NAMED])
            more = f" and {len(self.others) - _NAMED:,} more" if len(self.others) > _NAMED else ""
            said.append(Remark(f"of another kind and not read: {names}{more}"))
        return said


def members_of(place: str) -> Members:
    """The like files in a folder or of a pattern. SourceError if there are none."""
    path = Path(place)
    try:
        if is_pattern(place):
            found = sorted(_of_pattern(path), key=_in_order)
        else:
            found = sorted(path.iterdir(), key=_in_order)
    except FileNotFoundError:
        raise SourceError(
            "There is no such folder.",
            where=place,
            remedy="Was it moved or renamed? Put it back, or choose it anew.",
        ) from None
    except (OSError, ValueError, NotImplementedError) as error:
        raise SourceError(f"It cannot be looked through: {error}.", where=place) from error
    if len(found) > _MOST_FILES:
        raise SourceError(
            f"It has {len(found):,} entries; at most {_MOST_FILES:,} are read as one table.",
            where=place,
            remedy="Put the files that belong together into a folder of their own, or name a pattern.",
        )
    kinds: dict[Path, str] = {}
    for entry in found:
        if entry.name.startswith((".", "~$")) or not entry.is_file():
            continue
        if not is_sayable(entry.name):
            raise SourceError(
                "A file in it has a name that is not UTF-8.", where=str(entry), remedy="Rename it."
            )
        try:
            kinds[entry] = recognise(entry).reader
        except SourceError:
            if is_pattern(place):
                raise
            kinds[entry] = ""
    counts = Counter(kind for kind in kinds.values() if kind in (TEXT, WORKBOOK))
    if not counts:
        raise SourceError(
            "It is a folder that holds neither text files nor workbooks.",
            where=place,
            remedy="Choose another folder or pattern.",
        )
    reader = counts.most_common(1)[0][0]
    paths = tuple(entry for entry, kind in kinds.items() if kind == reader)
    return Members(reader, paths, tuple(entry.name for entry, kind in kinds.items() if kind != reader))


def _of_pattern(path: Path) -> set[Path]:
    """The files that a pattern means; one that it names has to be there."""
    anchor, found = Path(path.anchor), set()
    for pattern in alternatives(str(path.relative_to(anchor))):
        named = set(anchor.glob(pattern))
        if not named and not has_signs(pattern):
            raise SourceError(
                f"There is no file {Path(pattern).name}, which is one of those that were picked.",
                where=str(path),
                remedy="Put it back, or pick the files anew.",
            )
        found |= named
    return found


def _in_order(path: Path) -> list[tuple[int, str]]:
    """Names with numbers in them in the order of the numbers: part 2 before part 10."""
    parts = re.split(r"(\d+)", str(path))
    return [(int(part) if part.isdigit() else -1, part.casefold()) for part in parts]


def _plain_name(place: str) -> str:
    path = Path(place)
    return Path(alternatives(place)[0]).parent.name if is_pattern(place) else path.name


def date_of(path: Path) -> dt.date:
    """The date in a file's name, the first of the month where it names no day; else when it was changed."""
    found = _DATE_IN_NAME.search(path.stem)
    if found is not None:
        year, month, day = found.groups()
        try:
            return dt.date(int(year), int(month), int(day or 1))
        except ValueError:
            pass
    return dt.datetime.fromtimestamp(path.stat().st_mtime).astimezone().date()


# --- lining up fields by name ---


class _Union(msgspec.Struct, frozen=True):
    """The fields of all files, and for each file where each of its own stands among them."""

    names: tuple[str, ...]
    places: tuple[tuple[int, ...], ...]
    remarks: tuple[Remark, ...]


def _lined_up(fields: Sequence[Sequence[str]], paths: Sequence[Path]) -> _Union:
    """Fields with the same name, but for case and spaces, belong together."""
    names: list[str] = []
    keys: dict[str, int] = {}
    places: list[tuple[int, ...]] = []
    for own in fields:
        at: list[int] = []
        for name in own:
            key = "".join(name.split()).casefold()
            if key not in keys or keys[key] in at:
                keys[key] = len(names)
                names.append(name)
            at.append(keys[key])
        places.append(tuple(at))
    usual = {
        place for place, count in Counter(p for at in places for p in at).items() if 2 * count > len(places)
    }
    remarks = []
    for path, taken in zip(paths, places, strict=True):
        more = [names[place] for place in taken if place not in usual]
        fewer = [names[place] for place in sorted(usual - set(taken))]
        said = [f"has {_fields(more)} more: {', '.join(more)}"] if more else []
        said += [f"lacks {_fields(fewer)}: {', '.join(fewer)}"] if fewer else []
        if said:
            remarks.append(Remark(f"{path.name} {' and '.join(said)}", doubtful=True))
    return _Union(tuple(names), tuple(places), tuple(remarks))


def _fields(names: Sequence[str]) -> str:
    return "a field" if len(names) == 1 else f"{len(names)} fields"


def _extra_fields(settings: SourceSettings, names: Sequence[str]) -> list[tuple[str, bool]]:
    """The fields for a file's name and date, under names that the files do not use; and whether it is the
    date's.
    """
    found: list[tuple[str, bool]] = []
    gathering = settings.gathering
    given = OwnNames(names)
    for wanted, is_date in ((gathering.name_field, False), (gathering.date_field, True)):
        if wanted:
            found.append((given.give(wanted), is_date))
    return found


# --- text files ---


def _read_texts(members: Members, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
    """Types are found over the rows of all files, so that one month's dates are read as the others' are."""
    paths = members.chosen(settings)
    opened: list[OpenedText] = []
    with reading(settings.path):
        for path in paths:
            own = room / f"file-{len(opened)}"
            own.mkdir()
            opened.append(open_text(path, settings, own, task))
        union = _lined_up([entry.names for entry in opened], paths)
        extra = _extra_fields(settings, union.names)
        gathered = _Gathered(opened, paths, union, extra)
        typed = typed_rows(
            lambda _: gathered.blocks(task),
            [*(name for name, _ in extra), *union.names],
            settings.writing.notation,
            settings.kept_as_text | {name for name, is_date in extra if not is_date},
            room / ROWS_FILE,
            task,
        )
    remarks = [*members.remarks(settings), *union.remarks]
    for path, entry in zip(paths, opened, strict=True):
        said = [*entry.remarks, *entry.repairs.remarks()]
        remarks += [Remark(f"{path.name}: {remark}", doubtful=remark.doubtful) for remark in said]
    first = opened[0]
    about = About(
        file=_plain_name(settings.path),
        digits=typed.digits,
        stretches=tuple(gathered.stretches),
        remarks=(*remarks, *typed.remarks),
        raw=first.raw,
        settled=Settled(first.layout, first.dialect, typed.writing),
    )
    return ReadTable(typed.data, about)


class _Gathered:
    """The rows of several text files as blocks with the fields of all of them."""

    def __init__(
        self, opened: list[OpenedText], paths: list[Path], union: _Union, extra: list[tuple[str, bool]]
    ) -> None:
        self._opened, self._paths, self._union, self._extra = opened, paths, union, extra
        self.stretches: list[tuple[int, str]] = []

    def blocks(self, task: Task) -> Iterator[TextBlock]:
        """All rows of all files, in the order of the files."""
        self.stretches = []
        row = 0
        for entry, path, places in zip(self._opened, self._paths, self._union.places, strict=True):
            self.stretches.append((row, path.name))
            for block in entry.blocks(task):
                yield self._widened(block, path, places)
                row += block.rows

    def _widened(self, block: TextBlock, path: Path, places: Sequence[int]) -> TextBlock:
        values = [str(date_of(path)) if is_date else path.name for _, is_date in self._extra]
        columns = [pa.repeat(pa.scalar(value, _TEXT), block.rows) for value in values]
        own: list[pa.Array | None] = [None] * len(self._union.names)
        for place, column in zip(places, block.columns, strict=False):
            own[place] = column
        columns += [pa.nulls(block.rows, _TEXT) if column is None else column for column in own]
        # Cells beyond the header of their file stand in fields of their own, behind all others.
        return TextBlock(columns + block.columns[len(places) :], block.numbers)


# --- workbooks ---


def _read_workbooks(members: Members, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
    paths = members.chosen(settings)
    reader = WorkbookReader()

    def read(number: int) -> ReadTable:
        own = room / f"file-{number}"
        own.mkdir()
        return reader.read(msgspec.structs.replace(settings, path=str(paths[number])), own, task)

    with ThreadPoolExecutor(_READERS) as pool:
        tables = list(pool.map(read, range(len(paths))))
    union = _lined_up([table.fields.column_names for table in tables], paths)
    extra = _extra_fields(settings, union.names)
    columns: dict[str, pa.ChunkedArray] = {}
    for name, is_date in extra:
        values = [pa.scalar(date_of(path)) if is_date else pa.scalar(path.name, _TEXT) for path in paths]
        parts = [pa.repeat(value, table.data.num_rows) for value, table in zip(values, tables, strict=True)]
        columns[name] = pa.chunked_array(parts)
    remarks = [*members.remarks(settings), *union.remarks]
    for number, name in enumerate(union.names):
        parts = []
        for table, places in zip(tables, union.places, strict=True):
            if number in places:
                parts.append(table.fields.column(places.index(number)))
            else:
                parts.append(pa.chunked_array([pa.nulls(table.data.num_rows)]))
        columns[name], said = in_one_type(name, [chunk for part in parts for chunk in part.chunks])
        remarks += said
    for path, table in zip(paths, tables, strict=True):
        remarks += [Remark(f"{path.name}: {said}", doubtful=said.doubtful) for said in table.about.remarks]
    numbers = np.concatenate([np.asarray(table.row_numbers) for table in tables])
    columns[ROW_NUMBERS] = pa.chunked_array([pa.array(numbers, pa.int32())])
    starts = np.cumsum([0, *(table.data.num_rows for table in tables)])[:-1].tolist()
    about = About(
        file=_plain_name(settings.path),
        table=settings.table,
        stretches=tuple((start, path.name) for start, path in zip(starts, paths, strict=True)),
        remarks=tuple(remarks),
        raw=tables[0].about.raw,
        settled=tables[0].about.settled,
    )
    # Copied out of the rooms of the single files, which are about to go.
    return ReadTable(pa.table(columns).combine_chunks(), about)
