import csv
import datetime as dt
import shutil
import unittest
from decimal import Decimal
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import openpyxl
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st
from openpyxl.utils.escape import unescape

from keen_trellis.core.errors import Cancelled, OutputError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs import files, write
from keen_trellis.outputs.targets import settings_for
from tests.tables import joined, table

ALL = ArrowTable(
    pa.table(
        {
            "text": pa.array(["plain", '=HYPERLINK("x")', None], pa.large_string()),
            "integer": pa.array([1, 2**60, None], pa.int64()),
            "decimal": pa.array(
                [Decimal("1.10"), Decimal("12345678901234567.89"), None], pa.decimal128(20, 2)
            ),
            "real": pa.array([1.5, float("nan"), None]),
            "boolean": pa.array([True, False, None]),
            "date": pa.array([dt.date(2026, 1, 2), dt.date(1850, 1, 1), None]),
            "time": pa.array([dt.time(8, 30), dt.time(0), None], pa.time64("us")),
            "timestamp": pa.array([dt.datetime(2026, 1, 2, 3, 4, 5), None, None], pa.timestamp("us")),
        }
    )
)


def stopping_after(rows: int) -> Task:
    """A task that is cancelled once more than `rows` rows are done."""
    task = Task(lambda done, total, what: task.cancel() if done > rows else None)
    return task


class OutputCase(unittest.TestCase):
    def setUp(self):
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def left_behind(self) -> list[str]:
        return sorted(path.name for path in self.folder.iterdir())


_NUMBERS = st.one_of(
    st.floats(allow_nan=True),
    st.sampled_from([0.1 + 0.2, 1e22, 5e-324, 1.7976931348623157e308, 123456789.123456789, -0.0]),
)
_DECIMALS = st.decimals(allow_nan=False, allow_infinity=False, places=4).filter(
    lambda value: abs(value) < Decimal(10) ** 33
)
_MOMENTS = st.datetimes(dt.datetime(1899, 1, 1)) | st.sampled_from(
    [dt.datetime.max, dt.datetime(9999, 12, 31, 23, 59, 59, 999_000), dt.datetime(2026, 1, 1, 0, 0, 0, 1)]
)


class Exact(OutputCase):
    """What is read back from a workbook is what was written, or text that says so and was counted."""

    def setUp(self):
        super().setUp()
        # Hundreds of files that nobody keeps: the disk need not have them.
        self.enterContext(mock.patch.object(files, "sync"))

    def written(self, kind, values):
        path = self.folder / "exact.xlsx"
        data = ArrowTable(pa.table({"v": pa.array(values, kind)}))
        found = write(data, OutputSettings("xlsx", str(path)), replace=True)
        sheet = openpyxl.load_workbook(path)["Data"]
        return [sheet.cell(row, 1).value for row in range(2, len(values) + 2)], found.changed

    def check(self, kind, values, same=lambda one, other: one == other):
        cells, changed = self.written(kind, values)
        as_texts = 0
        for value, cell in zip(values, cells, strict=True):
            if isinstance(cell, str) and not isinstance(value, str):
                self.assertEqual(cell, _said(value))
                as_texts += 1
            else:
                self.assertTrue(same(value, cell), (value, cell))
        self.assertEqual(as_texts, sum(int(line.split()[0].replace(",", "")) for line in changed))

    @given(st.lists(_NUMBERS, max_size=5))
    def test_reals(self, values):
        self.check(pa.float64(), values)

    @given(
        st.lists(st.integers(-(2**63), 2**63 - 1) | st.sampled_from([10**15, 10**15 + 1, 10**18]), max_size=5)
    )
    def test_integers(self, values):
        self.check(pa.int64(), values)

    @given(st.lists(_DECIMALS, max_size=5))
    def test_decimals(self, values):
        self.check(pa.decimal128(38, 4), values, lambda one, other: one == Decimal(repr(other)))

    @given(st.lists(_MOMENTS, max_size=5))
    def test_timestamps(self, values):
        self.check(pa.timestamp("us"), values)

    @given(st.lists(st.times() | st.sampled_from([dt.time.max, dt.time(23, 59, 59, 999_000)]), max_size=5))
    def test_times(self, values):
        self.check(pa.time64("us"), values)

    @given(
        st.lists(
            st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\ufffe\uffff"), min_size=1),
            max_size=5,
        )
    )
    def test_texts(self, values):
        self.check(pa.large_string(), values, lambda one, other: one == unescape(other))

    def test_what_no_cell_holds_is_refused(self):
        pots = "\U0001f3fa"
        for name, value, said in (
            ("v", "x" * 32_768, "Row 1 of v has 32,768 characters"),
            ("v", pots * 16_384, "Row 1 of v has 32,768 characters"),
            ("v", "a\ufffeb", "a character that no workbook can hold"),
            ("x" * 32_768, "a", "The name of the field"),
            ("a\uffff", "a", "The name of the field"),
        ):
            data = ArrowTable(pa.table({name: pa.array([value], pa.large_string())}))
            with self.assertRaisesRegex(OutputError, said):
                write(data, OutputSettings("xlsx", str(self.folder / "out.xlsx")))
        for sheet in ("a\x07b", "a\tb", pots * 16, "History", "a\ufffe", "'a", "a/b", ""):
            with self.assertRaisesRegex(OutputError, "cannot be the name of a sheet"):
                write(table(a=["x"]), OutputSettings("xlsx", str(self.folder / "out.xlsx"), sheet))
        self.assertEqual(self.left_behind(), [])

    def test_texts_that_are_marked_as_harmless_are_counted(self):
        found = write(table(a=["=1+1", "-5", "@x", "plain"]), settings_for(self.folder / "out.csv"))
        self.assertEqual([line.split(" written")[0] for line in found.changed], ["2 cells of a"])
        plain = settings_for(self.folder / "plain.csv", harmless=False)
        self.assertEqual(write(table(a=["=1+1"]), plain).changed, ())


def _said(value):
    """A value as text in a cell."""
    return f"{value:f}" if isinstance(value, Decimal) else str(value)


class Workbook(OutputCase):
    def cells(self, found, **settings):
        path = self.folder / "out.xlsx"
        write(found, OutputSettings("xlsx", str(path), **settings))
        return openpyxl.load_workbook(path)

    def test_cells_have_their_types(self):
        sheet = self.cells(ALL, sheet="Loans")["Loans"]
        rows = [[cell.value for cell in row] for row in sheet.iter_rows()]
        self.assertEqual(rows[0], list(ALL.names))
        moments = [dt.datetime(2026, 1, 2), dt.time(8, 30), dt.datetime(2026, 1, 2, 3, 4, 5)]
        self.assertEqual(rows[1], ["plain", 1, 1.1, 1.5, True, *moments])
        self.assertEqual(
            rows[2][:7],
            ['=HYPERLINK("x")', str(2**60), "12345678901234567.89", "nan", False, "1850-01-01", dt.time(0)],
        )
        self.assertEqual(sheet["A3"].data_type, "s")
        self.assertEqual([cell.value for cell in sheet[4]] if sheet.max_row > 3 else [None] * 8, [None] * 8)

    def test_the_header_stays_in_view_and_columns_have_sensible_widths(self):
        sheet = self.cells(table(no=["x"], remark=["a rather long remark about one loan"]))["Data"]
        self.assertEqual(sheet.freeze_panes, "A2")
        self.assertTrue(sheet["A1"].font.bold)
        self.assertGreater(sheet.column_dimensions["B"].width, sheet.column_dimensions["A"].width)

    def test_too_many_rows_are_refused_with_advice(self):
        many = ArrowTable(pa.table({"n": pa.array(range(1_048_576), pa.int64())}))
        with self.assertRaisesRegex(OutputError, "1,048,575 rows.*1,048,576.*csv"):
            write(many, OutputSettings("xlsx", str(self.folder / "large.xlsx")))
        self.assertEqual(self.left_behind(), [])

    def test_a_name_that_no_sheet_can_have(self):
        for name in ("", "a/b", "x" * 32, "'a"):
            with self.assertRaisesRegex(OutputError, "name of a sheet"):
                self.cells(ALL, sheet=name)

    def test_text_too_long_for_a_cell_is_refused_with_its_place(self):
        with self.assertRaisesRegex(OutputError, "Row 2 of t has 40,000 characters"):
            self.cells(table(t=["x", "y" * 40_000]))
        self.assertEqual(self.left_behind(), [])


class Delimited(OutputCase):
    def text(self, found, **settings) -> str:
        path = self.folder / "out.csv"
        write(found, OutputSettings("text", str(path), **settings), replace=True)
        return path.read_bytes().decode("utf-8")

    def test_as_rfc_4180_has_it(self):
        text = self.text(table(a=["x,y", 'say "hi"', "two\nlines"], b=["é", None, ""]))
        self.assertEqual(text, 'a,b\r\n"x,y",é\r\n"say ""hi""",\r\n"two\nlines",\r\n')

    def test_every_type(self):
        rows = list(csv.reader(self.text(ALL).splitlines()))
        self.assertEqual(
            rows[1], ["plain", "1", "1.10", "1.5", "true", "2026-01-02", "08:30:00", "2026-01-02 03:04:05"]
        )
        self.assertEqual(rows[2][1:6], [str(2**60), "12345678901234567.89", "nan", "false", "1850-01-01"])
        self.assertEqual(rows[3], [""] * 8)

    def test_what_a_spreadsheet_would_run_is_made_harmless(self):
        cells = ["=1+1", "+cmd", "-2+3", "@x", "\tx", "-5", "+7.5", "plain", "a=b"]
        text = self.text(table(**{"=head": cells, "n": [-1] * 9}))
        written = [row[0] for row in csv.reader(text.split("\r\n")) if row]
        self.assertEqual(
            written, ["'=head", "'=1+1", "'+cmd", "'-2+3", "'@x", "'\tx", "-5", "+7.5", "plain", "a=b"]
        )
        self.assertIn(",-1\r\n", text)

    def test_which_can_be_switched_off(self):
        self.assertEqual(self.text(table(a=["=1+1"]), harmless=False), "a\r\n=1+1\r\n")

    def test_another_delimiter(self):
        self.assertEqual(self.text(table(a=["x;y"], b=[1]), delimiter=";"), 'a;b\r\n"x;y";1\r\n')

    def test_no_partner_is_an_empty_cell(self):
        left, right, links = table(k=["a", "b"]), table(q=["a"], v=[7]), [LinkField("k", "q")]
        found = joined(left, right, match(left, right, links), links, JoinType.LEFT_OUTER)
        self.assertEqual(self.text(found), "k,q,v\r\na,a,7\r\nb,,\r\n")


class Targets(OutputCase):
    def test_an_existing_file_is_replaced_only_on_request(self):
        path = self.folder / "out.csv"
        path.write_text("mine")
        with self.assertRaisesRegex(OutputError, "exists already"):
            write(ALL, settings_for(path))
        self.assertEqual(path.read_text(), "mine")
        write(ALL, settings_for(path), replace=True)
        self.assertTrue(path.read_text().startswith("text,integer"))

    def test_a_source_is_never_written_to(self):
        path = self.folder / "loans.csv"
        path.write_text("a\n1\n")
        link = self.folder / "alias.csv"
        link.symlink_to(path)
        hard = self.folder / "hard.csv"
        hard.hardlink_to(path)
        for target in (path, link, hard, self.folder / "x" / ".." / "loans.csv"):
            with self.assertRaisesRegex(OutputError, "source of this flow"):
                write(ALL, settings_for(target), kept=[str(path)], replace=True)
        self.assertEqual(path.read_text(), "a\n1\n")

    def test_a_missing_folder_and_a_folder_as_target(self):
        with self.assertRaisesRegex(OutputError, "folder does not exist"):
            write(ALL, settings_for(self.folder / "none" / "out.csv"))
        (self.folder / "d.csv").mkdir()
        with self.assertRaisesRegex(OutputError, "It is a folder"):
            write(ALL, settings_for(self.folder / "d.csv"))

    def test_an_ending_that_says_nothing(self):
        with self.assertRaisesRegex(UsageError, "does not say what to write"):
            settings_for(self.folder / "out.pdf")

    def test_a_disk_that_is_too_small_says_so_before(self):
        many = ArrowTable(pa.table({"t": pa.array(["x" * 1000] * 3_000, pa.large_string())}))
        usage = shutil.disk_usage(self.folder)._replace(free=10_000)
        with (
            mock.patch.object(files.shutil, "disk_usage", return_value=usage),
            mock.patch.object(files, "whole_file", side_effect=AssertionError("it was begun")),
            self.assertRaisesRegex(OutputError, "It needs at least 0 MB, and 0 MB are free there"),
        ):
            write(many, settings_for(self.folder / "out.parquet"))
        write(many, settings_for(self.folder / "out.parquet"))

    def test_cancelled_or_failed_nothing_is_left_half_written(self):
        many = ArrowTable(pa.table({"n": pa.array(range(300_000), pa.int64())}))
        for name in ("out.csv", "out.xlsx"):
            task = stopping_after(100_000)
            with self.assertRaises(Cancelled):
                write(many, settings_for(self.folder / name), task=task)
        with (
            mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")),
            self.assertRaisesRegex(OutputError, "No space"),
        ):
            write(ALL, settings_for(self.folder / "out.csv"))
        self.assertEqual(self.left_behind(), [])


if __name__ == "__main__":
    unittest.main()
