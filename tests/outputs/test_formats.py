"""What is written as text, JSON, Parquet and Arrow is what Python's own modules and Arrow read back."""

import csv
import datetime as dt
import io
import json
import math
import unittest
from decimal import Decimal
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import msgspec
import openpyxl
import pyarrow as pa
from csvw import CSVW
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import feather, parquet
from python_calamine import CalamineWorkbook

from keen_trellis.core.errors import Cancelled, DataError, OutputError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.choose import ChosenSettings
from keen_trellis.flow.steps.output import TARGETS, OutputSettings, check_settings
from keen_trellis.outputs import WRITERS, files, lines, write
from keen_trellis.outputs.targets import read_target, settings_for
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests.office import saved_by_office
from tests.tables import joined, rows_of, table

_SIGNS = st.sampled_from(
    ["Pier", "", '"', "'", ",", ";", "\t", "\r", "\n", "\\", "\x00", "\x1f", "é", "=1+1", "-"]
)
_TEXTS = st.lists(_SIGNS, max_size=4).map("".join) | st.none()
_TYPES = {
    "text": pa.large_string(),
    "integer": pa.int64(),
    "decimal": pa.decimal128(20, 2),
    "real": pa.float64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "time": pa.time64("us"),
    "timestamp": pa.timestamp("us"),
}
_ROW = st.tuples(
    _TEXTS,
    st.integers(-(2**63), 2**63 - 1) | st.none(),
    st.decimals(-(10**17), 10**17, places=2) | st.none(),
    st.floats() | st.none(),
    st.booleans() | st.none(),
    st.dates() | st.none(),
    st.times() | st.none(),
    st.datetimes() | st.none(),
)


def _stopping_at(rows):
    """A task that is stopped once so many rows are done."""
    task = Task(lambda done, *_: task.cancel() if done >= rows else None)
    return task


def made(rows):
    columns = list(zip(*rows, strict=True)) or [[] for _ in _TYPES]
    arrays = [pa.array(column, kind) for column, kind in zip(columns, _TYPES.values(), strict=True)]
    return ArrowTable(pa.table(arrays, names=list(_TYPES)))


class FormatCase(unittest.TestCase):
    def setUp(self):
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        # Batches that end within the rows of a test.
        self.enterContext(mock.patch.object(lines, "_BATCH_ROWS", 3))
        # Hundreds of files that nobody keeps: the disk need not have them.
        self.enterContext(mock.patch.object(files, "sync"))

    def write(self, found, name, **settings):
        """Write a table; its path, and what was said."""
        chosen = msgspec.structs.replace(settings_for(self.folder / name), **settings)
        written = write(found, chosen, replace=True)
        self.assertEqual(written.rows, found.rows)
        return self.folder / name, written.changed


class Text(FormatCase):
    @given(st.lists(_ROW, max_size=8), st.sampled_from(",;\t|.:- "))
    def test_as_pythons_own_module_writes_it(self, rows, delimiter):
        found = made(rows)
        path, _ = self.write(found, "a.csv", delimiter=delimiter, harmless=False)
        expected = io.StringIO(newline="")
        writer = csv.writer(expected, delimiter=delimiter, lineterminator="\r\n")
        writer.writerow(found.names)
        columns = [as_text(cells.values).to_pylist() for cells in found.take(None, found.names)]
        writer.writerows(zip(*columns, strict=True))
        self.assertEqual(path.read_bytes().decode(), expected.getvalue())

    @given(st.lists(_TEXTS, max_size=8))
    def test_one_field_alone(self, texts):
        found = ArrowTable(pa.table({"a": pa.array(texts, pa.large_string())}))
        path, _ = self.write(found, "a.csv", harmless=False)
        with path.open(newline="") as file:
            read = [row[0] for row in csv.reader(file)]
        self.assertEqual(read, ["a", *(text or "" for text in texts)])

    def test_cells_that_are_marked_are_counted_over_all_batches(self):
        found = ArrowTable(pa.table({"a": pa.array(["=1", "x", "=2", "=3", "5", "-x"], pa.large_string())}))
        path, changed = self.write(found, "a.csv")
        self.assertEqual(path.read_text().split(), ["a", "'=1", "x", "'=2", "'=3", "5", "'-x"])
        self.assertIn("4 cells of a written with an apostrophe", changed[0])


class Json(FormatCase):
    def shown(self, row):
        """A row as JSON has it."""
        return [
            repr(value).replace("inf", "inf")
            if isinstance(value, float) and not math.isfinite(value)
            else value.isoformat(" ")
            if isinstance(value, dt.datetime)
            else value.isoformat()
            if isinstance(value, dt.date | dt.time)
            else value
            for value in row
        ]

    @given(st.lists(_ROW, max_size=8))
    def test_both_forms_are_what_pythons_own_module_reads(self, rows):
        found = made(rows)
        path, changed = self.write(found, "a.jsonl")
        read = [json.loads(line, parse_float=Decimal) for line in path.read_bytes().split(b"\n")[:-1]]
        path, also = self.write(found, "a.json")
        self.assertEqual(json.loads(path.read_bytes(), parse_float=Decimal), read)
        self.assertEqual(also, changed)
        self.assertEqual(len(read), len(rows))
        odd = 0
        for mine, row in zip(read, rows, strict=True):
            self.assertEqual(list(mine), list(_TYPES))
            for name, value in zip(_TYPES, row, strict=True):
                if isinstance(value, float):
                    if math.isfinite(value):
                        self.assertEqual(float(mine[name]), value)
                    else:
                        odd += 1
                        self.assertIn(mine[name], ("nan", "inf", "-inf"))
                elif name == "decimal" and value is not None:
                    self.assertEqual(Decimal(mine[name]), value)
                elif name in ("date", "time", "timestamp") and value is not None:
                    self.assertEqual(type(value).fromisoformat(mine[name]), value)
                else:
                    self.assertEqual(mine[name], value)
        said = f"{odd:,} {'cell' if odd == 1 else 'cells'} of real written as text: no number of JSON"
        self.assertEqual(changed, (said,) if odd else ())

    def test_names_of_fields_are_text_too(self):
        found = ArrowTable(pa.table({'say "so"\n': pa.array([1]), "é, {x}": pa.array([None], pa.int64())}))
        path, _ = self.write(found, "a.jsonl")
        self.assertEqual(json.loads(path.read_text()), {'say "so"\n': 1, "é, {x}": None})


class Columns(FormatCase):
    @given(st.lists(_ROW, max_size=8))
    def test_they_keep_types_and_values(self, rows):
        found = made(rows)
        for name, read in (("a.parquet", parquet.read_table), ("a.arrow", feather.read_table)):
            path, changed = self.write(found, name)
            self.assertEqual(changed, ())
            back = read(path)
            self.assertEqual(back.schema.names, list(_TYPES))
            columns = [column.combine_chunks() for column in back.columns]
            for mine, cells, kind in zip(
                columns, found.take(None, found.names), _TYPES.values(), strict=True
            ):
                self.assertEqual(mine.type, kind)
                # Compared as text: NaN is like no other number.
                self.assertEqual(list(map(str, mine.to_pylist())), list(map(str, cells.values.to_pylist())))


_CASE = ArrowTable(
    pa.table(
        {
            "name": pa.array(["Pier; north", None, 'the "Mill"', "NA"], pa.large_string()),
            "n": pa.array([1, None, 3, 4]),
            "cost": pa.array([Decimal("1.50"), Decimal("-0.25"), None, Decimal(7)], pa.decimal128(9, 2)),
            "share": pa.array([0.5, 1e22, float("nan"), None]),
            "day": pa.array([dt.date(2026, 2, 1), None, dt.date(850, 1, 31), dt.date(2026, 12, 9)]),
            "at": pa.array([dt.datetime(2026, 2, 1, 8, 30)] * 4, pa.timestamp("us")),
        }
    )
)


class TextAsItIsWanted(FormatCase):
    def text(self, found, name="a.csv", *, encoding="utf-8", **settings):
        path, changed = self.write(found, name, **settings)
        return path.read_bytes().decode(encoding), changed

    def test_for_a_reader_with_a_decimal_comma(self):
        text, changed = self.text(
            _CASE, delimiter=";", decimal=",", dates="dd.mm.yyyy", line_end="lf", blank="NA"
        )
        self.assertEqual(
            text.splitlines(),
            [
                "name;n;cost;share;day;at",
                '"Pier; north";1;1,50;0,5;01.02.2026;01.02.2026 08:30:00',
                "NA;NA;-0,25;1e+22;NA;01.02.2026 08:30:00",
                '"the ""Mill""";3;NA;nan;31.01.0850;01.02.2026 08:30:00',
                "NA;4;7,00;NA;09.12.2026;01.02.2026 08:30:00",
            ],
        )
        self.assertNotIn("\r", text)
        self.assertEqual(changed, ("1 cell of name with “NA”, as gaps are written, too",))

    def test_quotation(self):
        found = table(a=["x", None, ""], n=[1, 2, None])
        for quotation, expected in (
            ("needed", ["a,n", "x,1", ",2", ","]),
            ("text", ['"a","n"', '"x",1', ",2", '"",']),
            ("all", ['"a","n"', '"x","1"', ',"2"', '"",']),
        ):
            self.assertEqual(self.text(found, quotation=quotation)[0].split("\r\n")[:-1], expected)

    def test_encodings(self):
        found = table(é=["Café", "naïve"])
        for encoding, begins in (
            ("utf-8-sig", b"\xef\xbb\xbf\xc3\xa9"),
            ("utf-16", b"\xff\xfe\xe9\x00"),
            ("windows-1252", b"\xe9\r\n"),
        ):
            path, _ = self.write(found, "a.csv", encoding=encoding)
            self.assertTrue(path.read_bytes().startswith(begins))
            self.assertEqual(path.read_bytes().decode(encoding), "é\r\nCafé\r\nnaïve\r\n")
        many = table(k=[1] * 5, t=["a", "b", "c", "d", "to → there"])
        with self.assertRaisesRegex(OutputError, "The sign “→” in row 5 of t cannot be written in latin-1"):
            self.write(many, "b.csv", encoding="latin-1")
        self.assertFalse((self.folder / "b.csv").exists())

    def test_packed_as_the_name_says(self):
        for name, packing in (("a.csv.gz", "gzip"), ("a.TSV.zst", "zstd"), ("a.jsonl.gz", "gzip")):
            path, _ = self.write(table(a=["x", "y"]), name)
            with pa.input_stream(str(path), compression=packing) as stream:
                self.assertIn(b"x", stream.read())
        with self.assertRaisesRegex(UsageError, "does not say what to write"):
            settings_for(self.folder / "a.parquet.gz")

    def test_a_word_for_no_partner(self):
        left, right, links = table(k=[1, 2], v=[None, "x"]), table(q=[1], w=[7.5]), [LinkField("k", "q")]
        found = joined(left, right, match(left, right, links), links, JoinType.LEFT_OUTER)
        self.assertEqual(self.text(found, no_partner="none")[0], "k,v,q,w\r\n1,,1,7.5\r\n2,x,none,none\r\n")
        text, _ = self.text(found, no_partner="none", blank="-", quotation="all")
        self.assertEqual(text.splitlines()[1:], ['"1",-,"1","7.5"', '"2","x",none,none'])
        self.assertEqual(self.text(found, blank="-")[0].splitlines()[1:], ["1,-,1,7.5", "2,x,,"])
        text, _ = self.text(found, "a.json", no_partner="none")
        self.assertEqual(json.loads(text)[1], {"k": 2, "v": "x", "q": "none", "w": "none"})
        path, _ = self.write(found, "a.xlsx", no_partner="none")
        rows = list(openpyxl.load_workbook(path)["Data"].iter_rows(values_only=True))
        self.assertEqual(rows[1:], [(1, None, 1, 7.5), (2, "x", "none", "none")])

    def test_what_no_text_can_be(self):
        for changes, said in (
            ({"decimal": ","}, "A comma cannot be both between cells and in numbers"),
            ({"quotation": "some"}, "no quotation"),
            ({"line_end": "cr"}, "no line_end"),
            ({"dates": "dd.mm"}, "no way to write dates"),
            ({"dates": "dd.dd.yyyy"}, "no way to write dates"),
            ({"encoding": "rot13"}, "no encoding"),
            ({"encoding": "latin-99"}, "no encoding"),
            ({"blank": "a,b"}, "cannot be used for a blank"),
            ({"no_partner": "a\nb"}, "cannot be used for no partner"),
            ({"fields": (ChosenSettings("a", type="text"),)}, "gives its fields no other type"),
        ):
            with self.subTest(**changes), self.assertRaisesRegex(UsageError, said):
                check_settings(msgspec.structs.replace(settings_for(self.folder / "a.csv"), **changes))


class OpenDocument(FormatCase):
    @given(st.lists(_ROW, max_size=6))
    def test_another_reader_finds_the_values(self, rows):
        # That reader knows no tab; LibreOffice does, below.
        kept = [row for row in rows if row[0] is None or not any(sign in row[0] for sign in "\x00\x1f\r\t")]
        found = made(kept)
        path, _ = self.write(found, "a.ods", sheet="Loans & more")
        read = CalamineWorkbook.from_path(path).get_sheet_by_name("Loans & more").to_python()
        self.assertEqual(read[0], list(_TYPES))
        for row, cells in zip(kept, read[1:], strict=False):
            for name, value, cell in zip(_TYPES, row, cells, strict=True):
                self.assertTrue(_same(value, cell), (name, value, cell))

    def test_what_it_looks_like_to_a_spreadsheet_program(self):
        found = table(text=["two  spaces ", "a\nb", "<&>\t."], n=[1, 2**60, None])
        day = pa.array([dt.date(2026, 2, 1), dt.date(1850, 1, 1), None])
        columns = {
            name: cells.values for name, cells in zip(found.names, found.take(None, found.names), strict=True)
        }
        path, changed = self.write(ArrowTable(pa.table({**columns, "day": day})), "a.ods")
        self.assertEqual(
            set(changed),
            {
                "1 cell of n written as text: more than 15 digits",
                "1 cell of text with a tab, which not every program reads",
            },
        )
        (self.folder / "office").mkdir()
        (saved,) = saved_by_office([path], self.folder / "office")
        rows = list(openpyxl.load_workbook(saved)["Data"].iter_rows(values_only=True))
        self.assertEqual(rows[1], ("two  spaces ", 1, dt.datetime(2026, 2, 1)))
        self.assertEqual(rows[2][:2], ("a\nb", str(2**60)))
        self.assertEqual(rows[3], ("<&>.", None, None))

    def test_what_it_refuses(self):
        with self.assertRaisesRegex(OutputError, "Row 2 of t has a character"):
            self.write(table(t=["a", "\x07"]), "a.ods")
        with self.assertRaisesRegex(OutputError, "cannot be the name of a sheet"):
            self.write(table(t=["a"]), "a.ods", sheet="a/b")


def _same(value, cell):
    """Whether a cell that was read holds a value, or says it as text."""
    if value in (None, ""):
        return cell == ""
    if isinstance(value, dt.time):
        said = dt.timedelta(
            hours=value.hour, minutes=value.minute, seconds=value.second, microseconds=value.microsecond
        )
        return cell in (value, said)
    if isinstance(value, float) and isinstance(cell, str):
        return cell == as_text(pa.array([value]))[0].as_py()
    if isinstance(value, (int, Decimal)) and isinstance(cell, str):
        return cell == f"{value:f}" if isinstance(value, Decimal) else cell == str(value)
    if isinstance(value, Decimal):
        return Decimal(repr(cell)) == value
    return cell == value


class ManyFiles(FormatCase):
    def test_one_for_each_value_with_names_that_are_safe(self):
        regions = ["North", "South", "North", None, "../up", 'a:"b"', "A:'b'", "south", "." * 9, "x" * 300]
        found = table(region=regions, n=[*range(10)])
        for ending in (".csv", ".csv.gz", ".xlsx", ".parquet"):
            with self.subTest(ending):
                chosen = msgspec.structs.replace(
                    settings_for(self.folder / f"Loans{ending}"), split_by="region"
                )
                done = write(found, chosen)
                names = [Path(path).name.removesuffix(ending) for path in done.files]
                expected = ["North", "South", "blank", "_up", "a_b_", "A_'b'", "south 2", "blank 2", "x" * 80]
                self.assertEqual(names, [f"Loans {name}" for name in expected])
                self.assertEqual((done.rows, {Path(path).parent for path in done.files}), (10, {self.folder}))
                with self.assertRaisesRegex(OutputError, "exists already"):
                    write(found, chosen)
        self.assertEqual((self.folder / "Loans North.csv").read_text(), "region,n\nNorth,0\nNorth,2\n")

    def test_all_or_none_and_not_too_many(self):
        (self.folder / "a South.csv").write_text("mine")
        chosen = msgspec.structs.replace(settings_for(self.folder / "a.csv"), split_by="region")
        with self.assertRaisesRegex(OutputError, "exists already"):
            write(table(region=["North", "South"]), chosen)
        self.assertEqual([path.name for path in self.folder.iterdir()], ["a South.csv"])
        writer = WRITERS["text"]
        self.assertTrue(writer.would_replace(chosen, ()))
        self.assertIn("a South.csv is there", writer.goes_with(chosen))
        with self.assertRaisesRegex(DataError, "region has more than 1,000 values"):
            write(table(region=[*range(1_001)]), chosen)
        with self.assertRaisesRegex(UsageError, "Only whole files"):
            check_settings(
                msgspec.structs.replace(settings_for(self.folder / "a.xlsx"), split_by="a", cell="B4")
            )

    def test_how_many_is_known_before(self):
        (self.folder / "loans.csv").write_text("loan,venue\nL-1,Pier\nL-2,Pier\nL-3,Quay\n")
        source = SourceSettings("text", str(self.folder / "loans.csv"), "loans")
        flow, rail = edits.add_source(Flow(), source, "Loans")
        settings = msgspec.structs.replace(settings_for(self.folder / "out.csv"), split_by="venue")
        flow, step = edits.add_output(flow, Input(rail), settings)
        runner = Runner(KINDS, Library(Cache(self.folder / "cache")))
        self.assertEqual(runner.result(flow, step).files, 2)


class OnTheWeb(FormatCase):
    """Metadata beside the file, judged by another program that reads such."""

    def read(self, found, **settings):
        path, _ = self.write(found, "ab.csv", described=True, **settings)
        beside = path.with_name("ab.csv-metadata.json")
        judge = CSVW(str(path), str(beside), validate=True)
        self.assertTrue(judge.is_valid)
        return judge.to_json(minimal=True), json.loads(beside.read_text())

    def test_values_come_back_by_what_it_says(self):
        for settings in (
            {},
            {"delimiter": ";", "decimal": ",", "dates": "dd.mm.yyyy", "line_end": "lf", "blank": "n/a"},
            {"quotation": "all", "encoding": "utf-8-sig"},
        ):
            with self.subTest(**settings):
                names = ["name", "n", "cost", "day"]
                columns = [cells.values for cells in _CASE.take(None, names)]
                found = ArrowTable(pa.table(columns, names=["The name", "n", "n ", "day"]))
                rows, told = self.read(found, **settings)
                self.assertEqual(
                    [column["name"] for column in told["tableSchema"]["columns"]],
                    ["The_name", "n", "n_2", "day"],
                )
                self.assertEqual(len(rows), 4)
                self.assertEqual(rows[0]["n"], 1)
                self.assertEqual(float(rows[1]["n_2"]), -0.25)
                self.assertEqual(rows[0]["day"][:10], "2026-02-01")
                self.assertNotIn("day", rows[1])

    def test_it_is_replaced_only_on_request(self):
        self.read(table(a=[1]))
        (self.folder / "ab.csv").unlink()
        chosen = msgspec.structs.replace(settings_for(self.folder / "ab.csv"), described=True)
        with self.assertRaisesRegex(OutputError, "What would say what the fields are exists already"):
            write(table(a=[1]), chosen)


class Fields(FormatCase):
    def test_those_that_are_wanted_in_order_and_under_their_names(self):
        (self.folder / "loans.csv").write_text("loan,venue,crates\nL-1,Pier,2\n")
        library = Library(Cache(self.folder / "cache"))
        source = SourceSettings("text", str(self.folder / "loans.csv"), "loans")
        flow, rail = edits.add_source(Flow(), source, "Loans")
        wanted = (ChosenSettings("crates", "number of crates"), ChosenSettings("loan"))
        settings = msgspec.structs.replace(settings_for(self.folder / "out.csv"), fields=wanted)
        flow, step = edits.add_output(flow, Input(rail), settings)
        table_made = Runner(KINDS, library).result(flow, step).rows
        write(table_made, settings)
        self.assertEqual((self.folder / "out.csv").read_text(), "number of crates,loan\n2,L-1\n")
        gone = msgspec.structs.replace(settings, fields=(ChosenSettings("crate"),))
        flow = edits.change_settings(flow, step, gone)
        with self.assertRaisesRegex(UsageError, "no field “crate”.*crates"):
            Runner(KINDS, library).result(flow, step)


class EachTarget(FormatCase):
    def endings(self):
        """Of the files that can be made."""
        return [ending for target in TARGETS.values() for ending in target.endings if ending != ".xlsm"]

    def test_every_target_has_a_writer_and_every_writer_a_target(self):
        self.assertEqual(list(WRITERS), list(TARGETS))

    def test_rows_come_back_by_our_readers(self):
        left = table(k=[1, 2, 2, None, 5, 6, 7], name=["a", "b", None, "d", "e", "f", "g"])
        right, links = table(key=[2, 5], other=["x", "y"]), [LinkField("k", "key")]
        found = joined(left, right, match(left, right, links), links, JoinType.LEFT_OUTER)
        library = Library(Cache(self.folder / "cache"))
        readers = {"xlsx": "workbook", "text": "text", "parquet": "columns", "arrow": "columns"}
        readers |= {"json-lines": "json-lines", "ods": "workbook"}
        for ending in self.endings():
            chosen = settings_for(self.folder / f"a{ending}")
            if chosen.writer not in readers:
                continue
            with self.subTest(ending):
                path, _ = self.write(found, f"a{ending}")
                table_name = "Data" if chosen.target.has_sheet else ""
                source = SourceSettings(readers[chosen.writer], str(path), table_name)
                back = library.get(source, Task()).table
                self.assertEqual((back.names, rows_of(back)), (found.names, rows_of(found)))

    def test_no_rows_and_no_fields(self):
        for ending in self.endings():
            with self.subTest(ending):
                path, _ = self.write(ArrowTable(pa.table({"a": pa.array([], pa.int64())})), f"a{ending}")
                self.assertTrue(path.exists())
                if ending in (".jsonl", ".ndjson"):
                    self.assertEqual(path.read_bytes(), b"")
                if ending == ".json":
                    self.assertEqual(json.loads(path.read_bytes()), [])

    def test_stopped_at_any_point_nothing_is_left(self):
        found = ArrowTable(pa.table({"a": pa.array(range(40))}))
        for ending in self.endings():
            for after in (0, 20):
                with self.subTest(ending, after=after):
                    with self.assertRaises(Cancelled):
                        write(found, settings_for(self.folder / f"a{ending}"), task=_stopping_at(after))
                    self.assertEqual(list(self.folder.iterdir()), [])

    def test_what_a_target_has_no_use_for_is_refused(self):
        flow, rail = edits.add_source(Flow(), SourceSettings("text", "loans.csv"), "Loans")
        runner = Runner(KINDS, Library(Cache(self.folder / "cache")))
        for ending, changes in (
            (".csv", {"sheet": "Loans"}),
            (".parquet", {"sheet": "Loans"}),
            (".parquet", {"delimiter": ";"}),
            (".json", {"harmless": False}),
            (".xlsx", {"delimiter": ";"}),
            (".xlsx", {"harmless": False}),
        ):
            with self.subTest(ending, **changes):
                settings = msgspec.structs.replace(settings_for(self.folder / f"a{ending}"), **changes)
                made_flow, step = edits.add_output(flow, Input(rail), settings)
                kind = KINDS.of(made_flow.step(step))
                with self.assertRaisesRegex(UsageError, f"“{next(iter(changes))}” is set for it"):
                    kind.check(settings, [mock.Mock(name="Loans")])
        del runner

    def test_a_column_file_needs_a_field(self):
        for ending in (".parquet", ".arrow"):
            with self.assertRaisesRegex(OutputError, "no field"):
                self.write(ArrowTable(pa.table({})), f"a{ending}")


class Settings(unittest.TestCase):
    def test_the_ending_says_the_writer(self):
        for writer, target in TARGETS.items():
            for ending, delimiter in target.endings.items():
                found = settings_for(Path(f"/a{ending}"), harmless=False)
                self.assertEqual((found.writer, found.delimiter), (writer, delimiter))
                self.assertEqual(found.harmless, not target.is_text)
        self.assertEqual(OutputSettings("xlsx", "a").sheet, "Data")
        for path, name in (("/a/why?.csv", "why?.csv"), ("postgresql://a@b/c?sslmode=require", "c")):
            self.assertEqual(OutputSettings("text", path).file_name, name)

    def test_targets_that_are_written_out(self):
        for text, path, within in (
            ("a.csv", "a.csv", ""),
            ("b#1.xlsx", "b#1.xlsx", "sheet Data"),
            ("b#1.xlsx#S#1", "b#1.xlsx", "sheet S#1"),
            ("b.xlsx#'My ''own'''!$b$4", "b.xlsx", "B4 of sheet My 'own'"),
            ("b.ods#A!B4", "b.ods", "sheet A!B4"),
            ("c.csv.gz", "c.csv.gz", ""),
        ):
            found = read_target(text)
            self.assertEqual((found.file_name, found.within), (path, within))
        for text in ("a", "a.parquet.gz", "a.pdf#x"):
            with self.assertRaisesRegex(UsageError, "does not say what to write"):
                read_target(text)


if __name__ == "__main__":
    unittest.main()
