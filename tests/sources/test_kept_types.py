"""A field keeps the type that it had when the flow last ran; values that are not of it are told with their
rows.
"""

import datetime as dt
import sqlite3
from decimal import Decimal

import pyarrow as pa
import xlsxwriter
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import parquet

from keen_trellis.core.conversion import Notation, converted
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.last_run import LastRun, SourceCounts, types_kept, with_last_run
from keen_trellis.flow.remark import Place
from keen_trellis.flow.source_settings import FieldSettings
from keen_trellis.sources.kept_types import kept_type
from keen_trellis.sources.text_types import RowNumbers
from tests.sources.source_case import SourceCase
from tests.tables import rows_of

INTEGER, TEXT, DATE = ("integer", "text", "date")


class Kept(SourceCase):
    def column(self, cells: str, had: str, **changes):
        """A column of a text file whose field `v` had a type: its type, values, and what is said of it."""
        text = "k,v\n" + "".join(f"x,{cell}\n" for cell in cells.split("|"))
        path = self.put(f"{len(list(self.folder.iterdir()))}.csv", text)
        found = self.read(path, kept=(("v", had),), **changes)
        values = [row[1] for row in rows_of(found.table)]
        said = [entry for entry in found.remarks if entry.field == "v"]
        return found.table.field("v").type.value, values, said

    def test_a_header_without_rows_has_the_types_that_it_had(self):
        path = self.put("month.csv", "k,v,d\n")
        found = self.read(path, kept=(("k", TEXT), ("v", INTEGER), ("d", DATE)))
        self.assertEqual([field.type.value for field in found.table.fields], [TEXT, INTEGER, DATE])
        self.assertFalse(any(field.untyped for field in found.table.fields))
        self.assertIn("v: has no values; it stays integer, as when the flow last ran", self.said(found))
        self.assertNotIn("no type yet", self.said(found))

    def test_a_column_that_is_blank_this_time_has_its_type(self):
        self.assertEqual(self.column('""|', "decimal")[:2], ("decimal", [None, None]))

    def test_a_value_that_does_not_fit_is_told_with_its_row_and_is_blank(self):
        kind, values, said = self.column("12|A7|9|n/a", INTEGER)
        self.assertEqual((kind, values), (INTEGER, [12, None, 9, None]))
        (remark,) = said
        self.assertEqual(remark.places, (Place(3, "A7"),))
        self.assertEqual(
            remark.text,
            "1 value is no integer, as “A7” (row 3); the field was integer when the flow last ran",
        )
        self.assertEqual(remark.misfit_of, INTEGER)

    def test_where_most_do_not_fit_the_field_has_become_another_one(self):
        kind, values, (remark,) = self.column("A7|B8|9", INTEGER)
        self.assertEqual((kind, values), (TEXT, ["A7", "B8", "9"]))
        self.assertIn("was integer when the flow last ran; 2 of its 3 values are none now", remark.text)
        self.assertFalse(remark.misfit_of)

    def test_codes_that_are_all_digits_this_time_stay_as_they_are_written(self):
        kind, values, _ = self.column("007|8|+9", TEXT)
        self.assertEqual((kind, values), (TEXT, ["007", "8", "+9"]))
        kind, values, (remark,) = self.column("7|8|12", TEXT)
        self.assertEqual((kind, values), (TEXT, ["7", "8", "12"]))
        self.assertIn("all of its values are integer now; kept as text", remark.text)

    def test_numbers_that_are_written_with_zeros_stay_as_they_are_written(self):
        self.assertEqual(self.column("1.10|2.50", TEXT)[:2], (TEXT, ["1.10", "2.50"]))

    def test_a_wider_number_is_no_misfit(self):
        kind, values, said = self.column("12|12.5", INTEGER)
        self.assertEqual((kind, values, said), ("decimal", [Decimal(12), Decimal("12.5")], []))
        self.assertEqual(self.column("12|13", "decimal")[:2], ("decimal", [Decimal(12), Decimal(13)]))
        self.assertEqual(self.column("12|13", "real")[:2], ("real", [12.0, 13.0]))

    def test_a_number_that_its_old_type_cannot_hold_keeps_its_value(self):
        many = "9007199254740993"
        self.assertEqual(self.column(many, "real")[:2], (INTEGER, [int(many)]))
        wide = "18446744073709551615"
        self.assertEqual(self.column(wide, INTEGER)[:2], ("decimal", [Decimal(wide)]))

    def test_what_day_is_meant_is_not_guessed(self):
        kind, values, (remark,) = self.column("2026-02-01|03/02/2026|2026-02-04", DATE)
        self.assertEqual((kind, values), (DATE, [dt.date(2026, 2, 1), None, dt.date(2026, 2, 4)]))
        self.assertEqual(remark.places, (Place(3, "03/02/2026"),))
        # Where one of them can only be read in one way, the others are read so too.
        kind, values, (remark,) = self.column("13/02/2026|03/02/2026|soon", DATE)
        self.assertEqual((kind, values), (DATE, [dt.date(2026, 2, 13), dt.date(2026, 2, 3), None]))
        self.assertEqual(remark.places, (Place(4, "soon"),))

    def test_what_a_comma_means_is_not_guessed(self):
        kind, values, _ = self.column('"1,5"|"2,25"|x', "decimal")
        self.assertEqual((kind, values), ("decimal", [Decimal("1.50"), Decimal("2.25"), None]))
        self.assertEqual(self.column('"1,500"|"2,250"|x|7', "decimal")[0], TEXT)

    def test_a_field_that_is_set_by_hand_is_not_kept(self):
        fields = (FieldSettings("v", TEXT),)
        self.assertEqual(self.column("1|2", INTEGER, fields=fields)[:2], (TEXT, ["1", "2"]))

    def test_a_value_is_corrected_before_it_is_read(self):
        fields = (FieldSettings("v", correct=(("A7", "7"), ("-", ""))),)
        kind, values, said = self.column("12|A7|-|9", INTEGER, fields=fields)
        self.assertEqual((kind, values), (INTEGER, [12, 7, None, 9]))
        self.assertEqual([entry.doubtful for entry in said], [False])
        # One that stands for another of the same type is as well.
        fields = (FieldSettings("v", correct=(("12", "13"),)),)
        self.assertEqual(self.column("12|9", INTEGER, fields=fields)[:2], (INTEGER, [13, 9]))

    def test_a_name_that_is_given_in_the_flow_has_the_type(self):
        fields = (FieldSettings("v", rename="visitors"),)
        path = self.put("month.csv", "k,v\nx,12\nx,A7\nx,8\n")
        found = self.read(path, fields=fields, kept=(("visitors", INTEGER),))
        self.assertEqual(found.table.field("visitors").type, FieldType.INTEGER)
        self.assertEqual([entry.field for entry in found.remarks if entry.misfit_of], ["visitors"])
        path = self.put("other.csv", "k,v\nx,012\nx,8\n")
        found = self.read(path, fields=fields, kept=(("visitors", TEXT),))
        self.assertEqual([row[1] for row in rows_of(found.table)], ["012", "8"])

    def test_a_sheet_keeps_its_types(self):
        path = self.folder / "month.xlsx"
        with xlsxwriter.Workbook(path) as book:
            sheet = book.add_worksheet("Month")
            for row, cells in enumerate([("k", "v", "n"), (7, 1, 1), (8, "A7", 2), (9, 3, 3), (10, 4, 4)]):
                sheet.write_row(row, 0, cells)
        found = self.read(path, kept=(("k", TEXT), ("v", INTEGER), ("n", "real")))
        self.assertEqual([field.type.value for field in found.table.fields], [TEXT, INTEGER, "real"])
        self.assertEqual(rows_of(found.table)[1], ("8", None, 2.0))
        self.assertEqual([entry.places for entry in found.remarks if entry.misfit_of], [(Place(3, "A7"),)])

    def test_sources_with_types_of_their_own_keep_them_too(self):
        path = self.folder / "month.parquet"
        parquet.write_table(pa.table({"k": [7, 8], "v": ["1", "2"], "n": pa.nulls(2)}), path)
        kept = (("k", TEXT), ("v", INTEGER), ("n", DATE))
        found = self.read(path, kept=kept)
        self.assertEqual(rows_of(found.table), [("7", 1, None), ("8", 2, None)])
        self.assertEqual(found.table.field("n").type, FieldType.DATE)
        with sqlite3.connect(self.folder / "month.db") as base:
            base.execute("CREATE TABLE month (k INTEGER, v TEXT, n DATE)")
            base.execute("INSERT INTO month VALUES (7, '1', NULL), (8, 'A7', NULL), (9, '3', NULL)")
        base.close()
        found = self.read(self.folder / "month.db", kept=kept)
        self.assertEqual(rows_of(found.table), [("7", 1, None), ("8", None, None), ("9", 3, None)])

    def test_a_type_that_this_version_does_not_know_is_passed_over(self):
        self.assertEqual(self.column("1|2", "interval")[:2], (INTEGER, [1, 2]))

    def test_what_did_not_change_is_the_same_and_is_read_once(self):
        path = self.put("month.csv", "k,v\nx,1\n")
        settings = self.settings(path)
        plain = self.library.get(settings, Task())
        kept = self.settings(path, kept=(("k", TEXT), ("v", INTEGER)))
        self.put("month.csv", "k,v\nx,1\nx,2\n")
        # Its rows are those that were read for the flow as it was: a database is not asked for them again.
        self.assertEqual(self.library.get(kept, Task()).identity, plain.identity)

    def test_a_refresh_forgets_what_was_read_for_other_types(self):
        path = self.put("month.csv", "k,v\nx,1\n")
        self.read(path)
        path = self.put("month.csv", "k,v\nx,22\n")
        self.library.refresh(self.settings(path, kept=(("v", INTEGER),)), Task())
        self.assertEqual(rows_of(self.read(path, kept=(("v", "real"),)).table), [("x", 22.0)])

    def test_codes_are_read_anew_when_their_file_has_changed(self):
        path = self.put("month.csv", "k,v\nx,007\nx,8\n")
        kept = (("v", TEXT),)
        self.assertEqual([row[1] for row in rows_of(self.read(path, kept=kept).table)], ["007", "8"])
        self.library.take_anew()
        same = self.read(path, kept=kept)
        self.library.take_anew()
        self.assertIs(self.read(path, kept=kept), same)
        self.put("month.csv", "k,v\nx,5\nx,6\n")
        self.library.take_anew()
        self.assertEqual([row[1] for row in rows_of(self.read(path, kept=kept).table)], ["5", "6"])


class Remembered(SourceCase):
    def test_fields_without_values_have_no_type_to_keep(self):
        found = self.read(self.put("month.csv", "k,v\nx,\n"))
        counts = SourceCounts.of(found.table)
        self.assertEqual(counts.fields, (("k", TEXT), ("v", "")))
        from keen_trellis.flow.graph import Flow

        flow = with_last_run(Flow(), LastRun("2026-01-01T00:00:00Z", {"month": counts}))
        self.assertEqual(types_kept(flow, "month"), (("k", TEXT),))
        self.assertEqual(types_kept(flow, "other"), ())


_WRITTEN = st.sampled_from(
    [
        "1",
        "07",
        "-3",
        "2.5",
        "1,5",
        "1,234",
        "A7",
        "",
        "n/a",
        "2026-02-03",
        "03/02/2026",
        "13/02/2026",
        "true",
    ]
)


class Properties(SourceCase):
    @given(st.lists(_WRITTEN, max_size=8), st.sampled_from(sorted(FieldType, key=lambda kind: kind.value)))
    def test_every_value_is_kept_or_told(self, cells, had):
        column = pa.array([cell or None for cell in cells], ARROW_TYPES[FieldType.TEXT])
        found = kept_type(column, "v", had, Notation(), RowNumbers(1))
        blank = {place.row for place in found.remark.places} if found.remark else set()
        for row, (cell, value) in enumerate(zip(cells, found.values.to_pylist(), strict=True), 1):
            if value is None:
                self.assertTrue(cell in ("", "n/a") or row in blank, (cells, had, found))
            elif found.values.type != column.type:
                # What a value became is what it can only mean, alone or as the others show.
                meant = [
                    converted(pa.array([cell], column.type), had, Notation(mark, first)).values[0].as_py()
                    for mark in ".,"
                    for first in ("day", "month")
                ]
                self.assertIn(value, meant)
