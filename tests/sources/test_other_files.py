"""Parquet, Arrow, JSON lines, tables typed into the flow, and where sources lie."""

import datetime as dt
import os
import unittest
from decimal import Decimal
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import feather, parquet

from keen_trellis.core.errors import SourceError, UsageError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings, TypedTable
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library, split_source
from tests.sources.source_case import SourceCase
from tests.tables import rows_of

T, D = FieldType, Decimal


class OtherText(SourceCase):
    """Text that is no table would be read as one of nonsense wherever it has commas."""

    def test_it_is_refused_with_what_it_is(self):
        prose = "\n".join("one, two" * (number % 9) for number in range(60))
        for content, said in (
            ("<table>\n<tr><td>1, 2</td></tr></table>", "a web page"),
            ("%PDF-1.7\na, b", "a PDF document"),
            ("{\\rtf1\\ansi, x}", "RTF"),
            ("#!/bin/sh\necho a, b\n", "a program"),
            ("BEGIN:VCALENDAR\nX:1,2\n", "calendar"),
            ("-- a dump\nCREATE TABLE t (a, b);\n", "SQL statements"),
            ("INSERT INTO t VALUES (1, 2);\n", "SQL statements"),
            ("---\na: 1, 2\n", "YAML"),
            ("[tool]\nname = 1, 2\n", "settings"),
            ("From: a@b\nTo: c@d, e@f\n\n", "e-mail"),
            (prose, "text, but no table"),
        ):
            with self.subTest(content[:20]):
                path = self.folder / "t.csv"
                path.write_text(content)
                with self.assertRaisesRegex(SourceError, said):
                    self.read(path)
                path.write_bytes(content.encode("utf-16"))
                with self.assertRaisesRegex(SourceError, said):
                    self.read(path)

    def test_tables_that_begin_alike_are_read(self):
        for content in (
            "[no],[venue]\n1,Pier\n",
            '"[""a""]",b\nx,2\n',
            "<b>no</b>,<i>venue</i>\n1,2\n",
            "Set (whole),part\n1,2\n",
            "Select,From\n1,2\n",
            "From,To\n1,2\n",
            "-1,2\n-3,4\n",
            "{id},venue\n1,2\n",
            "---,x\n1,2\n",
            "title only\n\nno,venue,out\n" + "1,2,3\n" * 9,
        ):
            with self.subTest(content[:12]):
                path = self.folder / "t.csv"
                path.write_text(content)
                self.assertGreaterEqual(len(self.read(path).table.fields), 2)


class Columns(SourceCase):
    def setUp(self):
        super().setUp()
        day = dt.date(2026, 2, 3)
        self.data = pa.table(
            {
                "code": pa.array(["x", "", None]).dictionary_encode(),
                "small": pa.array([1, 2, None], pa.int8()),
                "huge": pa.array([1, 2**63, None], pa.uint64()),
                "cost": pa.array([Decimal("1.50"), None, Decimal("2.00")], pa.decimal128(9, 2)),
                "half": pa.array([0.5, 1.5, None], pa.float32()),
                "day": pa.array([day, None, day], pa.date64()),
                "at": pa.array([dt.datetime(2026, 2, 3, 4), None, None], pa.timestamp("ns", "Europe/Paris")),
                "list": pa.array([[1, 2], None, []]),
                "raw": pa.array([b"x", None, b"y"]),
                "yes": [True, None, False],
            }
        )

    def check(self, snapshot):
        kinds = [field.type for field in snapshot.table.fields]
        whole = [T.TEXT, T.INTEGER, T.DECIMAL, T.DECIMAL, T.REAL, T.DATE, T.TIMESTAMP, T.TEXT, T.BOOLEAN]
        self.assertEqual(kinds, whole)
        rows = rows_of(snapshot.table)
        moment = dt.datetime(2026, 2, 3, 4)
        self.assertEqual(
            rows[0], ("x", 1, 1, Decimal("1.50"), 0.5, dt.date(2026, 2, 3), moment, "[1, 2]", True)
        )
        self.assertEqual(rows[1][:4], (None, 2, 2**63, None))
        self.assertIn("raw: holds binary data and is left out", self.said(snapshot))
        self.assertIn("at: moments in the time zone Europe/Paris", self.said(snapshot))

    def test_parquet(self):
        parquet.write_table(self.data, self.folder / "t.parquet")
        self.check(self.read(self.folder / "t.parquet"))

    def test_arrow(self):
        feather.write_feather(self.data, str(self.folder / "t.arrow"), compression="uncompressed")
        self.check(self.read(self.folder / "t.arrow"))

    def test_they_are_known_by_their_content(self):
        parquet.write_table(self.data, self.folder / "t.csv")
        self.assertEqual(self.settings(self.folder / "t.csv").reader, "columns")

    def test_several_row_groups_and_a_type_that_is_set(self):
        data = pa.table({"n": list(range(10_000))})
        parquet.write_table(data, self.folder / "t.parquet", row_group_size=900)
        table = self.read(self.folder / "t.parquet", fields=(FieldSettings("n", type="text"),)).table
        self.assertEqual((table.rows, rows_of(table)[9_999]), (10_000, ("9999",)))

    def test_files_of_about_a_megabyte_have_room_in_what_a_reader_may_take(self):
        chance = np.random.default_rng(2026)
        for rows in (60_000, 200_000, 500_000):
            numbers = chance.integers(0, rows // 10, rows)
            texts = pa.array([f"LCM.{number:07d}" for number in numbers])
            days = pa.array((numbers % 700).astype(np.int32)).cast(pa.date32())
            data = pa.table({"code": texts, "number": numbers, "day": days})
            parquet.write_table(data, self.folder / f"{rows}.parquet")
            feather.write_feather(data, str(self.folder / f"{rows}.arrow"), compression="uncompressed")
            for kind in ("parquet", "arrow"):
                with self.subTest(kind, rows=rows):
                    self.assertEqual(self.read(self.folder / f"{rows}.{kind}").table.rows, rows)

    def test_more_memory_than_a_reader_may_take_is_said(self):
        data = pa.table({"number": np.arange(3_000_000)})
        parquet.write_table(data, self.folder / "t.parquet")
        with mock.patch.dict(os.environ, {"KEEN_TRELLIS_READER_BYTES": str(90 * 2**20)}):
            self.refused(self.folder / "t.parquet", "takes more than 0.1 GiB")

    def test_cut_off_or_damaged(self):
        for name, write in (
            ("t.parquet", lambda path: parquet.write_table(self.data, path)),
            ("t.arrow", lambda path: feather.write_feather(self.data, str(path))),
        ):
            write(self.folder / name)
            content = (self.folder / name).read_bytes()
            for end in (10, len(content) // 2, len(content) - 3):
                self.refused(self.put(name, content[:end]), "damaged or cut off")

    def test_decimals_that_are_wider_than_any_here_are_text(self):
        wide, kind = D("1" * 45 + ".5"), pa.decimal256(50, 1)
        data = pa.table(
            {"n": pa.array([wide, D(1), None], kind), "m": pa.array([D(1), D("2.5"), None], kind)}
        )
        parquet.write_table(data, self.folder / "t.parquet")
        snapshot = self.read(self.folder / "t.parquet")
        self.assertEqual(rows_of(snapshot.table), [(str(wide), D(1)), ("1.0", D("2.5")), (None, None)])
        self.assertIn("n: has numbers of more than 38 digits", self.said(snapshot))

    def test_what_cannot_be_seen_is_said(self):
        data = pa.table(
            {
                "share": pa.array([float("nan"), 1.0, float("nan"), float("inf")]),
                "at": pa.array([1, 1000, None, 1_000_001], pa.timestamp("ns")),
                "small": pa.array([1, 2**63 - 1, None, 0], pa.uint64()),
                "round": pa.array([100, None, 200, 0], pa.decimal128(5, 0)),
            }
        )
        parquet.write_table(data, self.folder / "t.parquet")
        snapshot = self.read(self.folder / "t.parquet")
        self.assertIn("share: 2 values are NaN", self.said(snapshot))
        self.assertIn("at: 2 values have parts below a microsecond", self.said(snapshot))
        self.assertEqual([field.type for field in snapshot.table.fields][2:], [T.INTEGER, T.DECIMAL])

    def test_names_that_stand_twice_or_not_at_all(self):
        data = pa.Table.from_arrays([pa.array([n, n + 1]) for n in (1, 3, 5, 7)], ["n", "n", "", " n.2"])
        for place in self.both(data):
            with self.subTest(place.suffix):
                snapshot = self.read(place)
                self.assertEqual(snapshot.table.names, ("n", "n 2", "field 3", " n.2"))
                self.assertEqual(rows_of(snapshot.table), [(1, 3, 5, 7), (2, 4, 6, 8)])
                self.assertIn("n 2: another field is called “n” too", self.said(snapshot))
                self.assertIn("field 3: its header is blank", self.said(snapshot))

    def both(self, data: pa.Table) -> list[Path]:
        """The same rows as a Parquet and as an Arrow file."""
        parquet.write_table(data, self.folder / "t.parquet", row_group_size=3)
        target = str(self.folder / "t.arrow")
        with pa.OSFile(target, "wb") as file, pa.ipc.new_file(file, data.schema) as writer:
            writer.write_table(data, 3)
        return [self.folder / "t.parquet", self.folder / "t.arrow"]

    @settings(max_examples=30, deadline=None)
    @given(
        st.lists(
            st.sampled_from(["n", "n.1", "", "list", "list.element", "é", "n 2"]), min_size=1, max_size=6
        ),
        st.integers(0, 7),
        st.sets(st.integers(0, 5)),
    )
    def test_fields_that_are_left_out_are_not_read(self, names, rows, out):
        kinds = [
            lambda place: pa.array([f"{place}-{row}" for row in range(rows)], pa.string()),
            lambda place: pa.array([row * place for row in range(rows)], pa.int32()),
            lambda place: pa.array([[row, place] for row in range(rows)], pa.list_(pa.int64())),
            lambda place: pa.array([f"{place}" for row in range(rows)], pa.string()).dictionary_encode(),
        ]
        data = pa.Table.from_arrays([kinds[place % 4](place) for place in range(len(names))], names)
        for place in self.both(data):
            whole = (
                Library(Cache(self.folder / "whole")).get(SourceSettings("columns", str(place)), Task()).table
            )
            library = Library(Cache(self.folder / "lean"))
            gone = [name for number, name in enumerate(whole.names) if number in out]
            kept = [name for name in whole.names if name not in gone]
            fields = tuple(FieldSettings(name, left_out=True) for name in gone)
            lean = SourceSettings("columns", str(place), fields=fields)
            if not kept:
                with self.assertRaisesRegex(SourceError, "All of its fields are left out"):
                    library.get(lean, Task())
                continue
            snapshot = library.get(lean, Task())
            self.assertEqual(snapshot.table.names, tuple(kept))
            self.assertEqual(self.said(snapshot).count("gone from the source"), 0)
            for name in kept:
                self.assertEqual(snapshot.table.column(name).values, whole.column(name).values)
            held = library.cache.find(snapshot.content)
            self.assertEqual((held.data.column_names, list(held.about.unread)), (kept, gone))

    def test_the_first_rows_are_to_be_had_before_all_of_a_large_file(self):
        chance = np.random.default_rng(2026)
        data = pa.table({name: chance.integers(0, 2**40, 400_000) for name in "abc"})
        parquet.write_table(data, self.folder / "t.parquet")
        feather.write_feather(data, str(self.folder / "t.arrow"), compression="uncompressed")
        parquet.write_table(data.slice(0, 1_001), self.folder / "small.parquet")
        for place in (self.folder / "t.parquet", self.folder / "t.arrow"):
            with self.subTest(place.suffix):
                without = self.settings(place, fields=(FieldSettings("b", left_out=True),))
                first = self.library.first_rows(without, Task()).table
                self.assertEqual(first.names, ("a", "c"))
                self.assertLess(first.rows, data.num_rows)
                self.assertEqual(first.column("c").values.to_pylist(), data["c"].to_pylist()[: first.rows])
        self.assertIsNone(self.library.first_rows(self.settings(self.folder / "small.parquet"), Task()))

    def test_a_field_that_is_brought_back_is_read(self):
        place = self.both(self.data)[0]
        without = (FieldSettings("small", left_out=True),)
        lean = self.read(place, fields=without)
        self.assertNotIn("small", self.library.cache.find(lean.content).data.column_names)
        self.assertIsNone(self.library.earlier(self.settings(place), lean.content))
        self.assertIsNotNone(self.library.earlier(self.settings(place, fields=without), lean.content))
        whole = self.read(place)
        self.assertIn("small", whole.table.names)
        # Where all of its fields are there, nothing is read anew for fewer.
        again = Library(self.library.cache).get(self.settings(place, fields=without), Task())
        self.assertEqual((again.content, again.table.names), (whole.content, lean.table.names))


class Lines(SourceCase):
    def test_objects_whose_members_differ(self):
        content = (
            '{"venue": "Pier", "crates": 3, "on": "2026-02-03"}\n\n{"crates": 4.5, "note": {"by": ["Ada"]}}\n'
        )
        snapshot = self.read(self.put("t.jsonl", content))
        kinds = {field.name: field.type for field in snapshot.table.fields}
        self.assertEqual(kinds, {"venue": T.TEXT, "crates": T.REAL, "on": T.DATE, "note": T.TEXT})
        self.assertEqual(
            rows_of(snapshot.table),
            [("Pier", 3.0, dt.date(2026, 2, 3), None), (None, 4.5, None, '{"by": ["Ada"]}')],
        )

    def test_more_rows_than_a_batch_and_a_late_field(self):
        lines = [f'{{"n": {n}}}' for n in range(45_000)] + ['{"n": 1, "late": true}']
        table = self.read(self.put("t.ndjson", "\n".join(lines))).table
        self.assertEqual((table.rows, rows_of(table)[-1], rows_of(table)[0]), (45_001, (1, True), (0, None)))

    def test_values_of_several_kinds_are_said(self):
        snapshot = self.read(self.put("t.jsonl", '{"n": 1}\n{"n": "x"}\n'))
        self.assertEqual(rows_of(snapshot.table), [("1",), ("x",)])
        self.assertIn("several kinds", self.said(snapshot))

    def test_numbers_keep_all_of_their_digits(self):
        wide, exact = "18446744073709551615", "12345678901234567890.123456789"
        for cells, kind, values in (
            ([wide, "5"], T.DECIMAL, [D(wide), D(5)]),
            ([exact, "1.5", "3"], T.DECIMAL, [D(exact), D("1.5"), D(3)]),
            (["9007199254740993", "0.5"], T.DECIMAL, [D("9007199254740993"), D("0.5")]),
            (["0.1", "1e300", "3"], T.REAL, [0.1, 1e300, 3.0]),
            (["1" * 40, "5"], T.TEXT, ["1" * 40, "5"]),
            ([exact, "1e300"], T.TEXT, None),
        ):
            with self.subTest(cells):
                # In one batch, and in several.
                for gap in (0, 20_000):
                    lines = "".join(f'{{"n": {cell}}}\n' + '{"n": null}\n' * gap for cell in cells)
                    found = self.read(self.put(f"{kind.value}-{len(cells[0])}-{gap}.jsonl", lines))
                    self.assertEqual(found.table.field("n").type, kind)
                    if values is not None:
                        rows = [row[0] for row in rows_of(found.table) if row[0] is not None]
                        self.assertEqual(rows, values)
        self.assertIn(
            "more than 38 digits", self.said(self.read(self.put("l.jsonl", '{"n": ' + "1" * 40 + "}\n")))
        )

    def test_a_line_that_is_no_object(self):
        self.refused(self.put("t.jsonl", '{"n": 1}\n[2]\n'), "Line 2 is not a JSON object")
        self.refused(
            self.put("d.jsonl", '{"n": ' + "[" * 100_000 + "]" * 100_000 + "}\n"), "Line 1 is not a JSON"
        )
        self.refused(self.put("e.jsonl", "{}\n{}\n"), "hold no fields")


class TypedIn(SourceCase):
    def read_typed(self, names, *rows):
        settings = SourceSettings("typed", typed=TypedTable(names, rows))
        return self.library.get(settings, Task())

    def test_its_types_are_found_as_in_a_text_file(self):
        snapshot = self.read_typed(("from", "to", "on"), ("Ebbrick", "Ebbrick Inn", "2026-01-02"), ("x",))
        self.assertEqual([field.type for field in snapshot.table.fields], [T.TEXT, T.TEXT, T.DATE])
        self.assertEqual(rows_of(snapshot.table)[1], ("x", None, None))
        self.assertEqual(str(snapshot.table.origins(1)[0]), "typed in, row 2")

    def test_without_rows_and_without_fields(self):
        self.assertEqual(self.read_typed(("from", "to")).table.rows, 0)
        with self.assertRaisesRegex(SourceError, "no fields yet"):
            self.read_typed(())


class Naming(SourceCase):
    def test_name_place_and_table(self):
        for text, expected in (
            ("a.csv", ("", "a.csv", "")),
            ("b/a.xlsx#Loans", ("", "b/a.xlsx", "Loans")),
            ("Objects=b/a.xlsx#Loans!A3:F40", ("Objects", "b/a.xlsx", "Loans!A3:F40")),
            ("x/2026-*.csv", ("", "x/2026-*.csv", "")),
            ("postgresql://me@h/base#public.objects", ("", "postgresql://me@h/base", "public.objects")),
            ("postgresql://me@h/base?sslmode=require#o", ("", "postgresql://me@h/base?sslmode=require", "o")),
            ("Objects=postgresql://me@h/base#o", ("Objects", "postgresql://me@h/base", "o")),
        ):
            self.assertEqual(split_source(text), expected, text)

    def test_a_file_with_a_hash_or_an_equals_sign_in_its_name(self):
        for name in ("a#1.csv", "a=b.csv"):
            path = self.put(name, "n\n1\n")
            self.assertEqual(split_source(str(path)), ("", str(path), ""))

    def test_a_file_with_several_tables_asks_which(self):
        import xlsxwriter

        path = self.folder / "two.xlsx"
        with xlsxwriter.Workbook(path) as book:
            for name in ("One", "Two"):
                book.add_worksheet(name).write_row(0, 0, ["a", "b"])
        with self.assertRaisesRegex(UsageError, "several tables.*two.xlsx#One, two.xlsx#Two"):
            self.settings(path)
        self.assertEqual(self.settings(path, "two").table, "Two")


class Cached(SourceCase):
    def test_the_same_content_is_not_read_again_wherever_it_lies(self):
        first = self.read(self.put("one/t.csv", "a,b\n1,x\n"))
        again = self.read(self.put("two/t.csv", "a,b\n1,x\n"))
        self.assertEqual(first.identity, again.identity)
        files = [path.name for path in self.library.cache.folder.glob("*.arrow")]
        self.assertEqual(len(files), 1)

    def test_other_content_or_settings_are_other_rows(self):
        path = self.put("t.csv", "a,b\n1,x\n")
        identities = {
            self.read(path).identity,
            self.read(path, fields=(FieldSettings("a", type="text"),)).identity,
        }
        self.put("t.csv", "a,b\n2,x\n")
        self.library.take_anew()
        identities.add(self.read(path).identity)
        self.assertEqual(len(identities), 3)

    def test_a_damaged_file_in_the_cache_is_read_anew(self):
        path = self.put("t.csv", "a,b\n1,x\n")
        self.read(path)
        for entry in self.library.cache.folder.glob("*.arrow"):
            entry.write_bytes(b"nonsense")
        self.library.forget_all()
        self.assertEqual(rows_of(self.read(path).table), [(1, "x")])

    def test_it_is_limited_in_size(self):
        self.library.cache.limit = 30_000
        for number in range(12):
            self.read(self.put(f"t{number}.csv", "a\n" + f"{number} text\n" * 500))
        size = sum(path.stat().st_size for path in self.library.cache.folder.iterdir())
        self.assertLess(size, 60_000)
        self.assertEqual(self.read(self.folder / "t0.csv").table.rows, 500)

    def test_a_cache_folder_that_cannot_be_written(self):
        (self.folder / "cache").write_text("a file where the folder should be")
        error = self.refused(self.put("t.csv", "a,b\n1,x\n"), "cannot be kept in the cache folder")
        self.assertIn("XDG_CACHE_HOME", error.remedy)


if __name__ == "__main__":
    unittest.main()
