"""How fast sources are read, each beside the bare reader library on the same file."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv
from pyarrow import parquet
from rich.table import Table as Grid

from benchmarks.measures import alternated, beside, seconds
from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library

_SEED = 23
_FILES = 12
_LEFT_OUT = ("object", "venue", "out", "back", "crates", "rate", "status")


def reading_grid(rows: int) -> Grid:
    """What is measured: five times `rows` of text, a tenth of it as a sheet, and a folder of twelve files."""
    grid = Grid(title="Reading", title_justify="left")
    for column in ("case", "ours s", "library s", "times its time", "aim", "peak MB"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    with tempfile.TemporaryDirectory(prefix="keen-trellis-speed-") as place:
        folder = Path(place)
        text = _text(folder, 5 * rows)
        grid.add_row(
            f"{5 * rows:,} x 10 delimited text, beside pyarrow",
            *beside(partial(_read, text, folder), partial(pa_csv.read_csv, text), "1.25"),
        )
        names = _table(1).column_names
        for kind, path, bare in _columns(folder, 5 * rows):
            for left_out in ((), _LEFT_OUT):
                some = f", {len(left_out)} of them left out" if left_out else ""
                wanted = [number for number, name in enumerate(names) if name not in left_out]
                ours = partial(_read, path, folder, left_out)
                name = f"{5 * rows:,} x 10 {kind}{some}, beside pyarrow"
                grid.add_row(name, *beside(ours, partial(bare, path, wanted), "1.00"))
        sheet = _sheet(folder, rows // 10)
        grid.add_row(
            f"{rows // 10:,} x 20 xlsx, beside python-calamine",
            *beside(partial(_read, sheet, folder), partial(_calamine, sheet), "1.40"),
        )
        grid.add_row(f"a folder of {_FILES} files, beside its files one by one", *_folder(folder, rows // 20))
        grid.add_row("the text once more, unchanged, in another start of the program", *_again(folder))
    return grid


def _read(path: Path, cache: Path, left_out: Sequence[str] = ()) -> Library:
    """Read a source that was never read before, without some of its fields."""
    fields = tuple(FieldSettings(name, left_out=True) for name in left_out)
    with tempfile.TemporaryDirectory(dir=cache) as own:
        library = Library(Cache(Path(own)))
        content = library.content(path)
        settings = content.settings(content.tables[0].name)
        library.get(msgspec.structs.replace(settings, fields=fields), Task())
    return library


def _columns(folder: Path, rows: int) -> list[tuple[str, Path, Callable[[Path, list[int]], object]]]:
    """The same rows as a Parquet and as an Arrow file, and what reads some columns of these, by number."""
    data, many = _table(rows), 500_000
    parquet_file, arrow_file = folder / "trips.parquet", folder / "trips.arrow"
    parquet.write_table(data, parquet_file)
    with pa.OSFile(str(arrow_file), "wb") as file, pa.ipc.new_file(file, data.schema) as writer:
        writer.write_table(data, many)

    def read_arrow(path: Path, wanted: list[int]) -> object:
        with pa.OSFile(str(path), "rb") as file:
            options = pa.ipc.IpcReadOptions(included_fields=wanted)
            return pa.ipc.open_file(file, options=options).read_all()

    def read_parquet(path: Path, wanted: list[int]) -> object:
        return parquet.read_table(path, columns=[data.column_names[number] for number in wanted])

    return [("Parquet", parquet_file, read_parquet), ("Arrow", arrow_file, read_arrow)]


def _calamine(path: Path) -> object:
    import python_calamine

    return python_calamine.CalamineWorkbook.from_path(path).get_sheet_by_index(0).to_python()


def _folder(folder: Path, rows: int) -> tuple[str, ...]:
    files = folder / "files"
    files.mkdir()
    for number in range(_FILES):
        pa_csv.write_csv(_table(rows, number), files / f"2026-{number + 1:02d}.csv")

    def one_by_one() -> None:
        for path in sorted(files.iterdir()):
            _read(path, folder)

    ours, theirs, ratio = alternated(partial(_read, files, folder), one_by_one)
    return f"{ours:.2f}", f"{theirs:.2f}", f"{ratio:.2f}", "1.00", ""


def _again(folder: Path) -> tuple[str, ...]:
    cache, settings = Cache(folder / "kept"), SourceSettings("text", str(folder / "trips.csv"))
    Library(cache).get(settings, Task())
    taken = seconds(lambda: Library(cache).get(settings, Task()))
    return f"{taken:.3f}", "", "", "", ""


def _table(rows: int, seed: int = 0) -> pa.Table:
    """Ten fields as they stand in exports: codes, names, dates, whole numbers, amounts."""
    chance = np.random.default_rng(_SEED + seed)
    numbers = pa.array(np.arange(rows))

    def code(prefix: str, values: pa.Array, digits: int) -> pa.Array:
        return pc.binary_join_element_wise(
            prefix, pc.utf8_lpad(values.cast(pa.string()), digits, padding="0"), ""
        )

    venues = np.array(["Pier Gallery", "Mill House", "Old Customs Hall", "Tolsery Museum"])
    days = pa.array(chance.integers(20_400, 20_800, rows).astype(np.int32)).cast(pa.date32())
    return pa.table(
        {
            "loan": code("L-", numbers, 7),
            "object": code("LCM.", pa.array(chance.integers(0, 99_999, rows)), 5),
            "venue": pa.array(venues[chance.integers(0, 4, rows)]),
            "out": days,
            "back": days,
            "crates": pa.array(chance.integers(0, 50, rows)),
            "value": pa.array(np.round(chance.random(rows) * 1_000, 2)),
            "rate": pa.array(np.round(chance.random(rows), 3)),
            "number": numbers,
            "status": pa.array(np.array(["open", "returned"])[chance.integers(0, 2, rows)]),
        }
    )


def _text(folder: Path, rows: int) -> Path:
    path = folder / "trips.csv"
    data = _table(rows)
    with path.open("wb") as file:
        file.write(",".join(data.column_names).encode() + b"\n")
        options = pa_csv.WriteOptions(include_header=False, quoting_style="none")
        pa_csv.write_csv(data, file, options)
    return path


def _sheet(folder: Path, rows: int) -> Path:
    import xlsxwriter

    path = folder / "trips.xlsx"
    with xlsxwriter.Workbook(path, {"constant_memory": True}) as book:
        page = book.add_worksheet("Trips")
        page.write_row(0, 0, [f"field {number}" for number in range(20)])
        for row in range(1, rows + 1):
            cells = [f"L-{row}", f"LCM.{row % 13_000:05d}", "Pier Gallery", row, row * 1.5]
            page.write_row(row, 0, cells * 4)
    return path
